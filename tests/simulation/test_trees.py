"""Trees of any shape, staged from here to here by the real engine on the real disk, again and again. No sockets."""

from __future__ import annotations

import asyncio
import errno
import itertools
import os
import shutil
import stat
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, rule

from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.steps import Prove
from yatagan.digests.any_lists import own_list
from yatagan.digests.checksum_lists import ALGORITHM, LIST_NAME
from yatagan.engine.executor import Conditions, Executor
from yatagan.planning.planner import make_plan
from yatagan.stores.local import LocalSource, LocalStore
from yatagan.trees.checksum_record import FACTS_SUFFIX, read_facts, write_facts, write_list
from yatagan.trees.hashing import digests
from yatagan.trees.scan import scan
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.verification import Finding, verify

BATCH = "261125-tree"
# Few names, so that the same ones come again and again.
NAMES = st.sampled_from([b"a", b"-", b"new\nline", b"\xff\xfe [z]*"])
PATHS = st.lists(NAMES, min_size=1, max_size=2).map(b"/".join)
DATA = st.binary(max_size=40)
FILE_MODES = st.sampled_from([0o600, 0o644, 0o755, 0o640])
DIRECTORY_MODES = st.sampled_from([0o700, 0o755, 0o2775, 0o1777])
TARGETS = st.sampled_from([b"a", b"../b", b"nowhere", b"/", b"\xff\n"])


class OldStore(LocalStore):
    """This machine, an hour later: nothing on its disk is too new to be believed."""

    async def clock_ns(self) -> int | None:
        return time.time_ns() + 3600 * 10**9


class Old(LocalSource):
    """Opens it."""

    async def open(self) -> LocalStore:
        return OldStore(b"/")


@dataclass(frozen=True)
class Entry:
    """What a test wants to know of one name. Links have neither mode nor time of their own."""

    kind: str
    content: bytes = b""
    mode: int = 0
    mtime_ns: int = 0


def snapshot(root: bytes) -> dict[bytes, Entry]:
    """Everything below a directory, itself included as b""; kept files are looked at separately."""
    found: dict[bytes, Entry] = {}
    for above, directories, names in os.walk(root):
        for name in [*directories, *names, *([b""] if above == root else [])]:
            path = os.path.join(above, name) if name else above
            status = os.lstat(path)
            mode = stat.S_IMODE(status.st_mode) & 0o777
            relative = os.path.relpath(path, root) if name else b""
            if stat.S_ISLNK(status.st_mode):
                found[relative] = Entry("link", os.readlink(path))
            elif stat.S_ISDIR(status.st_mode):
                found[relative] = Entry("directory", b"", mode)
            else:
                found[relative] = Entry("file", Path(os.fsdecode(path)).read_bytes(), mode, status.st_mtime_ns)
    return found


def stage(near: bytes, far: bytes) -> BatchCounts:
    """What `yatagan stage NEAR FAR` does, without the program."""

    async def work() -> BatchCounts:
        ends = Old(b"/"), Old(b"/")
        plan = await make_plan(await ends[0].open(), await ends[1].open(), [(near, b"tree")], far)
        journal = Journal.in_memory(Header(BATCH, 0, ("stage",), "", "", far, Prove.AUTO), plan.steps())
        try:
            await Executor(journal, *ends, lambda event: None, Conditions()).run()
            return outcome_of(journal)
        finally:
            journal.close()

    return asyncio.run(work())


class Staging(RuleBasedStateMachine):
    """Somebody works on a tree, somebody else on what was staged from it, and it is staged again."""

    def __init__(self) -> None:
        super().__init__()
        self.root = os.fsencode(tempfile.mkdtemp(prefix="yatagan-trees-"))
        self.near, self.far = self.root + b"/near", self.root + b"/far"
        # Every change has a time of its own, as changes of people have: further apart than the coarsest step of a disk,
        # since times that are all even seconds are taken for those of a disk that keeps no others.
        self.moments = itertools.count(1_700_000_000 * 10**9, 3 * 10**9)

    def teardown(self) -> None:
        shutil.rmtree(self.root)

    @initialize()
    def begin(self) -> None:
        os.mkdir(self.near)

    def _clear(self, path: bytes) -> bytes:
        """Make room for something under this name of the near tree, whatever is in its way."""
        whole = self.near
        for name in path.split(b"/"):
            if os.path.islink(whole) or not os.path.isdir(whole):
                self._remove(whole)
                os.mkdir(whole)
            whole += b"/" + name
        self._remove(whole)
        return whole

    @staticmethod
    def _remove(whole: bytes) -> None:
        try:
            if os.path.isdir(whole) and not os.path.islink(whole):
                shutil.rmtree(whole)
            else:
                os.unlink(whole)
        except OSError as error:
            if error.errno not in (errno.ENOENT, errno.ENOTDIR, errno.ELOOP):
                raise

    @rule(path=PATHS, data=DATA, mode=FILE_MODES)
    def write(self, path: bytes, data: bytes, mode: int) -> None:
        self._write(self._clear(path), data, mode)

    @rule(data=st.data(), content=DATA)
    def write_again(self, data: st.DataObject, content: bytes) -> None:
        files = [path for path, entry in snapshot(self.near).items() if entry.kind == "file"]
        if files:
            self._write(os.path.join(self.near, data.draw(st.sampled_from(sorted(files)))), content, 0o644)

    def _write(self, whole: bytes, data: bytes, mode: int) -> None:
        Path(os.fsdecode(whole)).write_bytes(data)
        os.chmod(whole, mode)
        moment = next(self.moments)
        os.utime(whole, ns=(moment, moment))

    @rule(path=PATHS, to=TARGETS)
    def link(self, path: bytes, to: bytes) -> None:
        os.symlink(to, self._clear(path))

    @rule(path=PATHS, mode=DIRECTORY_MODES)
    def directory(self, path: bytes, mode: int) -> None:
        whole = self._clear(path)
        os.mkdir(whole)
        os.chmod(whole, mode)

    @rule(path=PATHS)
    def remove(self, path: bytes) -> None:
        self._remove(os.path.join(self.near, path))

    @rule(path=PATHS, data=DATA)
    def somebody_writes_there(self, path: bytes, data: bytes) -> None:
        whole = os.path.join(self.far, b"tree", path)
        above = os.path.dirname(whole)
        if os.path.realpath(above) == above and os.path.isdir(above) and not os.path.isdir(whole):
            self._remove(whole)
            self._write(whole, data, 0o600)

    @rule()
    def stage(self) -> None:
        near, there = snapshot(self.near), self.far + b"/tree"
        before = snapshot(there) if os.path.lexists(there) else {}
        expected, kept, blocked = _expected(near, before)
        outcome = stage(self.near, self.far)
        assert snapshot(there) == expected
        assert outcome.failed == blocked
        aside = os.path.join(self.far, b".yatagan-kept", BATCH.encode())
        for path, entry in kept.items():
            assert snapshot(os.path.join(aside, b"tree"))[path] == entry
        assert not [name for name in os.listdir(self.far) if name.endswith(b".part")]
        self._remove(os.path.join(self.far, b".yatagan-kept"))
        again = stage(self.near, self.far)
        assert (again.moved, again.sent) == (0, 0) and snapshot(there) == expected


def _expected(near: dict[bytes, Entry], far: dict[bytes, Entry]) -> tuple[dict[bytes, Entry], dict[bytes, Entry], int]:
    """What must be there afterwards, what must be kept, and how many entries cannot be carried."""
    after, kept, blocked = dict(far), {}, set[bytes]()
    for path in sorted(near, key=lambda path: path.split(b"/")):
        entry, found = near[path], far.get(path)
        kinds = {entry.kind, found.kind} if found else set()
        if any(path.startswith(above + b"/") for above in blocked) or ("directory" in kinds and len(kinds) == 2):
            blocked.add(path)
        elif kinds == {"directory"}:
            after[path] = entry  # with its mode, as of one that is new
        elif found is not None and kinds == {"file"} and found.mtime_ns > entry.mtime_ns:
            continue  # it is newer there
        else:
            after[path] = entry
            moved = found is not None and (found.kind, found.mtime_ns) != (entry.kind, entry.mtime_ns)
            if found is not None and (moved or found.content != entry.content):
                kept[path] = found
            elif found is not None:
                after[path] = found  # right by size and time: left as it is
    return after, kept, len(blocked)


TestStaging = Staging.TestCase
TestStaging.settings = settings(max_examples=25, stateful_step_count=25, deadline=None)


# -- records ---------------------------------------------------------------------------------------------


def _change_content(path: bytes) -> None:
    status = os.stat(path)
    data = bytearray(Path(os.fsdecode(path)).read_bytes())
    data[len(data) // 2] ^= 1
    Path(os.fsdecode(path)).write_bytes(data)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


CHANGES: dict[Finding, Callable[[bytes], object]] = {
    Finding.DIFFERENT: _change_content,
    Finding.MISSING: os.unlink,
    Finding.FACTS_DIFFER: lambda path: os.chmod(path, 0o611),
    Finding.NOT_LISTED: lambda path: Path(os.fsdecode(path + b".more")).write_bytes(b"more"),
}


@settings(max_examples=60, deadline=None)
@given(
    files=st.dictionaries(NAMES, st.binary(min_size=1, max_size=40), min_size=1),
    finding=st.sampled_from(sorted(CHANGES)),
    data=st.data(),
)
def test_a_record_is_good_until_something_changes(
    files: dict[bytes, bytes], finding: Finding, data: st.DataObject
) -> None:
    with tempfile.TemporaryDirectory() as directory:
        root = os.fsencode(directory)
        for name, content in files.items():
            Path(os.fsdecode(os.path.join(root, name))).write_bytes(content)
        asyncio.run(_record(root))
        assert asyncio.run(_hold(root)) == {}
        changed = data.draw(st.sampled_from(sorted(files)))
        CHANGES[finding](os.path.join(root, changed))
        added = changed + b".more" if finding is Finding.NOT_LISTED else changed
        assert asyncio.run(_hold(root)) == {added: finding}


async def _record(root: bytes) -> None:
    store = LocalStore(b"/")
    tree = await scan(store, root)
    listed = write_list(await digests(store, tree, tree.files(), ALGORITHM, lambda content: None))
    Path(os.fsdecode(os.path.join(root, LIST_NAME))).write_bytes(listed)
    Path(os.fsdecode(os.path.join(root, LIST_NAME + FACTS_SUFFIX))).write_bytes(write_facts(tree, LIST_NAME, listed))


async def _hold(root: bytes) -> dict[bytes, Finding]:
    """What is not the same; directories' times aside, which change whenever a name comes or goes."""
    store = LocalStore(b"/")
    listed = Path(os.fsdecode(os.path.join(root, LIST_NAME))).read_bytes()
    facts = Path(os.fsdecode(os.path.join(root, LIST_NAME + FACTS_SUFFIX))).read_bytes()
    record = Claims(own_list(listed, "list"), read_facts(facts, listed, "facts"))
    verdicts = await verify(store, await scan(store, root), record)
    return {found.path: found.finding for found in verdicts.found if found.path and found.finding is not Finding.SAME}
