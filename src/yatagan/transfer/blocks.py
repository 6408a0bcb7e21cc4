"""Blocks of a file in memory, the queue in which they wait to be hashed or written, and what they take of it."""

from __future__ import annotations

import asyncio
from collections import deque
from dataclasses import dataclass

from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import STRIPE, Piece


@dataclass(slots=True)
class Block:
    """Bytes of one read. They stay in memory until they are hashed and their write is acknowledged."""

    offset: int
    data: Piece
    hashed: bool = False
    written: bool = False

    @property
    def end(self) -> int:
        """The offset behind its last byte."""
        return self.offset + len(self.data)


def joined(blocks: list[Block]) -> Piece:
    """The data of consecutive blocks, as one piece."""
    return blocks[0].data if len(blocks) == 1 else b"".join(block.data for block in blocks)


_ZEROS = bytes(STRIPE)


def is_zeros(data: Piece) -> bool:
    """Whether all bytes are zero. First and last byte are looked at first: they rule out nearly every other block."""
    return not (data[0] or data[-1]) and bytes(data) == (
        _ZEROS[: len(data)] if len(data) <= STRIPE else bytes(len(data))
    )


class BlockQueue:
    """Blocks in the order of the file. `size`: bytes in the queue."""

    def __init__(self) -> None:
        self._blocks: deque[Block] = deque()
        self._some = asyncio.Event()
        self.size = 0

    def put(self, block: Block) -> None:
        """Append a block."""
        self._blocks.append(block)
        self.size += len(block.data)
        self._some.set()

    async def wait(self) -> None:
        """Wait until the queue is not empty."""
        await self._some.wait()

    def take(self) -> Block:
        """The first block."""
        block = self._blocks.popleft()
        self.size -= len(block.data)
        if not self._blocks:
            self._some.clear()
        return block

    def take_up_to(self, most: int) -> list[Block]:
        """The first blocks, of about `most` bytes: not all, so that later reads can start before they are consumed."""
        blocks, size = [self.take()], self.size
        while self._blocks and size - self.size < most:
            blocks.append(self.take())
        return blocks


class HeldMemory:
    """What one transfer has taken of the memory of all of them."""

    def __init__(self, memory: InFlight) -> None:
        self._memory = memory
        self._held = 0

    async def take(self, count: int) -> None:
        """Wait until so many bytes may be held."""
        await self._memory.take(count)
        self._held += count

    def give(self, count: int) -> None:
        """Release bytes."""
        self._held -= count
        self._memory.give(count)

    def give_if_done(self, block: Block) -> None:
        """Release a block's memory once it is hashed and written."""
        if block.hashed and block.written:
            self.give(len(block.data))

    def give_all(self) -> None:
        """Release what is still held."""
        self.give(self._held)
