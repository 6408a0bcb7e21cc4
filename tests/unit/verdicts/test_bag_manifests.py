"""Manifests of bags."""

from __future__ import annotations

import hashlib

from hypothesis import given
from hypothesis import strategies as st

from yatagan.stores.interface import Facts, Kind
from yatagan.trees.entries import Entries
from yatagan.trees.scan import Tree
from yatagan.verdicts.bags import declaration, info_of, manifest_of, read_bag

NAMES = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="/\0"), min_size=1, max_size=8)


@given(names=st.sets(NAMES.filter(lambda name: name.strip("."))), algorithm=st.sampled_from(["md5", "sha512"]))
def test_manifests_read_back(names: set[str], algorithm: str) -> None:
    """Any name but what would lead out of the bag."""
    paths = [b"data/" + name.encode() for name in sorted(names)]
    digests = {path: hashlib.new(algorithm, path).hexdigest() for path in paths}
    entries = Entries({path: Facts(Kind.FILE, 1, 0, 0o644) for path in paths})
    entries[b"data"] = Facts(Kind.DIRECTORY, 0, 0, 0o755)
    texts = {
        b"bagit.txt": declaration(),
        f"manifest-{algorithm}.txt".encode(): manifest_of(digests.items()),
        b"bag-info.txt": info_of([("Payload-Oxum", f"{len(paths)}.{len(paths)}")]),
    }
    read = read_bag(Tree(b"/", entries), texts)
    assert not read.problems and read.manifests[0].digests == digests
