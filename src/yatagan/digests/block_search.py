"""Finding blocks of one file in another, at whatever offset they are there.

Of the far file only checksums are known, two for each block, one of which can be rolled on from one offset to the next.
The near file is searched for them: where the last block was found the next one is looked for right behind it; what
follows a change is found by rolling over every offset, in compiled code.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from yatagan.portable.block_sums import Blocks, Match, run_digest

Number = TypeVar("Number", np.uint32, np.uint64)

#: The modulus of Adler-32 (RFC 1950).
_MODULUS = 65521
#: The most offsets that are rolled over at once.
_CHUNK = 1 << 20
#: Bytes that may be rolled over for nothing, besides as many as were found: after that blocks are only looked for where
#: they would be if nothing before them had moved.
_PATIENCE = 64 << 20
#: Offsets at which only the rolling checksum may be right before all that are being rolled over are given up.
_FAILURES = 100


def find_matches(
    read: Callable[[int, int], bytes],
    size: int,
    far: Blocks,
    *,
    old_is_far: bool,
    digests: bool,
    pulse: Callable[[], None],
) -> list[Match]:
    """Find what a local file of `size` bytes and a remote one have in common, in the order of the new file.

    `digests`: give every match a digest of its own. `pulse` is called now and then, and may raise.
    """
    found = _find(read, size, far, pulse)
    if old_is_far:
        pairs = [(number * far.block, offset, number) for offset, number in found]
    else:
        places: dict[bytes, int] = {}
        for offset, number in found:
            places.setdefault(_pair(far, number), offset)
        pairs = [
            (offset, number * far.block, number)
            for number in range(far.many)
            if (offset := places.get(_pair(far, number), -1)) >= 0
        ]
    runs = list(_joined(pairs, far))
    if digests:
        runs = [run._replace(digest=run_digest(_pieces(read, run, old_is_far, pulse))) for run in runs]
    return runs


def _pair(far: Blocks, number: int) -> bytes:
    """A block as a key: both checksums and its length, since the last one may be shorter."""
    at = 4 * number
    return far.rolling[at : at + 4] + far.other[at : at + 4] + far.length(number).to_bytes(4, "little")


def _joined(pairs: list[tuple[int, int, int]], far: Blocks) -> Iterator[Match]:
    """Blocks, each (offset in the old file, offset in the new one, number), merged into matches."""
    at = 0
    while at < len(pairs):
        old, new, _ = pairs[at]
        size = 0
        while at < len(pairs) and pairs[at][:2] == (old + size, new + size):
            size += far.length(pairs[at][2])
            at += 1
        yield Match(old, new, size, "")


def _pieces(
    read: Callable[[int, int], bytes], run: Match, old_is_far: bool, pulse: Callable[[], None]
) -> Iterator[bytes]:
    """A match, read from the local file."""
    at = run.new if old_is_far else run.old
    end = at + run.size
    while at < end:
        pulse()
        yield read(at, min(_CHUNK, end - at))
        at += _CHUNK


def _find(
    read: Callable[[int, int], bytes], size: int, far: Blocks, pulse: Callable[[], None]
) -> Iterator[tuple[int, int]]:
    """(offset, block) of remote blocks in the local file, ascending and without overlap."""
    search = _Search(far)
    near = _Window(read, size, far.block, pulse)
    at = expected = found = rolled = 0
    stride = far.block
    while at + far.block <= size:
        number = search.block_at(near.view(at, far.block), expected)
        if number is not None:
            yield at, number
            at, expected, found = at + far.block, number + 1, found + far.block
            stride = far.block
            continue
        if rolled >= _PATIENCE + found:
            at = (at // far.block + 1) * far.block
            expected = at // far.block
            continue
        offsets = min(stride, size - far.block - at)
        step, failed = search.roll(near.view(at + 1, offsets + far.block - 1)) if offsets else (None, 0)
        passed = offsets if step is None else step
        rolled += passed + failed * far.block
        at += passed + 1
        stride = min(2 * stride, max(_CHUNK, far.block))
    tail = far.length(far.many - 1) if far.many else 0
    if 0 < tail < far.block and at <= size - tail and search.is_tail(near.view(size - tail, tail)):
        yield size - tail, far.many - 1


class _Window:
    """The part of the local file that is in memory."""

    def __init__(self, read: Callable[[int, int], bytes], size: int, block: int, pulse: Callable[[], None]) -> None:
        self._read = read
        self._pulse = pulse
        self._size = size
        self._piece = max(4 * _CHUNK, 4 * block)
        self._start = 0
        self._held = memoryview(b"")

    def view(self, offset: int, count: int) -> memoryview:
        """Bytes of the file; fewer if it has become shorter."""
        if offset < self._start or offset + count > self._start + len(self._held):
            self._pulse()
            self._start = offset
            self._held = memoryview(self._read(offset, min(max(self._piece, count), self._size - offset)))
        return self._held[offset - self._start : offset - self._start + count]


class _Search:
    """The remote file's whole blocks, by checksum."""

    def __init__(self, far: Blocks) -> None:
        self._far = far
        self._numbers: dict[int, list[int]] = {}
        self._other = struct.unpack(f"<{far.many}I", far.other)
        self._rolling = struct.unpack(f"<{far.many}I", far.rolling)
        self._whole = far.size // far.block
        for number in range(self._whole):
            self._numbers.setdefault(self._rolling[number], []).append(number)
        self._roller: _Roller | None = None

    def block_at(self, view: memoryview, expected: int) -> int | None:
        """The block with these bytes; the expected one if several are equal."""
        rolling = zlib.adler32(view)
        if (numbers := self._numbers.get(rolling)) is None:
            return None
        other = zlib.crc32(view)
        if 0 <= expected < self._whole and (self._rolling[expected], self._other[expected]) == (rolling, other):
            return expected
        return next((number for number in numbers if self._other[number] == other), None)

    def is_tail(self, view: memoryview) -> bool:
        """Whether these bytes are the last, shorter block."""
        return (zlib.adler32(view), zlib.crc32(view)) == (self._rolling[-1], self._other[-1])

    def roll(self, view: memoryview) -> tuple[int | None, int]:
        """The first offset of a block, and how often only the rolling checksum matched."""
        if self._roller is None:
            self._roller = _Roller(list(self._numbers), self._far.block)
        failed = 0
        for offset in self._roller.offsets(view):
            if self.block_at(view[offset : offset + self._far.block], -1) is not None:
                return offset, failed
            failed += 1
            if failed == _FAILURES:
                break
        return None, failed


class _Roller:
    """Adler-32 at every offset, in NumPy.

    With s the running sum of the bytes and t the running sum of s, the checksum of the n bytes at i has the halves
    1 + s[i+n] - s[i] and n + t[i+n] - t[i] - n s[i], both modulo 65521.
    """

    def __init__(self, rolling: list[int], block: int) -> None:
        self._block = block
        self._wanted = np.array(sorted(rolling), dtype=np.uint32)
        self._low, self._high = (np.zeros(1 << 16, dtype=np.bool_) for _ in range(2))
        self._low[self._wanted & 0xFFFF] = True
        self._high[self._wanted >> 16] = True
        most = max(_CHUNK, block) + block
        self._sums = np.zeros(most, dtype=np.uint32)  # of at most 8 MiB: they cannot overflow
        self._second = np.zeros(most, dtype=np.uint64)

    def offsets(self, view: memoryview) -> list[int]:
        """The offsets at which these bytes have the checksum of a block."""
        size, data = self._block, np.frombuffer(view, dtype=np.uint8)
        if len(data) < size or not len(self._wanted):
            return []
        sums, second = self._sums[: len(data) + 1], self._second[: len(data) + 1]
        np.cumsum(data, dtype=np.uint32, out=sums[1:])
        low = _modulo(sums[size:] - sums[:-size] + np.uint32(1))
        found = np.flatnonzero(self._low.take(low))
        np.cumsum(sums, dtype=np.uint64, out=second)
        many = np.uint64(size)
        high = _modulo(second[found + size] - second[found] - many * sums[found] + many)
        likely = self._high.take(high.astype(np.uint32))
        found = found[likely]
        rolling = (high[likely].astype(np.uint32) << np.uint32(16)) | low[found]
        nearest = np.minimum(np.searchsorted(self._wanted, rolling), len(self._wanted) - 1)
        offsets: list[int] = found[self._wanted[nearest] == rolling].tolist()
        return offsets


def _modulo(values: NDArray[Number]) -> NDArray[Number]:
    """The remainder by a constant: a division is much cheaper here than a remainder."""
    modulus = values.dtype.type(_MODULUS)
    return values - values // modulus * modulus
