"""Verifying a tree against a record: what is the same, different, missing or not listed.

A record is a tree that is claimed; `comparison` says in what the one that is there differs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum

from yatagan.digests.checksum_lists import Listed
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind, Readable
from yatagan.trees.checksum_record import is_record, step_of_record
from yatagan.trees.hashing import Content, DigestOrigin, digests, origin_of
from yatagan.trees.remembered_digests import RememberedDigests
from yatagan.trees.scan import Tree
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.comparison import Aspect, Compared, Comparison, Digests, Outcome, above, compare
from yatagan.verdicts.moved import may_have_moved, moved


class Finding(StrEnum):
    """The verdict on one entry."""

    SAME = "same"
    DIFFERENT = "different"
    MISSING = "missing"
    NOT_LISTED = "not listed"
    UNREADABLE = "unreadable"
    #: Contents agree, but mode or time do not.
    FACTS_DIFFER = "facts differ"
    #: Missing under its name, and there under one that is not listed.
    MOVED = "moved"


@dataclass(frozen=True, slots=True)
class Found:
    """One entry's verdict; `detail` says what differs, or why it cannot be read. `kind`: what it is, or was.

    `new_path`: where it was moved to.
    """

    path: bytes
    finding: Finding
    detail: str = ""
    kind: Kind = Kind.FILE
    new_path: bytes = b""


@dataclass(frozen=True, slots=True)
class Verdicts:
    """The result of verifying a tree against a record.

    `files` and `size` (bytes): what was read and hashed, or without `contents` what was compared; `remembered`: those
    of these files whose digest was made by an earlier run that was cut off, and that have not moved since.
    `with_facts`: whether the record has facts, too. `contents`: whether contents were looked at. `emptied`: of the
    record nothing is left, since all of it was gone when it was last carried; that is never good.
    `step_ns`: how finely times could be compared.
    """

    found: list[Found]
    origin: DigestOrigin
    files: int
    size: int
    with_facts: bool
    contents: bool = True
    remembered: int = 0
    emptied: bool = False
    step_ns: int = 1

    @property
    def nothing(self) -> bool:
        """Whether there is no file on record, and never was."""
        return not (self.emptied or any(map(_says_something, self.found)))

    def count(self, finding: Finding, kind: Kind | None = None) -> int:
        """How many entries, or those of one kind, have a verdict."""
        return sum(1 for found in self.found if found.finding is finding and kind in (None, found.kind))

    @property
    def good(self) -> bool:
        """Whether everything on record is there and the same. What is not listed does not count."""
        return self.contents_good and not self.count(Finding.FACTS_DIFFER)

    @property
    def contents_good(self) -> bool:
        """Whether everything on record is there with the same contents, whatever its mode and time."""
        bad = Finding.DIFFERENT, Finding.MISSING, Finding.MOVED, Finding.UNREADABLE
        return not (self.emptied or any(self.count(finding) for finding in bad))


def _says_something(found: Found) -> bool:
    """Whether a verdict is on a file that is on record, or on a directory that is not as on record."""
    as_it_was = found.kind is Kind.DIRECTORY and found.finding is Finding.SAME
    return found.finding is not Finding.NOT_LISTED and not as_it_was


#: What is said of a file for which the list has two digests.
CONTRADICTS = "the list has two digests for it"


async def verify(
    store: Readable,
    tree: Tree,
    claims: Claims,
    done: Callable[[Content], None] = lambda content: None,
    *,
    contents: bool = True,
    memory: RememberedDigests | None = None,
    processes: int = 0,
) -> Verdicts:
    """Verify a tree against a record.

    Without `contents` by facts alone: kinds, sizes, times. Digests that `memory` has are not made again; a verdict that
    is not good is checked a second time, by reading in any case. `processes` as for `digests`. Raises StoreError when
    the connection is lost.
    """
    record, listed = claims.as_tree(tree), {line.path for line in claims.listed}
    reading = _ListedContents(store, tree, record, claims, memory, processes)
    if contents:
        await reading.read(done)
    renamed = await reading.renamed() if contents and claims.whole else {}
    comparison = compare(
        record,
        tree,
        reading.digests() if contents else None,
        step_ns=step_of_record(claims.expected or {}, tree, store.traits.time_step_ns),
        modeless=() if claims.modes else None,
        renamed=renamed,
        handed_down=0,  # the record knows on which side
    )
    found = [*_of_record(comparison, claims), *(_not_listed(comparison) if claims.whole else ())]
    read = reading.files() if contents else [path for path in listed if path in tree.entries]
    return Verdicts(
        found,
        reading.origin,
        len(read),
        sum(tree.entries[path].size for path in read),
        claims.expected is not None,
        contents,
        reading.remembered(),
        claims.emptied,
        comparison.step_ns,
    )


class _ListedContents:
    """The contents of listed files, by every digest that the list has of them."""

    def __init__(
        self,
        store: Readable,
        tree: Tree,
        record: Tree,
        claims: Claims,
        memory: RememberedDigests | None,
        processes: int,
    ) -> None:
        self._store = store
        self._memory = memory
        self._processes = processes
        self._tree = tree
        self._record = record
        self._lines: dict[bytes, dict[str, Listed]] = {}
        for line in claims.listed:
            self._lines.setdefault(line.path, {})[line.algorithm] = line
        #: By algorithm.
        self._contents: dict[str, dict[bytes, Content]] = {}

    async def read(self, done: Callable[[Content], None]) -> None:
        """Read and hash the files; those that are not as listed twice."""
        files = [path for path in self._lines if _is_file(self._tree.entries.get(path))]
        await self._read(files, done, self._memory)
        again = [path for path in files if self._fault(path) or self._made(path) != self._wanted(path)]
        if again:
            await self._read(again, lambda content: None, None)

    async def _read(
        self, paths: Iterable[bytes], done: Callable[[Content], None], memory: RememberedDigests | None
    ) -> None:
        wanted: dict[str, list[bytes]] = {}
        for path in paths:
            for algorithm in self._lines[path]:
                wanted.setdefault(algorithm, []).append(path)
        for algorithm in sorted(wanted):
            made = await digests(self._store, self._tree, wanted[algorithm], algorithm, done, memory, self._processes)
            self._contents.setdefault(algorithm, {}).update(made)

    def _wanted(self, path: bytes) -> str:
        """All digests that the list has of a file, as one text."""
        return " ".join(self._lines[path][algorithm].digest for algorithm in sorted(self._lines[path]))

    def _made(self, path: bytes) -> str:
        """The same of what was read."""
        return " ".join(self._contents[algorithm][path].digest for algorithm in sorted(self._lines[path]))

    def _fault(self, path: bytes) -> Fault | None:
        """Why a file could not be read."""
        faults = (self._contents[algorithm][path].fault for algorithm in self._lines[path])
        return next((fault for fault in faults if fault is not None), None)

    def digests(self) -> tuple[Digests, Digests]:
        """What is on record of contents, and what was read; a file of which nothing is on record is as it should be."""
        read = self.files()
        wanted = dict.fromkeys(self._record.entries.of_kind(Kind.FILE), "")
        made: dict[bytes, str] = dict(wanted)
        wanted.update((path, self._wanted(path)) for path in read)
        made.update((path, self._made(path)) for path in read)
        faults = {path: fault for path in read if (fault := self._fault(path)) is not None}
        return Digests(wanted, {}), Digests(made, faults)

    async def renamed(self) -> dict[bytes, bytes]:
        """What is there under other names; only files of a size that is missing are read for that."""
        gone, came = may_have_moved(self._record, self._tree)
        lines = [line for path in gone for line in self._lines.get(path, {}).values()]
        known = list[tuple[bytes, str]]()
        for algorithm in sorted({line.algorithm for line in lines}):
            made = await digests(self._store, self._tree, came, algorithm, lambda content: None)
            known += [(path, content.digest) for path, content in made.items() if content.digest]
        return moved(self._record, self._tree, ([(line.path, line.digest) for line in lines], known))

    def files(self) -> list[bytes]:
        """The files that were read."""
        return sorted({path for contents in self._contents.values() for path in contents})

    def remembered(self) -> int:
        """How many files count by a digest that was made earlier."""
        made = (content for contents in self._contents.values() for content in contents.values())
        return len({content.path for content in made if content.remembered})

    @property
    def origin(self) -> DigestOrigin:
        """Where the digests were made; if anywhere, by reading back."""
        made = {content.origin for contents in self._contents.values() for content in contents.values()}
        return DigestOrigin.READ_BACK if DigestOrigin.READ_BACK in made else origin_of(self._store)


def _is_file(facts: Facts | None) -> bool:
    return facts is not None and facts.kind is Kind.FILE


_FINDINGS = {
    Outcome.DIFFERENT: Finding.DIFFERENT,
    Outcome.FACTS_DIFFER: Finding.FACTS_DIFFER,
    Outcome.ONLY_FIRST: Finding.MISSING,
    Outcome.MOVED: Finding.MOVED,
    Outcome.UNREADABLE: Finding.UNREADABLE,
}


def _of_record(comparison: Comparison, claims: Claims) -> Iterator[Found]:
    """The verdict on each entry that is on record."""
    compared = {entry.path: entry for entry in comparison.entries}
    record, there = comparison.first, comparison.second
    for path in sorted(record.entries):
        kind = (there.entries.get(path) or record.entries[path]).kind
        closed = _fault_above(path, there.unread) if there.unread else None
        if path in claims.contradictions:
            yield Found(path, Finding.DIFFERENT, CONTRADICTS)
        elif closed is not None:
            yield Found(path, Finding.UNREADABLE, closed.value, kind)
        elif (entry := compared.get(path)) is None:
            yield Found(path, Finding.SAME, kind=kind)
        elif entry.fault is Fault.MISSING:  # it went between the two looks
            yield Found(path, Finding.MISSING, kind=kind)
        else:
            yield Found(path, _FINDINGS[entry.outcome], _detail(comparison, entry, claims), kind, entry.new_path)


def _fault_above(path: bytes, unread: Mapping[bytes, Fault]) -> Fault | None:
    """Why a directory above could not be looked into; None for none."""
    return next((unread[each] for each in above(path) if each in unread), None)


def _not_listed(comparison: Comparison) -> Iterator[Found]:
    """What is there and not on record; directories count only where nobody knows what is in them."""
    for entry in comparison.entries:
        if entry.path not in comparison.first.entries and not is_record(entry.path):
            kind = comparison.second.entries[entry.path].kind
            if entry.fault is not None or kind is not Kind.DIRECTORY:
                yield Found(entry.path, Finding.NOT_LISTED, entry.fault.value if entry.fault else "", kind)


def _detail(comparison: Comparison, entry: Compared, claims: Claims) -> str:
    """In what an entry differs from what is on record, or why it could not be read."""
    if entry.fault is not None:
        return entry.fault.value
    if not entry.aspects:
        return ""
    wanted, there = comparison.first.entries[entry.path], comparison.second.entries[entry.path]
    details = {
        Aspect.KIND: f"a {there.kind.value}, not a {wanted.kind.value}",
        Aspect.TARGET: "it points elsewhere",
        Aspect.SIZE: f"{there.size} bytes, not {wanted.size}",
        Aspect.CONTENTS: "other contents" + (" of the same size" if entry.path in (claims.expected or {}) else ""),
        Aspect.MODE: f"mode {there.mode:04o}, not {wanted.mode:04o}",
        Aspect.TIME: "another modification time",
    }
    said = [text for aspect, text in details.items() if aspect in entry.aspects]
    return ", ".join(said) if set(entry.aspects) <= {Aspect.MODE, Aspect.TIME} else said[0]
