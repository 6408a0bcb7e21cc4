"""Frames of zstd, each of the same number of bytes, and the seek table that says where they are."""

import struct
from typing import Iterable, Iterator, List, Tuple

SKIPPABLE = 0x184D2A5E
SEEKABLE = 0x8F92EAB1
#: The end of a seek table: how many frames, a descriptor, the magic number.
FOOTER = struct.Struct("<IBI")


def seek_table(sizes: List[Tuple[int, int]]) -> bytes:
    """The table of the zstd seekable format (0.1.0) for frames of (compressed, plain) bytes."""
    entries = b"".join([struct.pack("<II", *pair) for pair in sizes])
    footer = FOOTER.pack(len(sizes), 0, SEEKABLE)
    return struct.pack("<II", SKIPPABLE, len(entries) + len(footer)) + entries + footer


def even(blocks: Iterable[bytes], size: int) -> Iterator[bytes]:
    """The same bytes in blocks of one size, but for the last."""
    held: List[bytes] = []
    have = 0
    for block in blocks:
        held.append(block)
        have += len(block)
        if have < size:
            continue
        whole = memoryview(b"".join(held))
        for at in range(0, have - size + 1, size):
            yield bytes(whole[at : at + size])
        rest = bytes(whole[have - have % size :])
        held, have = [rest], len(rest)
    if have:
        yield b"".join(held)
