"""A tree against what is on record of it, any two of them: every entry has the verdict that a plain reckoning gives."""

from __future__ import annotations

import asyncio
import hashlib
import os
import tempfile
from collections import Counter
from dataclasses import dataclass

from hypothesis import given
from hypothesis import strategies as st

from yatagan.digests.checksum_lists import Listed
from yatagan.faults import Fault
from yatagan.stores.interface import Facts, Kind
from yatagan.stores.local import LocalStore
from yatagan.trees.checksum_record import Expected
from yatagan.trees.scan import Tree, scan
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.since import changed_since
from yatagan.verdicts.verification import Finding, Verdicts, verify

#: A time that no disk's step could hide, and one step of ours.
_TIME, _STEP = 1_600_000_001_234_567_891, 3_000_000_000


@dataclass(frozen=True)
class Entry:
    """What has a name: a file with contents, a mode and a time, or a link."""

    contents: bytes = b""
    mode: int = 0o644
    time_ns: int = _TIME
    target: bytes | None = None

    @property
    def facts(self) -> Facts:
        if self.target is not None:
            return Facts(Kind.LINK, 0, 0, 0)
        return Facts(Kind.FILE, len(self.contents), self.time_ns, self.mode)

    def write(self, path: bytes) -> None:
        os.makedirs(os.path.dirname(path), exist_ok=True)
        if self.target is not None:
            os.symlink(self.target, path)
            return
        with open(path, "wb") as file:
            file.write(self.contents)
        os.chmod(path, self.mode)
        os.utime(path, ns=(self.time_ns, self.time_ns))


FILES = st.builds(
    Entry,
    st.sampled_from([b"", b"1", b"22", b"33"]),
    st.sampled_from([0o644, 0o600]),
    st.sampled_from([_TIME - _STEP, _TIME, _TIME + _STEP]),
)
LINKS = st.builds(Entry, target=st.sampled_from([b"a", b"b"]))
NAMES = st.sampled_from([b"a", b"b", b"c", b"fen/a", b"fen/b", b"moor/a"])
TREES = st.dictionaries(NAMES, st.one_of(FILES, FILES, LINKS), max_size=6)


@st.composite
def pairs(draw: st.DrawFn) -> tuple[dict[bytes, Entry], dict[bytes, Entry]]:
    """What is on record and what is there: unlike each other, or the second is the first with names changed."""
    if draw(st.integers(0, 3)) == 0:
        return draw(TREES), draw(TREES)
    one = draw(st.dictionaries(NAMES, st.one_of(FILES, FILES, LINKS), min_size=3))
    new = draw(st.permutations([b"new/a", b"new/b", b"new/z", b"fen/z1", b"fen/z2", b"z"]))
    keeps = draw(st.sets(NAMES, max_size=3))
    return one, {path if path in keeps else name: entry for (path, entry), name in zip(one.items(), new, strict=False)}


def looked_at(there: dict[bytes, Entry], root: bytes) -> Tree:
    for path, entry in there.items():
        entry.write(os.path.join(root, path))
    return asyncio.run(scan(LocalStore(b"/"), root))


def verdicts_on(record: dict[bytes, Entry], tree: Tree, *, contents: bool) -> Verdicts:
    files = [(path, each.contents) for path, each in record.items() if each.target is None]
    listed = [Listed(path, hashlib.sha256(data).hexdigest()) for path, data in files]
    listed += [Listed(path, hashlib.md5(data).hexdigest(), "md5") for path, data in files if path > b"b"]
    expected = {path: Expected(entry.facts, entry.target) for path, entry in record.items()}
    return asyncio.run(verify(LocalStore(b"/"), tree, Claims(listed, expected), contents=contents))


def reckoned(record: dict[bytes, Entry], there: dict[bytes, Entry], *, contents: bool) -> Counter[Finding]:
    """How many files and links there are of each verdict."""
    found = Counter[Finding]()
    for path in record.keys() & there.keys():
        one, other = record[path], there[path]
        times = one.time_ns != other.time_ns
        if one.target is not None or other.target is not None:
            finding = Finding.SAME if one.target == other.target else Finding.DIFFERENT
        elif (one.contents != other.contents) if contents else (times or len(one.contents) != len(other.contents)):
            finding = Finding.DIFFERENT
        else:
            finding = Finding.FACTS_DIFFER if times or one.mode != other.mode else Finding.SAME
        found[finding] += 1
    gone = Counter(each.contents for path, each in record.items() if path not in there and each.target is None)
    came = Counter(each.contents for path, each in there.items() if path not in record and each.target is None)
    found[Finding.MOVED] = sum((gone & came)[data] for data in gone if data) if contents else 0
    found[Finding.MISSING] = len(record.keys() - there.keys()) - found[Finding.MOVED]
    found[Finding.NOT_LISTED] = len(there.keys() - record.keys()) - found[Finding.MOVED]
    return +found


@given(pair=pairs(), contents=st.booleans())
def test_each_entry_has_its_verdict(pair: tuple[dict[bytes, Entry], dict[bytes, Entry]], contents: bool) -> None:
    record, there = pair
    with tempfile.TemporaryDirectory() as directory:
        tree = looked_at(there, os.fsencode(directory))
        verdicts = verdicts_on(record, tree, contents=contents)
    found = Counter(each.finding for each in verdicts.found if each.kind is not Kind.LINK or not each.new_path)
    links = sum(each.finding is Finding.MOVED and each.kind is Kind.LINK for each in verdicts.found)
    wanted = reckoned(record, there, contents=contents)
    wanted.subtract({Finding.MISSING: links, Finding.NOT_LISTED: links})  # they went with the files beside them
    assert found == +wanted
    assert verdicts.good == (not links and found.keys() <= {Finding.SAME, Finding.NOT_LISTED})
    news = [each.new_path for each in verdicts.found if each.new_path]
    assert len(set(news)) == len(news) and not set(news) & {each.path for each in verdicts.found}
    for each in verdicts.found:
        if each.new_path:
            assert (there[each.new_path].contents, there[each.new_path].target) == (
                record[each.path].contents,
                record[each.path].target,
            )


@given(pair=pairs())
def test_what_has_changed_since(pair: tuple[dict[bytes, Entry], dict[bytes, Entry]]) -> None:
    record, there = pair
    with tempfile.TemporaryDirectory() as directory:
        tree = looked_at(there, os.fsencode(directory))
    expected = {path: Expected(entry.facts, entry.target) for path, entry in record.items()}
    found = changed_since(expected, tree, 1)
    assert (found.missing, found.added) == (len(record.keys() - there.keys()), len(there.keys() - record.keys()))
    both = [(record[path], there[path]) for path in record.keys() & there.keys()]
    files = [(one, other) for one, other in both if one.target is None and other.target is None]
    assert found.newer == sum(other.time_ns > one.time_ns for one, other in files)
    same = sum(one.target == other.target for one, other in both if (one, other) not in files)
    same += sum((len(one.contents), one.time_ns) == (len(other.contents), other.time_ns) for one, other in files)
    assert found.same == same and found.newer + found.other + found.same == len(both)
    without_times = changed_since(expected, tree, 1, times=False)
    assert without_times.newer == 0 and without_times.same >= found.same


def test_what_is_in_a_directory_that_may_not_be_read_is_unreadable_and_not_missing() -> None:
    record = {b"a": Entry(b"1"), b"fen/a": Entry(b"22"), b"fen/b": Entry(b"33")}
    with tempfile.TemporaryDirectory() as directory:
        tree = looked_at({b"a": record[b"a"], b"fen/none": Entry(), b"lost/none": Entry()}, os.fsencode(directory))
        for closed in (b"fen", b"lost"):
            del tree.entries[closed + b"/none"]
            tree.unread[closed] = Fault.DENIED
        verdicts = verdicts_on(record, tree, contents=True)
    found = {each.path: each.finding for each in verdicts.found}
    assert found == {
        b"a": Finding.SAME,
        b"fen/a": Finding.UNREADABLE,
        b"fen/b": Finding.UNREADABLE,
        b"fen": Finding.NOT_LISTED,
        b"lost": Finding.NOT_LISTED,
    }
    assert not verdicts.good


def test_what_differs_is_said_of_mode_and_time_both_and_of_contents_alone() -> None:
    record = {b"a": Entry(b"1"), b"b": Entry(b"1"), b"c": Entry(b"1"), b"d": Entry(b"1")}
    there = {
        b"a": Entry(b"1", mode=0o600, time_ns=_TIME + _STEP),
        b"b": Entry(b"1", mode=0o600),
        b"c": Entry(b"2", mode=0o600, time_ns=_TIME + _STEP),
        b"d": Entry(b"22", mode=0o600),
    }
    with tempfile.TemporaryDirectory() as directory:
        verdicts = verdicts_on(record, looked_at(there, os.fsencode(directory)), contents=True)
    assert {each.path: each.detail for each in verdicts.found} == {
        b"a": "mode 0600, not 0644, another modification time",
        b"b": "mode 0600, not 0644",
        b"c": "other contents of the same size",
        b"d": "2 bytes, not 1",
    }
