"""Digest algorithms: their names, the length of their digests, and how checksum lists call them."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass
from typing import Any, Protocol


class Hasher(Protocol):
    """What hashes."""

    def update(self, data: Any, /) -> Any:
        """Take more bytes."""

    def hexdigest(self) -> str:
        """The digest of all bytes so far, in lower-case hex."""


@dataclass(frozen=True, slots=True)
class Algorithm:
    """A digest algorithm: our name for it, hex digits of a digest, and other spellings of it in lists."""

    name: str
    hex_digits: int
    spellings: tuple[str, ...] = ()


#: The strongest first; of those with digests of one length the most usual.
ALGORITHMS = (
    Algorithm("sha512", 128, ("sha-512", "sha2-512")),
    Algorithm("blake2b", 128, ("blake2b-512", "b2")),
    Algorithm("sha384", 96, ("sha-384", "sha2-384")),
    Algorithm("sha256", 64, ("sha-256", "sha2-256")),
    Algorithm("blake3", 64, ("b3",)),
    Algorithm("blake2b-256", 64),
    Algorithm("blake2s", 64, ("blake2s-256",)),
    Algorithm("sha224", 56, ("sha-224", "sha2-224")),
    Algorithm("sha1", 40, ("sha-1",)),
    Algorithm("md5", 32),
)
_BY_NAME = {name: each for each in ALGORITHMS for name in (each.name, *each.spellings)}
_WORDS = re.compile(
    r"(?<![0-9a-z])(?:sha-?2?-?(?:512|384|256|224)|sha-?1|md5|blake2[bs](?:-256|-512)?|blake3|b2|b3)"
    r"(?=sums?(?![0-9a-z])|[^0-9a-z]|$)"
)


def by_name(spelled: str) -> Algorithm | None:
    """The algorithm that is called so, in any case; None for none that we know."""
    return _BY_NAME.get(spelled.lower())


def by_length(hex_digits: int) -> list[Algorithm]:
    """The algorithms whose digests have so many hex digits."""
    return [each for each in ALGORITHMS if each.hex_digits == hex_digits]


def in_file_name(name: str) -> Algorithm | None:
    """The algorithm that the name of a list speaks of, such as `SHA256SUMS` or `fen.b3`; None without any."""
    found = _WORDS.search(name.lower())
    return by_name(found[0]) if found is not None else None


def hasher(algorithm: str) -> Hasher:
    """A new hasher. Raises ValueError for an algorithm that this machine lacks."""
    if algorithm == "blake3":
        from blake3 import blake3

        made: Hasher = blake3()
        return made
    if algorithm == "blake2b-256":
        return hashlib.blake2b(digest_size=32)
    return hashlib.new(algorithm)
