"""Digests of a tree's files, wherever they can be made most cheaply, and how they were made."""

from __future__ import annotations

import asyncio
import hashlib
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from yatagan.errors import LINE_FAULTS, Fault, StoreError
from yatagan.stores.interface import Facts, Readable
from yatagan.trees.scan import Tree

#: Reads under way at once when a file is read over the line only to be hashed.
_AHEAD = 16
#: Files hashed at once.
_FILES_AT_ONCE = 6


async def digest_by_reading(store: Readable, path: bytes, algorithm: str) -> str:
    """Read a file through the store and hash it here. Raises StoreError."""
    reader = await store.open(path)
    pending: deque[asyncio.Task[bytes]] = deque()
    try:
        facts = await reader.facts()
        value, block, offset, taken = hashlib.new(algorithm), store.traits.read_size, 0, 0
        while offset < facts.size or pending:
            while offset < facts.size and len(pending) < _AHEAD:
                pending.append(asyncio.ensure_future(reader.read(offset, min(block, facts.size - offset))))
                offset += block
            data = await pending.popleft()
            taken += len(data)
            value.update(data)
        if taken != facts.size:
            raise StoreError(Fault.SOURCE_CHANGED, path, store=store.name)
    finally:
        for task in pending:
            task.cancel()
        await reader.close()
    return value.hexdigest()


class How(StrEnum):
    """Where a digest was made."""

    ON_NODE = "on-node"
    READ_BACK = "read-back"
    HERE = "read here"


@dataclass(frozen=True, slots=True)
class Content:
    """A file's digest, how it was made, or why there is none."""

    path: bytes
    digest: str
    how: How
    fault: Fault | None = None


def how_of(store: Readable) -> How:
    """How digests of this store's files are made."""
    if store.traits.quick:
        return How.HERE
    return How.ON_NODE if store.traits.digests else How.READ_BACK


async def digests(
    store: Readable, tree: Tree, paths: Sequence[bytes], algorithm: str, done: Callable[[Content], None]
) -> dict[bytes, Content]:
    """Digests of many files of a scanned tree, several at a time, each reported when made.

    Raises StoreError when the line is lost; a file that cannot be read has its fault in the result.
    """
    found: dict[bytes, Content] = {}
    waiting = iter(paths)

    async def work() -> None:
        for path in waiting:
            content = await _content(store, tree.absolute(path), path, algorithm, tree.entries[path])
            found[path] = content
            done(content)

    async with asyncio.TaskGroup() as group:
        for _ in range(_FILES_AT_ONCE):
            group.create_task(work())
    return found


async def _content(store: Readable, whole: bytes, path: bytes, algorithm: str, seen: Facts) -> Content:
    how = how_of(store)
    try:
        if store.traits.digests:
            try:
                return Content(path, (await store.digest(whole, algorithm, seen)).digest, how)
            except StoreError as error:
                if error.fault is not Fault.UNSUPPORTED or how is How.HERE:
                    raise
        how = How.READ_BACK
        return Content(path, await digest_by_reading(store, whole, algorithm), how)
    except StoreError as error:
        if error.fault in LINE_FAULTS:
            raise
        return Content(path, "", how, error.fault)
