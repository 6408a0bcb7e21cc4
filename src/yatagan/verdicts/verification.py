"""Verifying a tree against a record: what is the same, different, missing or not listed."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from yatagan.digests.checksum_lists import Listed
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind, Readable, same_time
from yatagan.trees.checksum_record import Expected, is_record, step_of_record
from yatagan.trees.hashing import Content, DigestOrigin, digests, origin_of
from yatagan.trees.remembered_digests import RememberedDigests
from yatagan.trees.scan import Tree


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


@dataclass(frozen=True, slots=True)
class Claims:
    """What a tree is verified against: lines of a checksum list, and facts where there are any.

    `contradictions`: files of which the list says two things. `whole`: what it does not name is reported. `modes` and
    `times`: whether those of `expected` are to be found there. `emptied`: whether all that was on record was gone
    when it was last carried.
    """

    listed: Sequence[Listed]
    expected: Mapping[bytes, Expected] | None = None
    contradictions: Collection[bytes] = ()
    whole: bool = True
    modes: bool = True
    times: bool = True
    emptied: bool = False


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
    expected = claims.expected
    paths = sorted({line.path for line in claims.listed})
    remembered = 0
    if contents:
        verifying = _Contents(store, tree, claims.listed, memory, processes)
        await verifying.read(done)
        found = [
            Found(path, Finding.DIFFERENT, CONTRADICTS) if path in claims.contradictions else verifying.found(path)
            for path in paths
        ]
        read, origin, remembered = verifying.files(), verifying.origin, verifying.remembered()
    else:
        found = [_found_by_size(tree, path, (expected or {}).get(path)) for path in paths]
        read, origin = [path for path in paths if path in tree.entries], origin_of(store)
    step_ns = step_of_record(expected or {}, tree, store.traits.time_step_ns)
    if expected is not None:
        found = list(_with_facts(tree, found, claims, step_ns, contents=contents))
    if claims.whole:
        listed_too = set(paths) | set(expected or ())
        if contents and expected is not None:
            unlisted = [
                path for path in tree.entries.of_kind(Kind.FILE) if path not in listed_too and not is_record(path)
            ]
            moved = await verifying.moved(found, expected, unlisted)
            found = [
                replace(each, finding=Finding.MOVED, new_path=moved[each.path]) if each.path in moved else each
                for each in found
            ]
            listed_too |= set(moved.values())
        found += [
            Found(path, Finding.NOT_LISTED, kind=tree.entries[path].kind)
            for path in sorted(tree.entries)
            if path not in listed_too and not is_record(path) and tree.entries[path].kind is not Kind.DIRECTORY
        ]
    size = sum(tree.entries[path].size for path in read if path in tree.entries)
    facts = expected is not None
    return Verdicts(found, origin, len(read), size, facts, contents, remembered, claims.emptied, step_ns)


class _Contents:
    """The contents of listed files, by every digest that the list has of them."""

    def __init__(
        self,
        store: Readable,
        tree: Tree,
        listed: Sequence[Listed],
        memory: RememberedDigests | None,
        processes: int,
    ) -> None:
        self._store = store
        self._memory = memory
        self._processes = processes
        self._tree = tree
        self._lines: dict[bytes, dict[str, Listed]] = {}
        for line in listed:
            self._lines.setdefault(line.path, {})[line.algorithm] = line
        #: By algorithm.
        self._contents: dict[str, dict[bytes, Content]] = {}

    async def read(self, done: Callable[[Content], None]) -> None:
        """Read and hash the files; those that are not as listed twice."""
        await self._read(self._lines, done, self._memory)
        again = [path for path in self._lines if self.found(path).finding is not Finding.SAME]
        if again:
            await self._read(again, lambda content: None, None)

    async def _read(
        self, paths: Iterable[bytes], done: Callable[[Content], None], memory: RememberedDigests | None
    ) -> None:
        wanted: dict[str, list[bytes]] = {}
        for path in paths:
            facts = self._tree.entries.get(path)
            if facts is not None and facts.kind is Kind.FILE:
                for algorithm in self._lines[path]:
                    wanted.setdefault(algorithm, []).append(path)
        for algorithm in sorted(wanted):
            made = await digests(self._store, self._tree, wanted[algorithm], algorithm, done, memory, self._processes)
            self._contents.setdefault(algorithm, {}).update(made)

    def found(self, path: bytes) -> Found:
        """The verdict on a listed file; the worst of its lines."""
        found = [
            _found(self._tree, line, self._contents.get(algorithm, {})) for algorithm, line in self._lines[path].items()
        ]
        return max(found, key=lambda each: each.finding is not Finding.SAME)

    async def moved(
        self, found: Iterable[Found], expected: Mapping[bytes, Expected], unlisted: Iterable[bytes]
    ) -> dict[bytes, bytes]:
        """Missing files that are there under other names, by digest; only those of a size that is missing are read."""
        missing = defaultdict[int, list[bytes]](list)
        for each in found:
            if each.finding is Finding.MISSING and each.path in self._lines and each.path in expected:
                missing[expected[each.path].facts.size].append(each.path)
        there = {path for path in unlisted if self._tree.entries[path].size in missing.keys() - {0}}
        moved: dict[bytes, bytes] = {}
        for algorithm in sorted({name for paths in missing.values() for path in paths for name in self._lines[path]}):
            made = await digests(self._store, self._tree, sorted(there), algorithm, lambda content: None)
            by_digest = {content.digest: path for path, content in sorted(made.items(), reverse=True) if content.digest}
            for path in (path for paths in missing.values() for path in paths):
                line = self._lines[path].get(algorithm)
                if line is not None and path not in moved and line.digest in by_digest:
                    moved[path] = by_digest.pop(line.digest)
                    there.discard(moved[path])
        return moved

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


def _found_by_size(tree: Tree, path: bytes, wanted: Expected | None) -> Found:
    """The verdict on a listed file by its size; its time is compared with the other facts."""
    facts = tree.entries.get(path)
    if facts is None:
        return Found(path, Finding.MISSING)
    if facts.kind is not Kind.FILE:
        return Found(path, Finding.DIFFERENT, f"a {facts.kind.value}, not a file", facts.kind)
    if wanted is not None and wanted.facts.kind is Kind.FILE and facts.size != wanted.facts.size:
        return Found(path, Finding.DIFFERENT, f"{facts.size} bytes, not {wanted.facts.size}")
    return Found(path, Finding.SAME)


def _found(tree: Tree, line: Listed, contents: Mapping[bytes, Content]) -> Found:
    facts = tree.entries.get(line.path)
    content = contents.get(line.path)
    if facts is None or (content is not None and content.fault is Fault.MISSING):
        return Found(line.path, Finding.MISSING)
    if facts.kind is not Kind.FILE:
        return Found(line.path, Finding.DIFFERENT, f"a {facts.kind.value}, not a file", facts.kind)
    if content is None or content.fault is not None:
        return Found(line.path, Finding.UNREADABLE, content.fault.value if content and content.fault else "")
    if content.digest == line.digest:
        return Found(line.path, Finding.SAME)
    return Found(line.path, Finding.DIFFERENT, "other contents")


def _with_facts(tree: Tree, found: list[Found], claims: Claims, step_ns: int, *, contents: bool) -> Iterator[Found]:
    expected = claims.expected or {}
    by_path = {entry.path: entry for entry in found}
    for path in sorted(set(expected) | set(by_path)):
        entry, wanted, facts = by_path.get(path), expected.get(path), tree.entries.get(path)
        if wanted is None or (entry is not None and entry.finding is not Finding.SAME):
            if entry is not None:
                yield _with_sizes(entry, facts, wanted)
        elif facts is None:
            yield Found(path, Finding.MISSING, kind=wanted.facts.kind)
        elif other := _other_thing(tree, path, facts, wanted):
            yield Found(path, Finding.DIFFERENT, other, facts.kind)
        elif detail := _facts_detail(facts, wanted, claims, step_ns):
            # Where contents are not looked at, another time says that they may have changed.
            changed = not contents and _TIME in detail
            yield Found(path, Finding.DIFFERENT if changed else Finding.FACTS_DIFFER, detail, facts.kind)
        else:
            yield entry or Found(path, Finding.SAME, kind=facts.kind)


def _with_sizes(entry: Found, facts: Facts | None, wanted: Expected | None) -> Found:
    """A verdict on contents with what the facts file knows of the size."""
    if entry.detail != "other contents" or facts is None or wanted is None:
        return entry
    if facts.size == wanted.facts.size:
        return replace(entry, detail="other contents of the same size")
    return replace(entry, detail=f"{facts.size} bytes, not {wanted.facts.size}")


def _other_thing(tree: Tree, path: bytes, facts: Facts, wanted: Expected) -> str:
    """How an entry without contents of its own differs in what it is; "" when it does not."""
    if facts.kind is not wanted.facts.kind:
        return f"a {facts.kind.value}, not a {wanted.facts.kind.value}"
    if facts.kind is Kind.LINK and tree.targets.get(path) != wanted.target:
        return "it points elsewhere"
    return ""


_SET_GROUP = 0o2000
_TIME = "another modification time"


def _facts_detail(facts: Facts, wanted: Expected, claims: Claims, step_ns: int) -> str:
    """Which fact differs; "" when none does. A directory's time moves when the record itself is written."""
    if facts.kind not in (Kind.FILE, Kind.DIRECTORY):
        return ""
    differing = []
    # A directory may have been given the bit that hands down its group by the one above it.
    given = _SET_GROUP if facts.kind is Kind.DIRECTORY and not wanted.facts.mode & _SET_GROUP else 0
    if claims.modes and facts.mode & ~given != wanted.facts.mode:
        differing.append(f"mode {facts.mode:04o}, not {wanted.facts.mode:04o}")
    if claims.times and facts.kind is Kind.FILE and not same_time(facts.mtime_ns, wanted.facts.mtime_ns, step_ns):
        differing.append(_TIME)
    return ", ".join(differing)
