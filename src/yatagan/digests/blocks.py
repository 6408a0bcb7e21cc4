"""What a file's blocks are known by, so that somebody else can find out which of them he has already.

Runs here and, when the helper has learned it, on nodes: kept to the standard library, whose digests are compiled, and
to what Python 3.6 understands.
"""

import struct
import zlib
from hashlib import blake2b, sha256
from typing import Iterable, NamedTuple, Tuple, Union

#: Bytes of a block's strong digest.
STRONG = 16
#: Blocks of a file, and bytes of a block, that are not exceeded as long as the other is not either.
_BLOCKS, _BLOCK = 1 << 15, 4 << 20


class Blocks(NamedTuple):
    """The digests of a file of `size` bytes, cut into blocks of `block` bytes, of which the last may be shorter.

    `weak`: Adler-32 (RFC 1950) of every block, little-endian. `strong`: BLAKE2b (RFC 7693) of every block.
    """

    size: int
    block: int
    weak: bytes
    strong: bytes

    @property
    def many(self) -> int:
        """How many blocks there are."""
        return -(-self.size // self.block)

    @property
    def fit(self) -> bool:
        """Whether there are as many digests as blocks."""
        return (len(self.weak), len(self.strong)) == (4 * self.many, STRONG * self.many)

    def strong_of(self, number: int) -> bytes:
        """The strong digest of a block."""
        return self.strong[number * STRONG : (number + 1) * STRONG]

    def length(self, number: int) -> int:
        """The bytes of a block."""
        return min(self.block, self.size - number * self.block)


class Run(NamedTuple):
    """Bytes that the old file has at `old` and the new one at `new`; `digest` shows that they still are the same."""

    old: int
    new: int
    size: int
    digest: str


def block_size(size: int, least: int) -> int:
    """Bytes of a block for a file of this size: small ones find more, and cost more to tell."""
    block = least
    while size > block * _BLOCKS and block < _BLOCK:
        block *= 2
    return block


def block_digests(blocks: Iterable[bytes], whole: bool) -> Tuple[bytes, bytes, str]:
    """The weak and the strong digests of all blocks of a file, and the SHA-256 of the `whole`, if wanted, or ""."""
    weak, strong, value = [], [], sha256()
    for block in blocks:
        weak.append(zlib.adler32(block))
        strong.append(strong_digest(block))
        if whole:
            value.update(block)
    return struct.pack("<%dI" % len(weak), *weak), b"".join(strong), value.hexdigest() if whole else ""


def strong_digest(block: Union[bytes, memoryview]) -> bytes:
    """What a block is known by."""
    return blake2b(block, digest_size=STRONG).digest()


def run_digest(strong: bytes) -> str:
    """What blocks in a row are known by, of the strong digests of all of them."""
    return blake2b(strong, digest_size=STRONG).hexdigest()
