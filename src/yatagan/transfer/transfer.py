"""What the transfer of one file needs: both ends, sizes, what is durable already, and callbacks. No I/O."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from yatagan.stores.interface import Reader, Writer
from yatagan.transfer.delta import REUSE_LEAST
from yatagan.transfer.extents import Extents
from yatagan.transfer.file_digest import Hash


class BeginningDiffers(Exception):
    """A part file no longer holds what an earlier session left in it; its first `good` bytes are still right."""

    def __init__(self, good: int) -> None:
        super().__init__(good)
        self.good = good


async def _in_thread(function: Callable[..., Any], *args: object) -> Any:
    return await asyncio.to_thread(function, *args)


@dataclass(frozen=True, slots=True)
class Tuning:
    """Sizes in bytes, times in seconds.

    `memory`: most bytes, over all files, that are read and not yet both hashed and acknowledged. A part file is synced
    every `sync_bytes` or `sync_seconds`, whichever comes first. Pieces of `hash_in_thread` and more are hashed by
    `in_thread`. Of files of `reuse_least` and more only changed blocks of `reuse_block` are sent, where possible.
    """

    memory: int = 64 << 20
    sync_bytes: int = 64 << 20
    sync_seconds: float = 1.0
    pause: float = 0.01
    hash_in_thread: int = 64 << 10
    drain_seconds: float = 2.0
    reuse_least: int = REUSE_LEAST
    reuse_block: int = 64 << 10
    in_thread: Callable[..., Awaitable[Any]] = _in_thread


@dataclass(slots=True)
class TransferEnds:
    """Where the bytes of one file come from and go to.

    What is on disk already is read from `prefix`, the end that is on this machine, for the digest alone. `read_size`
    and `write_size`: the largest request of either end, in bytes.
    """

    source: Reader
    part: Writer
    prefix: Reader
    read_size: int
    write_size: int


@dataclass(frozen=True, slots=True)
class TransferReports:
    """Who hears how far one file is.

    `moved`: bytes written. `left_out`: bytes left as holes. `synced`: what is on disk now, and the digest of its
    beginning, "" where that is unknown.
    """

    moved: Callable[[int], None]
    left_out: Callable[[int], None]
    synced: Callable[[Extents, str], None]


@dataclass(frozen=True, slots=True)
class Transfer:
    """One file of `size` bytes from a source to a part file.

    `durable`: what is on disk there already. `sync_last`: whether to sync at the end, which a proof on the node does
    itself. `checkpoints`: digest that the first N bytes of that part must have, by N. `fresh`: nothing was ever written
    to the part file, so zeros may stay holes.
    """

    ends: TransferEnds
    size: int
    durable: Extents
    hash: Hash
    reports: TransferReports
    stop: asyncio.Event
    sync_last: bool
    checkpoints: Mapping[int, str] = field(default_factory=dict)
    fresh: bool = False
