"""Two trees side by side: every entry counted once, and in groups that hold what they say."""

from __future__ import annotations

import posixpath
from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from yatagan.stores.interface import Facts, Kind
from yatagan.trees.entries import Entries
from yatagan.trees.scan import Tree
from yatagan.verdicts.comparison import Comparison, Digests, Outcome, compare, to_hash
from yatagan.verdicts.groups import grouped

names = st.sampled_from([b"a", b"a-b", b"b", b"c.csv"])


#: (path, contents): a size is a content's length; there are few, so that files are found again.
files = st.dictionaries(
    st.lists(names, min_size=1, max_size=3).map(b"/".join), st.sampled_from([b"", b"1", b"22", b"33", b"444"])
)


@st.composite
def pairs(draw: st.DrawFn) -> tuple[dict[bytes, bytes], dict[bytes, bytes]]:
    """Two trees: unlike each other, or the second is the first with some directories under other names, and edits."""
    one = draw(files)
    if draw(st.booleans()):
        return one, draw(files)
    other = dict(one)
    for _ in range(draw(st.integers(1, 3))):
        old, new = draw(names), b"/".join(draw(st.lists(names, min_size=1, max_size=2)))
        moved = {path: new + path[len(old) :] for path in other if path.startswith(old + b"/")}
        other = {moved.get(path, path): data for path, data in other.items()}
    return one, {**other, **(draw(files) if draw(st.booleans()) else {})}


def tree_of(contents: dict[bytes, bytes]) -> tuple[Tree, dict[bytes, bytes]]:
    """A tree with these files, but of those below other files, and with the directories above them."""
    kept = {path: data for path, data in contents.items() if not any(_above(path) & {other} for other in contents)}
    facts = {path: Facts(Kind.FILE, len(data), 0, 0o644) for path, data in kept.items()}
    for path in kept:
        facts.update({above: Facts(Kind.DIRECTORY, 0, 0, 0o755) for above in _above(path)})
    return Tree(b"/", Entries({b"": Facts(Kind.DIRECTORY, 0, 0, 0o755), **facts})), kept


def _above(path: bytes) -> set[bytes]:
    found = set()
    while path := posixpath.dirname(path):
        found.add(path)
    return found


def compared(one: dict[bytes, bytes], other: dict[bytes, bytes]) -> tuple[Comparison, list[dict[bytes, bytes]]]:
    (first, ours), (second, theirs) = tree_of(one), tree_of(other)
    wanted = to_hash(first, second)
    digests = [
        Digests({path: data[path].decode() for path in paths}, {})
        for data, paths in zip((ours, theirs), wanted, strict=True)
    ]
    return compare(first, second, (digests[0], digests[1]), step_ns=1), [ours, theirs]


@given(pair=pairs())
def test_every_file_is_accounted_for_once(pair: tuple[dict[bytes, bytes], dict[bytes, bytes]]) -> None:
    comparison, (ours, theirs) = compared(*pair)
    left, right = Counter(ours.items()), Counter(theirs.items())
    for entry in comparison.entries:
        match entry.outcome:
            case Outcome.MOVED if entry.path in ours:
                assert ours[entry.path] == theirs[entry.new_path]
                del left[entry.path, ours[entry.path]], right[entry.new_path, theirs[entry.new_path]]
            case Outcome.ONLY_FIRST if entry.path in ours:
                del left[entry.path, ours[entry.path]]
            case Outcome.ONLY_SECOND if entry.path in theirs:
                del right[entry.path, theirs[entry.path]]
            case Outcome.DIFFERENT:
                left.pop((entry.path, ours.get(entry.path, b"")), None)
                right.pop((entry.path, theirs.get(entry.path, b"")), None)
    assert +left == +right, "what is not said to differ is the same"
    assert comparison.same == (ours == theirs)


@given(pair=pairs())
def test_every_entry_is_counted_once_on_each_side(pair: tuple[dict[bytes, bytes], dict[bytes, bytes]]) -> None:
    """Directories, too: one that was left empty, or has another name now, is neither lost nor counted twice."""
    comparison, _ = compared(*pair)
    on_both = sum(
        many for outcome, many in comparison.counts.items() if outcome not in (Outcome.ONLY_FIRST, Outcome.ONLY_SECOND)
    )
    assert on_both + comparison.counts[Outcome.ONLY_FIRST] == len(list(comparison.first.entries))
    assert on_both + comparison.counts[Outcome.ONLY_SECOND] == len(list(comparison.second.entries))
    new = [entry.new_path for entry in comparison.entries if entry.outcome is Outcome.MOVED]
    assert len(new) == len(set(new)) and not set(new) & set(comparison.first.entries)


@given(pair=pairs())
def test_groups_hold_what_they_say(pair: tuple[dict[bytes, bytes], dict[bytes, bytes]]) -> None:
    comparison, _ = compared(*pair)
    entries = {entry.path: entry for entry in comparison.entries}
    seen = set[bytes]()
    for group in grouped(comparison):
        if not group.is_whole:
            inside = {group.path}
        else:
            start = group.path + b"/" if group.path else b""
            inside = {path for path in entries if path.startswith(start)}
            own = entries.get(group.path)
            if own is not None and not (group.outcome is Outcome.MOVED and own.outcome is Outcome.ONLY_FIRST):
                inside.add(group.path)  # and not where it was left, empty
            there = {path for tree in (comparison.first, comparison.second) for path in tree.entries}
            came = {entry.new_path for entry in comparison.entries}
            alone = {path for path in there if path.startswith(start) and path not in entries and path not in came}
            assert all(_is_directory(comparison, path) for path in alone), "something in it is the same"
        assert {entries[path].outcome for path in inside} == {group.outcome}
        assert group.entries == len(inside)
        assert not seen & inside
        seen |= inside
    assert seen == set(entries)


def _is_directory(comparison: Comparison, path: bytes) -> bool:
    return any(
        path in tree.entries and tree.entries[path].kind is Kind.DIRECTORY
        for tree in (comparison.first, comparison.second)
    )
