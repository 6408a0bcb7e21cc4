"""The sides of a comparison: a tree on a store, or what is in an archive; and how their contents become known."""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Collection, Sequence
from contextlib import suppress
from typing import Protocol

from yatagan.archives.compression import Compression
from yatagan.archives.open_archive import packing_at
from yatagan.bundles.by_node import contents_there, members_there
from yatagan.bundles.read import list_members, open_bundle, read_contents, read_members
from yatagan.bundles.see_through import SeeThrough
from yatagan.bundles.threads import in_thread
from yatagan.digests.checksum_lists import ALGORITHM
from yatagan.errors import BadArchive, LineLost, StoreError
from yatagan.faults import Fault
from yatagan.portable import member_names
from yatagan.portable.tar import BLOCK, DIRECTORY, FIFO, FILE, HARD_LINK, LINK, Damaged, Member
from yatagan.stores.interface import Facts, Kind, Store
from yatagan.stores.reading import read_start
from yatagan.trees.entries import Entries
from yatagan.trees.hashing import Content, DigestOrigin, digests, origin_of
from yatagan.trees.patterns import EVERYTHING, Choice
from yatagan.trees.scan import Heard, Tree, scan, unheard
from yatagan.verdicts.comparison import Digests

_SECOND = 1_000_000_000
_KINDS = {FILE: Kind.FILE, HARD_LINK: Kind.FILE, LINK: Kind.LINK, DIRECTORY: Kind.DIRECTORY, FIFO: Kind.FIFO}

#: Hears that a file of so many bytes was hashed.
Hashed = Callable[[int], None]


class Side(Protocol):
    """One side of a comparison.

    `step_ns`: how finely it keeps times. `modeless`: paths of which it does not know the mode; None for all.
    """

    tree: Tree
    step_ns: int
    modeless: Collection[bytes] | None

    @property
    def origin(self) -> DigestOrigin:
        """Where its digests are made."""

    async def digests(self, paths: Sequence[bytes], hashed: Hashed, algorithm: str = ALGORITHM) -> Digests:
        """Read and hash files. Raises StoreError when the connection is lost."""

    async def read(self, paths: Sequence[bytes], most: int) -> dict[bytes, bytes]:
        """The contents of files of at most `most` bytes; of larger ones the beginning. Raises StoreError."""


class TreeSide:
    """A file or a directory on a store, with its stored bundles as directories."""

    modeless: Collection[bytes] | None = ()

    def __init__(self, store: SeeThrough, tree: Tree) -> None:
        self._store = store
        self.tree = tree
        self.step_ns = store.traits.time_step_ns
        self.origin = origin_of(store)

    async def read(self, paths: Sequence[bytes], most: int) -> dict[bytes, bytes]:
        return {path: await read_start(self._store, self.tree.absolute(path), most) for path in paths}

    async def digests(self, paths: Sequence[bytes], hashed: Hashed, algorithm: str = ALGORITHM) -> Digests:

        def done(content: Content) -> None:
            hashed(self.tree.entries[content.path].size)

        made = await digests(self._store, self.tree, paths, algorithm, done)
        if any(content.origin is DigestOrigin.READ_BACK for content in made.values()):
            self.origin = DigestOrigin.READ_BACK
        return Digests(
            {path: content.digest for path, content in made.items() if content.fault is None},
            {path: content.fault for path, content in made.items() if content.fault is not None},
        )


class ArchiveSide:
    """What is in an archive of any maker. `by_node`: its node reads it; else it is read here."""

    def __init__(
        self, store: Store, path: bytes, members: Sequence[Member], form: Compression, *, by_node: bool
    ) -> None:
        self._store = store
        self._path = path
        self._by_node = by_node
        #: By path in the tree: the name of the member that has the contents.
        self._names: dict[bytes, bytes] = {}
        self.tree = Tree(path)
        is_zip = form is Compression.ZIP
        self.step_ns = 2 * _SECOND if is_zip else _SECOND
        self.modeless: Collection[bytes] | None = None if is_zip else self._add_all(members)
        if is_zip:
            self._add_all(members)

    @property
    def origin(self) -> DigestOrigin:
        if self._by_node:
            return DigestOrigin.ON_NODE
        return DigestOrigin.HERE if self._store.traits.here else DigestOrigin.READ_BACK

    def _add_all(self, members: Sequence[Member]) -> set[bytes]:
        """Make the tree. Returns the directories that are only in the paths of others.

        Of two members with one name the later counts, as it would when they are unpacked.
        """
        entries = self.tree.entries
        for member in members:
            parts = member_names.parts_of(member.name)
            if refusal := member_names.refusal(member.name):
                if refusal != member_names.EMPTY:
                    self.tree.dropped += 1
                    self.tree.dropped_names.append(member.name)
                continue
            path = b"/".join(parts)
            facts = _facts_of(member)
            if member.kind == HARD_LINK:
                linked = b"/".join(member_names.parts_of(member.target))
                facts = entries.get(linked) or facts
                self._names[path] = self._names.get(linked, member.name)
            elif member.kind == FILE:
                self._names[path] = member.name
            elif member.kind == LINK:
                self.tree.targets[path] = member.target
            entries[path] = facts
        implied = set[bytes]()
        for path in list(entries):
            while path:
                path = posixpath.dirname(path)
                if path in entries:
                    break
                entries[path] = Facts(Kind.DIRECTORY, 0, 0, 0o755)
                implied.add(path)
        if b"" not in entries:
            entries[b""] = Facts(Kind.DIRECTORY, 0, 0, 0o755)
            implied.add(b"")
        return implied

    def enter(self) -> bytes:
        """If all is below one directory, take that for the root. Returns its name, or b"" if there is more."""
        tops = {path for path in self.tree.entries if path and b"/" not in path}
        if len(tops) != 1:
            return b""
        (top,) = tops
        if self.tree.entries[top].kind is not Kind.DIRECTORY:
            return b""
        old, start = self.tree, len(top) + 1
        self.tree = Tree(old.root, dropped=old.dropped, dropped_names=old.dropped_names)
        for path, facts in old.entries.items():
            if path:
                self.tree.entries[path[start:]] = facts
        self.tree.targets = {path[start:]: target for path, target in old.targets.items()}
        self._names = {path[start:]: name for path, name in self._names.items()}
        if self.modeless is not None:
            self.modeless = {path[start:] for path in self.modeless if path}
        return top

    async def read(self, paths: Sequence[bytes], most: int) -> dict[bytes, bytes]:
        names = {self._names[path]: path for path in paths}
        async with open_bundle(self._store, self._path) as bundle:
            made = await in_thread(lambda stop: read_members(bundle, names, _NO_RATIO, most, stop))
        return {names[name]: data for name, data in made.items()}

    async def digests(self, paths: Sequence[bytes], hashed: Hashed, algorithm: str = ALGORITHM) -> Digests:
        wanted = {self._names[path] for path in paths}
        made: dict[bytes, str] = {}
        if wanted and self._by_node and algorithm == ALGORITHM:
            most = max(self.tree.entries[path].size for path in paths)
            made = await contents_there(self._store, self._path, most)
        elif wanted:
            self._by_node = False
            progress = _only_size(hashed)
            async with open_bundle(self._store, self._path) as bundle:
                made = await in_thread(lambda stop: read_contents(bundle, wanted, _NO_RATIO, progress, stop, algorithm))
        found = {path: made[self._names[path]] for path in paths if self._names[path] in made}
        return Digests(found, {path: Fault.DAMAGED for path in paths if path not in found})


def _only_size(hashed: Hashed) -> Callable[[int, int], None]:
    return lambda files, size: hashed(size)


#: Bytes that may come out of each byte of an archive: it is only read, and written nowhere.
_NO_RATIO = 1 << 40


def _facts_of(member: Member) -> Facts:
    kind = _KINDS.get(member.kind, Kind.DEVICE)
    return Facts(kind, member.size if kind is Kind.FILE else 0, member.mtime_ns, member.mode & 0o7777)


async def open_side(
    store: Store, typed: bytes, choice: Choice = EVERYTHING, heard: Heard = unheard, into: Entries | None = None
) -> TreeSide | ArchiveSide:
    """Read what is in a place; a tree `into` entries that are empty.

    Raises StoreError: MISSING where there is nothing, DAMAGED for a damaged archive.
    """
    path = await store.resolve(typed, follow=True)
    found = await store.look(path)
    if found is not None and found.kind is Kind.FILE:
        side = await _open_archive(store, path, choice, heard)
        if side is not None:
            return side
    seeing = SeeThrough(store)
    tree = await scan(seeing, path, choice=choice, heard=heard, into=into)
    if not tree.entries:
        raise StoreError(Fault.MISSING, path, store=store.name)
    return TreeSide(seeing, tree)


async def _open_archive(store: Store, path: bytes, choice: Choice, heard: Heard) -> ArchiveSide | None:
    """A file as an archive; None if it is none."""
    reader = await store.open(path)
    try:
        form = packing_at(await reader.read(0, BLOCK))
    finally:
        await reader.close()
    if form is None:
        return None
    members: list[Member] | None = None
    if store.machine is not None and not store.traits.here and form is not Compression.ZIP:
        with suppress(_NotThere):
            members = await _members_by_node(store, path)
    by_node = members is not None
    if members is None:
        try:
            async with open_bundle(store, path) as bundle:
                members = await in_thread(
                    lambda stop: [entry.member for entry in list_members(bundle, EVERYTHING, _NO_RATIO)]
                )
        except BadArchive:
            return None
        except Damaged as damaged:
            raise StoreError(Fault.DAMAGED, path, store=store.name, detail=damaged.why) from None
    heard(len(members))
    chosen = [
        member for member in members if member_names.chosen(member.name, choice.only_patterns, choice.skip_patterns)
    ]
    return ArchiveSide(store, path, chosen, form, by_node=by_node)


class _NotThere(Exception):
    """The node cannot read this archive."""


async def _members_by_node(store: Store, path: bytes) -> list[Member]:
    """The members, read by the node. Raises _NotThere, StoreError."""
    try:
        return await members_there(store, path)
    except StoreError as error:
        if isinstance(error, LineLost) or error.fault is Fault.MISSING:
            raise
        raise _NotThere from error
