"""Signing records with the user's SSH key: from its file, or by the agent.

A batch may end unattended. So a key that needs a pass phrase or a touch is never used, and the agent
has five seconds; after that the record is written without a signature, and says why it has none.
"""

from __future__ import annotations

import asyncio
import threading
from pathlib import Path

import asyncssh

from yatagan.ledger.appending import CannotSign, Unsigned
from yatagan.ledger.signatures import NAMESPACE, Signature, algorithm_of, encode, message_to_sign
from yatagan.nodes.private_keys import NeedsPassPhrase, read_key

#: Seconds that the agent may take: one that has to ask a person takes longer.
_AGENT_SECONDS = 5.0
#: Flag of the agent protocol: sign by RSA with SHA-512.
_SHA2_512 = 4


class KeySigner:
    """Signs with one key. `file`: the private key, or the public half of a key that the agent holds."""

    def __init__(self, file: Path, agent: str, seconds: float = _AGENT_SECONDS) -> None:
        self._file = file
        self._agent = agent
        self._seconds = seconds
        self._key: asyncssh.SSHKey | None = None
        self._public = b""
        self._failed: CannotSign | None = None

    def sign(self, message: bytes) -> bytes:
        """The signature of a message. Raises CannotSign, and then for every further message at once."""
        if self._failed is not None:
            raise self._failed
        try:
            return self._sign(message_to_sign(message))
        except CannotSign as error:
            self._failed = error
            raise

    def _sign(self, message: bytes) -> bytes:
        if not self._public:
            self._key, self._public = _load(self._file)
        algorithm = algorithm_of(self._public)
        if algorithm.startswith(b"sk-"):
            raise CannotSign(Unsigned.NEEDS_TOUCH)
        if self._key is not None:
            value = self._key.sign(message, b"rsa-sha2-512" if algorithm == b"ssh-rsa" else algorithm)
        else:
            value = self._by_agent(message)
        return encode(Signature(self._public, NAMESPACE, b"sha512", value))

    def _by_agent(self, message: bytes) -> bytes:
        """Let the agent sign, in a thread: the caller may have an event loop of its own."""
        if not self._agent:
            raise CannotSign(Unsigned.NO_AGENT)
        found: list[bytes | CannotSign] = []

        def work() -> None:
            try:
                found.append(asyncio.run(asyncio.wait_for(_ask(self._agent, self._public, message), self._seconds)))
            except CannotSign as error:
                found.append(error)
            except (OSError, ValueError, asyncssh.Error, TimeoutError) as error:
                silent = isinstance(error, TimeoutError)
                found.append(CannotSign(Unsigned.AGENT_SILENT if silent else Unsigned.AGENT_REFUSED))

        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        thread.join(self._seconds + 1)
        answer = found[0] if found else CannotSign(Unsigned.AGENT_SILENT)
        if isinstance(answer, CannotSign):
            raise answer
        return answer


def _load(file: Path) -> tuple[asyncssh.SSHKey | None, bytes]:
    """The private key, if its file has it without a pass phrase; and the public key. Raises CannotSign."""
    try:
        key = read_key(file)
    except FileNotFoundError:
        raise CannotSign(Unsigned.KEY_MISSING) from None
    except OSError:
        raise CannotSign(Unsigned.KEY_UNREADABLE) from None
    except NeedsPassPhrase:
        return None, _public_of(file.with_name(file.name + ".pub"), Unsigned.PASS_PHRASE)
    except asyncssh.KeyImportError:
        return None, _public_of(file, Unsigned.KEY_UNREADABLE)
    return key, key.public_data


def _public_of(file: Path, otherwise: Unsigned) -> bytes:
    """The public key in a file. Raises CannotSign."""
    try:
        return asyncssh.read_public_key(file).public_data
    except (OSError, ValueError, asyncssh.KeyImportError):
        raise CannotSign(otherwise) from None


async def _ask(agent: str, public: bytes, message: bytes) -> bytes:
    async with await _connect(agent) as client:
        rsa = algorithm_of(public) == b"ssh-rsa"
        for pair in await client.get_keys():
            if pair.public_data == public:
                return await client.sign(public, message, _SHA2_512 if rsa else 0)
    raise CannotSign(Unsigned.NOT_IN_AGENT)


async def _connect(agent: str) -> asyncssh.SSHAgentClient:
    try:
        return await asyncssh.connect_agent(agent)
    except (OSError, ValueError):
        raise CannotSign(Unsigned.NO_AGENT) from None
