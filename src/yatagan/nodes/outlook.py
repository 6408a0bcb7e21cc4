"""How long a login can be repeated without a person, and what ends that.

It is tried, not guessed: first with nothing but what is on this machine's disk, then with what belongs to the user's
login session here (an agent, tickets).
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

import asyncssh

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import ConnectionSettings
from yatagan.errors import CannotReach
from yatagan.nodes.connecting import Way, connect
from yatagan.nodes.login_events import LoginEvents
from yatagan.nodes.prompts import NoPrompter

#: Names of certificates in the user's SSH directory.
_CERTIFICATES = "*-cert.pub"


class LoginBy(StrEnum):
    """What a login needs besides the node."""

    #: A key on this machine's disk; it asks no one.
    KEY = "key"
    #: The SSH agent or a ticket: what ends, at the latest, when the user logs out of this machine.
    SESSION = "session"
    #: A person must answer.
    PERSON = "person"


@dataclass(frozen=True, slots=True)
class LoginOutlook:
    """What logins to a node need. `expires`: when the first certificate does, in seconds since the epoch; else None."""

    node: str
    by: LoginBy
    expires: float | None = None


async def look_ahead(node: Node, home: Home, settings: ConnectionSettings) -> LoginOutlook:
    """Find out by logging in, without a question. Raises CannotReach where it cannot be found out.

    A login that needs a person is no error.
    """
    refused: CannotReach | None = None
    for by in (LoginBy.KEY, LoginBy.SESSION):
        try:
            client = LoginEvents(node, NoPrompter())
            connection = await connect(node, home, settings, client, Way(lasting=by is LoginBy.KEY))
        except CannotReach as error:
            if error.passing or error.step != "login":
                raise
            refused = error
            continue
        connection.close()
        await connection.wait_closed()
        return LoginOutlook(node.name, by, _first_expiry(node, home))
    assert refused is not None
    return LoginOutlook(node.name, LoginBy.PERSON)


def _first_expiry(node: Node, home: Home) -> float | None:
    """When the first certificate of the keys that may be used expires; None if none does."""
    files = [Path(f"{node.key}-cert.pub")] if node.key is not None else sorted(home.ssh.glob(_CERTIFICATES))
    found = []
    for file in files:
        try:
            until = getattr(asyncssh.read_certificate(file), "_valid_before", None)
        except (OSError, ValueError, asyncssh.KeyImportError):
            continue
        if isinstance(until, int) and time.time() < until < 1 << 40:  # 2**64 - 1 stands for no end
            found.append(float(until))
    return min(found, default=None)
