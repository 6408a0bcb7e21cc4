"""What carrying one file needs: both ends, sizes and times, and who is told. No I/O of its own."""

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
    """A part file does not hold any more what was known to be in it; its first `good` bytes are still right."""

    def __init__(self, good: int) -> None:
        super().__init__(good)
        self.good = good


async def _in_thread(function: Callable[..., Any], *args: object) -> Any:
    return await asyncio.to_thread(function, *args)


@dataclass(frozen=True, slots=True)
class Tuning:
    """Sizes in bytes, times in seconds.

    `held`: what is read and not yet both hashed and acknowledged, over all files. A part file is synced every
    `sync_bytes` or `sync_seconds`, whichever comes first. What comes to `hash_apart` and more is hashed by `apart`,
    in a thread. Of files of `reuse_least` and more only what has changed is sent, where that can be, found in blocks of
    `reuse_block`.
    """

    held: int = 64 << 20
    sync_bytes: int = 64 << 20
    sync_seconds: float = 1.0
    pause: float = 0.01
    hash_apart: int = 64 << 10
    drain_seconds: float = 2.0
    reuse_least: int = REUSE_LEAST
    reuse_block: int = 64 << 10
    apart: Callable[..., Awaitable[Any]] = _in_thread


@dataclass(slots=True)
class Transfer:
    """One file's way.

    `size` bytes are read from `source` and written to `part`, but for what is already `durable` there:
    that is read from `prefix` (whichever end needs no line) for the digest alone. `read_size` and `write_size` are
    the largest single requests of either end. Without `sync_last` the end is not synced: for when what comes next
    syncs the file itself. `checkpoints` are the digests that the durable beginning must have, by its length; `synced`
    hears of new ones with what is durable then: the digest of its beginning, "" where that is not known. `fresh`: the
    part file is new and nothing was ever written to it, so that zeros may be left out: they arrive as holes. Whoever
    counts is told by `left_out`, in place of `moved`.
    """

    source: Reader
    part: Writer
    prefix: Reader
    size: int
    read_size: int
    write_size: int
    durable: Extents
    sync_last: bool
    hash: Hash
    moved: Callable[[int], None]
    synced: Callable[[Extents, str], None]
    stop: asyncio.Event
    left_out: Callable[[int], None]
    checkpoints: Mapping[int, str] = field(default_factory=dict)
    fresh: bool = False
