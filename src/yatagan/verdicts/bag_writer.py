"""Writing a bag of a directory of this machine, by RFC 8493.

The payload is copied, and hashed while it is read. All of it is made under a name of its own, which only becomes the
bag's when everything is on disk.
"""

from __future__ import annotations

import asyncio
import os
import posixpath
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from yatagan.bundles.threads import WorkStopped, in_thread
from yatagan.config.own_files import sync_directory
from yatagan.digests.algorithms import hasher
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.places import PART_PREFIX, PART_SUFFIX
from yatagan.portable.directories import open_regular
from yatagan.request_errors import BadBag, WrongBag
from yatagan.stores.interface import Kind, Store
from yatagan.stores.system_errors import fault_of
from yatagan.trees.scan import Tree
from yatagan.verdicts.bags import DECLARATION, INFO, PAYLOAD, declaration, info_of, manifest_of

_PIECE = 1 << 20
#: Entries that are named in an error before the rest is only counted.
_NAMED = 3


@dataclass(frozen=True, slots=True)
class BagWish:
    """How a bag is made: by which algorithms, with which lines of bag-info.txt, under which run's name."""

    algorithms: Sequence[str]
    info: Sequence[tuple[str, str]]
    run: str


def refuse_for_bag(tree: Tree) -> None:
    """Raise BadBag for what a bag has no place for: links, other kinds, and names that are not UTF-8."""
    kinds = [path for path in tree.entries if tree.entries[path].kind not in (Kind.FILE, Kind.DIRECTORY)]
    names = [path for path in tree.entries if not _is_utf8(path)]
    for why, paths in ((WrongBag.KINDS, kinds), (WrongBag.NAMES, names), (WrongBag.UNREAD, [*tree.unread])):
        if paths:
            more = max(0, len(paths) - _NAMED)
            raise BadBag(why, tree.root.decode("utf-8", "surrogateescape"), sorted(paths)[:_NAMED], more)


def _is_utf8(path: bytes) -> bool:
    try:
        path.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


async def make_bag(
    store: Store, tree: Tree, bag: bytes, wish: BagWish, hashed: Callable[[int], None]
) -> dict[str, dict[bytes, str]]:
    """Make a bag of a scanned tree. Returns the digests of its payload, by algorithm and path below the bag.

    `store` is this machine's. Raises StoreError: EXISTS when there is something under its name, SOURCE_CHANGED when a
    file changed meanwhile.
    """
    part = posixpath.join(posixpath.dirname(bag), PART_PREFIX + wish.run.encode() + b"-bag" + PART_SUFFIX)
    if await store.look(bag) is not None:
        raise StoreError(Fault.EXISTS, bag, store=store.name)
    await store.make_directory(part, 0o777)
    try:
        made = await in_thread(lambda stop: _write(tree, part, wish, hashed, stop))
        await store.rename(part, bag)  # which refuses a name that was taken meanwhile
        await store.sync_directory(posixpath.dirname(bag))
    except OSError as error:
        await asyncio.to_thread(_remove, part)
        raise fault_of(error, bag) from error
    except BaseException:
        await asyncio.to_thread(_remove, part)
        raise
    return made


def _write(
    tree: Tree, part: bytes, wish: BagWish, hashed: Callable[[int], None], stop: threading.Event
) -> dict[str, dict[bytes, str]]:
    made: dict[str, dict[bytes, str]] = {algorithm: {} for algorithm in wish.algorithms}
    directories = [part]
    for path in tree.entries.in_order():
        inside = posixpath.join(PAYLOAD, path) if path else PAYLOAD
        target = posixpath.join(part, inside)
        if tree.entries[path].kind is Kind.DIRECTORY:
            os.mkdir(target)
            directories.append(target)
            continue
        if stop.is_set():
            raise WorkStopped
        for algorithm, digest in _copy(tree.absolute(path), target, wish.algorithms).items():
            made[algorithm][inside] = digest
        hashed(tree.entries[path].size)
    sizes = list(tree.entries.file_sizes(tree.entries.of_kind(Kind.FILE)))
    info = [("Bagging-Date", date.today().isoformat()), ("Payload-Oxum", f"{sum(sizes)}.{len(sizes)}"), *wish.info]
    tags = {DECLARATION: declaration(), INFO: info_of(info)}
    for algorithm in wish.algorithms:
        tags[f"manifest-{algorithm}.txt".encode()] = manifest_of(sorted(made[algorithm].items()))
    for algorithm in wish.algorithms:
        listed = [
            (name, _digest(algorithm, data)) for name, data in sorted(tags.items()) if not name.startswith(b"tag")
        ]
        tags[f"tagmanifest-{algorithm}.txt".encode()] = manifest_of(listed)
    for name, data in tags.items():
        with open(posixpath.join(part, name), "xb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
    for directory in reversed(directories):
        sync_directory(Path(os.fsdecode(directory)))
    return made


def _copy(source: bytes, target: bytes, algorithms: Sequence[str]) -> dict[str, str]:
    """Copy a file with its times and mode. Returns its digests. Raises OSError, StoreError."""
    hashers = {algorithm: hasher(algorithm) for algorithm in algorithms}
    with os.fdopen(open_regular(source, os.O_RDONLY), "rb") as reading, open(target, "xb") as writing:
        before = os.fstat(reading.fileno())
        while piece := reading.read(_PIECE):
            for each in hashers.values():
                each.update(piece)
            writing.write(piece)
        after = os.fstat(reading.fileno())
        if _state(before) != _state(after):
            raise StoreError(Fault.SOURCE_CHANGED, source)
        writing.flush()
        os.fchmod(writing.fileno(), before.st_mode & 0o777)
        os.utime(writing.fileno(), ns=(before.st_atime_ns, before.st_mtime_ns))
        os.fsync(writing.fileno())
    return {algorithm: each.hexdigest() for algorithm, each in hashers.items()}


def _state(status: os.stat_result) -> tuple[int, int, int]:
    return status.st_size, status.st_mtime_ns, status.st_ctime_ns


def _digest(algorithm: str, data: bytes) -> str:
    value = hasher(algorithm)
    value.update(data)
    return value.hexdigest()


def _remove(part: bytes) -> None:
    """Remove what was begun."""
    for above, directories, files in os.walk(part, topdown=False):
        for name in files:
            os.unlink(posixpath.join(above, name))
        for name in directories:
            os.rmdir(posixpath.join(above, name))
    if os.path.lexists(part):
        os.rmdir(part)
