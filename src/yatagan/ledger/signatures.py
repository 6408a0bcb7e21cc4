"""SSH signatures (SSHSIG), as the OpenSSH key tool makes and checks them; its file PROTOCOL.sshsig describes the form.

The library for SSH has this in its newest releases only, checks validity as of now and gives no reason; a ledger is
checked years later, as of the time of each record, and has to say what is wrong with a signature.
"""

from __future__ import annotations

import base64
import hashlib
from enum import StrEnum
from typing import NamedTuple

import asyncssh

#: What signatures of records are made for: one made for anything else is refused.
NAMESPACE = "yatagan-ledger"
_MAGIC = b"SSHSIG"
_HASHES = {b"sha256": hashlib.sha256, b"sha512": hashlib.sha512}
#: SHA-1 and DSA are refused.
_WEAK = frozenset({b"ssh-rsa", b"ssh-dss"})


class SignatureFault(StrEnum):
    """Why a signature does not hold."""

    NOT_UNDERSTOOD = "not understood"
    DAMAGED = "does not fit the record"
    OTHER_NAMESPACE = "made for another namespace"
    UNKNOWN_KEY = "by a key that is not trusted"
    REVOKED = "by a revoked key"
    TOO_EARLY = "before the key is valid"
    TOO_LATE = "after the key was valid"
    KEY_NOT_FOR_LEDGERS = "by a key that is trusted for other namespaces only"


class BadSignature(Exception):
    """A signature does not hold."""

    def __init__(self, why: SignatureFault) -> None:
        super().__init__(why.value)
        self.why = why


class Signature(NamedTuple):
    """What a signature says of itself: the public key (SSH wire form), and what it was made for."""

    key: bytes
    namespace: str
    hash: bytes
    value: bytes


def message_to_sign(message: bytes, namespace: str = NAMESPACE, hash: bytes = b"sha512") -> bytes:
    """What a key signs for a message."""
    return _MAGIC + _text(namespace.encode()) + _text(b"") + _text(hash) + _text(_HASHES[hash](message).digest())


def encode(signature: Signature) -> bytes:
    """The signature as bytes; the key tool reads them in base64 between two lines (`armoured`)."""
    return (
        _MAGIC
        + (1).to_bytes(4, "big")
        + _text(signature.key)
        + _text(signature.namespace.encode())
        + _text(b"")
        + _text(signature.hash)
        + _text(signature.value)
    )


def decode(data: bytes) -> Signature:
    """The reverse of `encode`. Raises BadSignature."""
    if data[:10] != _MAGIC + (1).to_bytes(4, "big"):
        raise BadSignature(SignatureFault.NOT_UNDERSTOOD)
    fields, rest = [], data[10:]
    while rest:
        length = int.from_bytes(rest[:4], "big")
        if len(rest) < 4 + length:
            raise BadSignature(SignatureFault.NOT_UNDERSTOOD)
        fields.append(rest[4 : 4 + length])
        rest = rest[4 + length :]
    if len(fields) != 5 or fields[3] not in _HASHES:
        raise BadSignature(SignatureFault.NOT_UNDERSTOOD)
    key, namespace, _, hash, value = fields
    try:
        return Signature(key, namespace.decode(), hash, value)
    except UnicodeDecodeError:
        raise BadSignature(SignatureFault.NOT_UNDERSTOOD) from None


def armoured(data: bytes) -> str:
    """A signature as the key tool keeps it in a file."""
    text = base64.b64encode(data).decode("ascii")
    lines = [text[at : at + 70] for at in range(0, len(text), 70)]
    return "\n".join(("-----BEGIN SSH SIGNATURE-----", *lines, "-----END SSH SIGNATURE-----", ""))


class Keys:
    """Public keys by their wire form, each read once."""

    def __init__(self) -> None:
        self._known: dict[bytes, asyncssh.SSHKey | None] = {}

    def check(self, signature: Signature, message: bytes) -> None:
        """Check that the signature's key has signed a message, for ledgers. Raises BadSignature."""
        if signature.namespace != NAMESPACE:
            raise BadSignature(SignatureFault.OTHER_NAMESPACE)
        if signature.key not in self._known:
            self._known[signature.key] = _public_key(signature.key)
        key = self._known[signature.key]
        if key is None or algorithm_of(signature.value) in _WEAK:
            raise BadSignature(SignatureFault.NOT_UNDERSTOOD)
        if not key.verify(message_to_sign(message, signature.namespace, signature.hash), signature.value):
            raise BadSignature(SignatureFault.DAMAGED)


def algorithm_of(data: bytes) -> bytes:
    """The name of the algorithm that a key or signature in SSH wire form begins with."""
    return data[4 : 4 + int.from_bytes(data[:4], "big")]


def fingerprint(key: bytes) -> str:
    """`SHA256:…` of a public key in wire form."""
    return "SHA256:" + base64.b64encode(hashlib.sha256(key).digest()).decode("ascii").rstrip("=")


def _public_key(data: bytes) -> asyncssh.SSHKey | None:
    algorithm = algorithm_of(data)
    if algorithm in _WEAK - {b"ssh-rsa"}:
        return None
    try:
        return asyncssh.import_public_key(algorithm + b" " + base64.b64encode(data))
    except (asyncssh.KeyImportError, ValueError):
        return None


def _text(data: bytes) -> bytes:
    """A string of SSH's wire form."""
    return len(data).to_bytes(4, "big") + data
