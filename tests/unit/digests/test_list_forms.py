"""Checksum lists of any open form: read as they are meant, and refused where that cannot be known."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.digests.algorithms import ALGORITHMS, hasher
from yatagan.digests.any_lists import Reading, read_list
from yatagan.digests.checksum_lists import Listed
from yatagan.errors import BadList, NoPlace

NAMES = st.binary(min_size=1, max_size=12).filter(
    lambda name: not set(name) & set(b"/\0") and name not in (b".", b"..")
)


def escaped(path: bytes) -> tuple[bytes, bytes]:
    """The mark at the front of a line, and the path as the standard commands write it."""
    plain = path.replace(b"\\", b"\\\\").replace(b"\n", b"\\n").replace(b"\r", b"\\r")
    return (b"\\", plain) if plain != path else (b"", path)


def gnu(algorithm: str, path: bytes, digest: str) -> bytes:
    mark, path = escaped(path)
    return mark + digest.encode() + b"  " + path


def binary(algorithm: str, path: bytes, digest: str) -> bytes:
    mark, path = escaped(path)
    return mark + digest.upper().encode() + b" *" + path


def bsd(algorithm: str, path: bytes, digest: str) -> bytes:
    mark, path = escaped(path)
    return mark + algorithm.upper().encode() + b" (" + path + b") = " + digest.encode()


@given(
    names=st.lists(NAMES, min_size=1, max_size=5, unique=True),
    form=st.sampled_from([gnu, binary, bsd]),
    algorithm=st.sampled_from([each.name for each in ALGORITHMS]),
    crlf=st.booleans(),
    said=st.booleans(),
)
def test_every_form_reads_back(names: list[bytes], form: Any, algorithm: str, crlf: bool, said: bool) -> None:
    """By a tag, by the list's name, or by what the user says; and names of any bytes."""
    value = hasher(algorithm)
    value.update(b"methane")
    digest = value.hexdigest()
    if b"\r" in b"".join(names):
        crlf = False  # it could be part of a name
    if form is not bsd and any(name.startswith((b" ", b"*", b"#", b";")) for name in names):
        return
    end = b"\r\n" if crlf else b"\n"
    data = b"".join(form(algorithm, name, digest) + end for name in names)
    spelled = "list.txt" if said or form is bsd else f"fen.{algorithm}"
    found = read_list(data, spelled, Reading(algorithm if said else None))
    assert found.lines == [Listed(name, digest, algorithm) for name in names]
    assert found.crlf == crlf and not found.contradictions


SHA256, BLAKE3 = "a" * 64, "b" * 64


@pytest.mark.parametrize(
    ("data", "name", "reading", "why"),
    [
        (f"{SHA256}  ../a\n", "SHA256SUMS", Reading(), "leads out"),
        (f"{SHA256}  /data/fen/a\n", "SHA256SUMS", Reading(), "leads out"),
        (f"{SHA256}  a/b\n", "SHA256SUMS", Reading(drop=2), "leads out"),
        (f"{SHA256}  a/b\n", "SHA256SUMS", Reading(below=b"c"), "names nothing"),
        (f"WHIRLPOOL (a) = {SHA256}\n", "list", Reading(), "we do not know"),
        (f"MD5 (a) = {SHA256}\n", "list", Reading(), "no digest of MD5"),
        ("\\" + SHA256 + "  a\\q\n", "SHA256SUMS", Reading(), "escapes nothing"),
        ("nonsense\n", "SHA256SUMS", Reading(), "not a line"),
        ("# only a comment\n", "SHA256SUMS", Reading(), "names no file"),
    ],
)
def test_what_cannot_be_read_as_meant_is_refused(data: str, name: str, reading: Reading, why: str) -> None:
    with pytest.raises((BadList, NoPlace)) as refused:
        read_list(data.encode(), name, reading)
    assert why in str(refused.value)


def test_paths_of_others() -> None:
    data = f"{SHA256}  /data/fen/raw/a.csv\n{BLAKE3}  /data/fen/old/a.csv\n{BLAKE3}  ./other/b.csv\n".encode()
    below = read_list(data, "SHA256SUMS", Reading(below=b"/data/fen/raw"))
    assert below.lines == [Listed(b"a.csv", SHA256)]
    dropped = read_list(b"".join(data.splitlines(keepends=True)[:2]), "SHA256SUMS", Reading(drop=4))
    assert [line.path for line in dropped.lines] == [b"a.csv", b"a.csv"] and dropped.contradictions == {b"a.csv"}
    some = read_list(f"{SHA256}  a\r\n{SHA256}  b\n".encode(), "SHA256SUMS", Reading())
    assert [line.path for line in some.lines] == [b"a\r", b"b"] and not some.crlf
