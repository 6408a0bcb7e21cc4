"""Checksums of a file's blocks, by which another machine finds which of them it has."""

import struct
import zlib
from hashlib import blake2b
from typing import Iterable, NamedTuple, Tuple

#: Blocks of a file, and bytes of a block, that are not exceeded as long as the other is not either.
_BLOCKS, _BLOCK = 1 << 15, 4 << 20


class Blocks(NamedTuple):
    """The checksums of a file of `size` bytes, cut into blocks of `block` bytes, of which the last may be shorter.

    `rolling`: Adler-32 (RFC 1950) of every block, little-endian; `other`: CRC-32 (RFC 1952), the same. Two blocks with
    the same pair are the same but by chance or malice: a caller must prove the whole.
    """

    size: int
    block: int
    rolling: bytes
    other: bytes

    @property
    def many(self) -> int:
        """The number of blocks."""
        return -(-self.size // self.block)

    @property
    def fit(self) -> bool:
        """Whether there are as many checksums as blocks."""
        return len(self.rolling) == len(self.other) == 4 * self.many

    def length(self, number: int) -> int:
        """The bytes of a block."""
        return min(self.block, self.size - number * self.block)


class Match(NamedTuple):
    """Bytes that the old file has at `old` and the new one at `new`; `digest`, if not "", is that of the new ones."""

    old: int
    new: int
    size: int
    digest: str


def block_size(size: int, least: int) -> int:
    """The block size for a file of this size: small blocks find more, and cost more to send."""
    block = least
    while size > block * _BLOCKS and block < _BLOCK:
        block *= 2
    return block


def checksums(blocks: Iterable[bytes]) -> Tuple[bytes, bytes]:
    """Both checksums of all blocks of a file."""
    rolling, other = [], []
    for block in blocks:
        rolling.append(zlib.adler32(block))
        other.append(zlib.crc32(block))
    form = "<%dI" % len(rolling)
    return struct.pack(form, *rolling), struct.pack(form, *other)


def run_digest(pieces: Iterable[bytes]) -> str:
    """BLAKE2b (RFC 7693) of consecutive pieces."""
    value = blake2b(digest_size=32)
    for piece in pieces:
        value.update(piece)
    return value.hexdigest()
