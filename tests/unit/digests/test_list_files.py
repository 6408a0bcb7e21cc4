"""Checksum lists of our own form."""

from __future__ import annotations

import os
import subprocess

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from random_names import NAME
from yatagan.digests.any_lists import own_list
from yatagan.digests.checksum_lists import Listed, format_line
from yatagan.errors import BadList

LEGAL = NAME.filter(lambda name: name not in (b".", b".."))


DIGEST = "0123456789abcdef" * 4


@given(st.lists(LEGAL, unique=True, min_size=1))
def test_a_list_reads_back(names: list[bytes]) -> None:
    data = b"".join(format_line(name, DIGEST) for name in names)
    assert own_list(data, "list") == [Listed(name, DIGEST) for name in names]


@settings(max_examples=40, deadline=None)
@given(names=st.lists(LEGAL, min_size=1, max_size=8, unique=True))
def test_the_standard_command_reads_our_lists(names: list[bytes], tmp_path_factory: pytest.TempPathFactory) -> None:
    directory = os.fsencode(tmp_path_factory.mktemp("list"))
    empty = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
    for name in names:
        with open(os.path.join(directory, name), "wb"):
            pass
    data = b"".join(format_line(name, empty) for name in names)
    done = subprocess.run(
        ["sha256sum", "--strict", "--quiet", "-c", "/dev/stdin"], cwd=directory, input=data, check=False
    )
    assert done.returncode == 0


@pytest.mark.parametrize(
    "line",
    [
        b"nonsense",
        b"abcd  short",
        DIGEST.encode() + b"  ../up",
        DIGEST.encode() + b"  /root",
        b"\\" + DIGEST.encode() + b"  bad\\escape",
        DIGEST.encode() + b"  a/../../b",
    ],
)
def test_lists_that_cannot_be_trusted(line: bytes) -> None:
    with pytest.raises(BadList):
        own_list(line + b"\n", "list")
