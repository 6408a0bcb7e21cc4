"""Making bundles: directories of this machine into one archive with its index, here or straight on to a node.

Archive and index grow as part files and get their names only when everything that was chosen is in them. A file that
cannot be read, or changes, means that there is no bundle: half a bundle would be taken for a whole one.
"""

from __future__ import annotations

import asyncio
import hashlib
import os
import posixpath
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field

from yatagan.archives.compression import Form, compressed
from yatagan.bundles.threads import BlockingWriter, WorkStopped, in_thread, to_its_end
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.places import PART_PREFIX, PART_SUFFIX
from yatagan.portable import index
from yatagan.portable.tar_input import AddedMember, Changed, Entry, HeaderOptions
from yatagan.portable.tar_writer import TarWriter
from yatagan.stores.interface import Facts, Kind, Placement, Store
from yatagan.stores.system_errors import fault_of
from yatagan.trees.compare import FRESH_NS
from yatagan.trees.scan import Tree

#: Bytes of index that are written at a time.
_INDEX_BYTES = 1 << 18


@dataclass(slots=True)
class BundleContents:
    """What goes into a bundle: trees of this machine under the names that they get in it.

    `special`: sockets and the like, which no bundle holds. `unread`: what cannot be read, and why.
    """

    entries: list[Entry] = field(default_factory=list)
    files: int = 0
    size: int = 0
    special: list[bytes] = field(default_factory=list)
    unread: dict[bytes, Fault] = field(default_factory=dict)
    skipped: int = 0
    newest_ns: int = 0

    def add(self, name: bytes, tree: Tree, *, readable_here: bool = True) -> None:
        """Add a scanned tree. Whether its files can be read is only known here."""
        self.skipped += tree.skipped
        self.unread.update({posixpath.join(name, path): fault for path, fault in tree.unread.items()})
        for path in tree.entries.in_order():
            facts, whole = tree.entries[path], tree.absolute(path)
            inside = posixpath.join(name, path) if path else name
            if not facts.kind.carried:
                self.special.append(inside)
                continue
            if facts.kind is Kind.FILE and readable_here and not os.access(whole, os.R_OK):
                self.unread[inside] = Fault.DENIED
            self.add_one(inside, whole, facts)

    def add_one(self, name: bytes, path: bytes, facts: Facts) -> None:
        """Add one entry, after its directory."""
        if facts.kind is Kind.FILE:
            self.files += 1
            self.size += facts.size
            self.newest_ns = max(self.newest_ns, facts.changed_ns or facts.mtime_ns)
        self.entries.append(Entry(name, path, facts.kind.value, _seen(facts)))


def _seen(facts: Facts) -> tuple[int, int, int, int]:
    return facts.size, facts.mtime_ns, facts.changed_ns or 0, facts.inode or 0


@dataclass(frozen=True, slots=True)
class Recipe:
    """How a bundle is made. `run` names the part files."""

    form: Form
    level: int
    manner: HeaderOptions
    threads: int
    run: str


@dataclass(frozen=True, slots=True)
class MadeBundle:
    """A bundle that is in place: its index's totals, where it was proven, and (path, digest) of its files."""

    totals: index.Totals
    seconds: float
    proven: bool
    listed: list[tuple[bytes, str]]


#: Told how many files and bytes more have gone in.
Progress = Callable[[int, int], None]


async def make(
    store: Store, path: bytes, contents: BundleContents, recipe: Recipe, progress: Progress, stands_for: bytes = b""
) -> MadeBundle:
    """Make a bundle at an absolute path of a store, and its index beside it.

    `stands_for` names the directory that it is the stored form of. Raises StoreError: EXISTS when one of the names is
    taken, SOURCE_CHANGED and what reading and writing may raise.
    """
    await _age(contents)
    began = time.monotonic()
    pairs = [(path, part_of(path, recipe.run, 1)), (path + index.SUFFIX, part_of(path, recipe.run, 2))]
    for final, _ in pairs:
        if await store.look(final) is not None:
            raise StoreError(Fault.EXISTS, final, store=store.name)
    making = _Making(index.first_line(posixpath.basename(path), stands_for), contents, recipe, progress)
    outlets: list[BlockingWriter] = []
    parts: list[bytes] = []
    try:
        for _, part in pairs:
            parts.append(part)
            try:
                outlets.append(BlockingWriter(store, await to_its_end(store.create_part(part, 0o666))))
            except StoreError:
                parts.remove(part)
                raise
        try:
            await in_thread(lambda stop: making.run(outlets[0], outlets[1], stop))
        finally:
            for outlet in outlets:
                await outlet.settle()
        assert making.totals is not None
        proven, known = await _prove(store, parts[0], making.totals)
        for (final, part), outlet, facts in zip(pairs, outlets, (known, None), strict=True):
            await store.place(outlet.writer, Placement(part, final, outlet.written, posixpath.dirname(final), facts))
            parts.remove(part)
    finally:
        for outlet in outlets:
            with suppress(StoreError):
                await outlet.close()
        for part in parts:
            with suppress(StoreError):
                await store.remove(part)
    return MadeBundle(making.totals, time.monotonic() - began, proven, making.listed)


def part_of(path: bytes, run: str, number: int) -> bytes:
    """The path of a part file beside its final name."""
    return posixpath.join(posixpath.dirname(path), PART_PREFIX + f"{run}-{number}-0".encode() + PART_SUFFIX)


async def _age(contents: BundleContents) -> None:
    """Wait until a change to the newest file would show in its times."""
    wait = contents.newest_ns + FRESH_NS - time.time_ns()
    if 0 < wait <= FRESH_NS:
        await asyncio.sleep(wait / 1e9)


async def _prove(store: Store, part: bytes, totals: index.Totals) -> tuple[bool, Facts | None]:
    """Have the node hash the bundle. Returns whether it did, and the bundle's facts then.

    On this machine writing and syncing is enough.
    """
    if store.traits.here or store.machine is None:
        return store.traits.here, None
    if not await store.machine.same_disk(part[: -len(PART_SUFFIX)] + b"-token" + PART_SUFFIX):
        return False, None
    made = await store.machine.digest(part, ALGORITHM)
    if made.digest != totals.digest:
        raise StoreError(Fault.DIGEST_DIFFERS, part, store=store.name)
    return True, made.facts


class _Making:
    """The blocking half, in a thread of its own."""

    def __init__(self, first_line: bytes, contents: BundleContents, recipe: Recipe, progress: Progress) -> None:
        self._recipe = recipe
        self._progress = progress
        self._lines = [first_line]
        self._line_bytes = 0
        self._files = 0
        self._size = 0
        self._told = (0, 0)
        self._making = TarWriter(contents.entries, recipe.manner, self._list)
        self._members = 0
        self.listed: list[tuple[bytes, str]] = []
        self.totals: index.Totals | None = None

    def run(self, bundle: BlockingWriter, index_file: BlockingWriter, stop: threading.Event) -> None:
        recipe, value = self._recipe, hashlib.new(ALGORITHM)
        blocks = self._making.blocks()
        try:
            with ThreadPoolExecutor(1) as hasher:
                hashed = None
                for piece in compressed(self._until(stop, blocks), recipe.form, recipe.level, recipe.threads):
                    if hashed is not None:
                        hashed.result()
                    hashed = hasher.submit(value.update, piece)
                    bundle.write(piece)
                    self._pass_on(index_file)
            self._tell()
        except Changed as changed:
            raise StoreError(Fault.SOURCE_CHANGED, changed.path) from None
        except OSError as error:
            raise fault_of(error, error.filename or b"") from error
        self.totals = index.Totals(self._members, self._files, self._size, bundle.written, value.hexdigest())
        self._lines.append(index.last_line(self.totals))
        self._pass_on(index_file, last=True)
        bundle.finish()
        index_file.finish()

    def _until(self, stop: threading.Event, blocks: Iterator[bytes]) -> Iterator[bytes]:
        for block in blocks:
            if stop.is_set():
                raise WorkStopped
            self._tell()
            yield block

    def _list(self, added: AddedMember, offset: int) -> None:
        line = added.line(offset)
        self._lines.append(line)
        self._line_bytes += len(line)
        self._members += 1
        if added.digest:
            self._files += 1
            self._size += added.size
            self.listed.append((added.name, added.digest))

    def _pass_on(self, index_file: BlockingWriter, *, last: bool = False) -> None:
        if self._line_bytes >= _INDEX_BYTES or last:
            lines, self._lines, self._line_bytes = self._lines, [], 0
            index_file.write(b"".join(lines))

    def _tell(self) -> None:
        now = self._files, self._making.taken
        if now != self._told:
            self._progress(now[0] - self._told[0], now[1] - self._told[1])
            self._told = now
