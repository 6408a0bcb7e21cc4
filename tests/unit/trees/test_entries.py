"""Entries of a tree, and comparing them by facts."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from yatagan.stores.interface import Facts, Kind
from yatagan.trees.compare import Verdict, compare
from yatagan.trees.entries import Entries
from yatagan.trees.scan import Tree

#: Names as a tree has them, some of which are in directories.
paths = st.lists(st.sampled_from([b"a", b"a-", b"ab", b"b", b"\x01", b"\xff"]), max_size=4).map(b"/".join)


facts = st.builds(
    Facts,
    st.sampled_from(Kind),
    st.integers(0),
    st.integers(),
    st.integers(0, 0o7777),
    st.integers(),
    st.integers(0),
)


@given(st.dictionaries(paths, st.one_of(facts, facts.map(lambda each: replace(each, changed_ns=None, inode=None)))))
def test_entries_are_a_dictionary_with_an_order(given_: dict[bytes, Facts]) -> None:
    entries = Entries(given_)
    assert dict(entries.items()) == given_ and len(entries) == len(given_)
    assert all(path in entries and entries.get(path) == found for path, found in given_.items())
    for kind in Kind:
        assert list(entries.of_kind(kind)) == [path for path, found in given_.items() if found.kind is kind]
    assert entries.get(b"c") is None and b"c" not in entries
    assert entries.in_order() == sorted(given_, key=lambda path: path.split(b"/"))
    for path in list(given_):
        del entries[path]
    assert not entries


def test_comparing_by_facts() -> None:
    second = 10**9
    old, new = Facts(Kind.FILE, 5, 7 * second + 3, 0o644, 7 * second, 1), Facts(Kind.FILE, 5, 7 * second, 0o600)
    top = Facts(Kind.DIRECTORY, 0, 0, 0o755)
    here = Tree(b"/a", Entries({b"": top, b"same": old, b"gone": old, b"size": old, b"kind": old}))
    there = Tree(
        b"/b",
        Entries(
            {
                b"": Facts(Kind.DIRECTORY, 0, 1, 0o700),
                b"same": new,
                b"size": Facts(Kind.FILE, 6, 7 * second, 0),
                b"kind": Facts(Kind.DIRECTORY, 0, 0, 0o755),
            }
        ),
    )

    def verdicts(step_ns: int, fresh: int | None) -> dict[bytes, Verdict]:
        return {found.path: found.verdict for found in compare(here, there, step_ns=step_ns, fresh_since_ns=fresh)}

    coarse = verdicts(second, None)
    assert coarse == {
        b"": Verdict.SAME,
        b"same": Verdict.SAME,
        b"gone": Verdict.NEW,
        b"size": Verdict.DIFFERENT,
        b"kind": Verdict.IN_THE_WAY,
    }
    assert verdicts(1, None)[b"same"] is Verdict.DIFFERENT
    assert verdicts(second, 6 * second)[b"same"] is Verdict.UNDECIDED
