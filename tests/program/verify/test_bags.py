"""Bags by RFC 8493: those that are made are valid, and each thing that is wrong with one is named with its clause."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Far, Program

FILES = {"a.csv": "1\n", "sub/50% new.csv": "2\n", "sub/of\nlines": "3\n", "sub/föhn.csv": ""}


@pytest.fixture
def bag(program: Program) -> Path:
    """A valid bag, with manifests of two algorithms."""
    fen = program.directory / "fen"
    for name, text in FILES.items():
        (fen / name).parent.mkdir(parents=True, exist_ok=True)
        (fen / name).write_text(text)
    program("bag", "make", "fen", "--algorithm", "sha256", "--algorithm", "md5", "--info", "Contact-Name: the group")
    return program.directory / "fen-bag"


def edit(name: str, old: str, new: str) -> Callable[[Path], None]:
    """Change a tag file; the tag manifests, which would say so too, go."""

    def change(bag: Path) -> None:
        for manifest in bag.glob("tagmanifest-*.txt"):
            manifest.unlink()
        text = (bag / name).read_bytes().decode()
        assert old in text
        (bag / name).write_bytes(text.replace(old, new).encode())

    return change


def add(name: str, text: str) -> Callable[[Path], None]:
    def change(bag: Path) -> None:
        for manifest in bag.glob("tagmanifest-*.txt"):
            manifest.unlink()
        with (bag / name).open("ab") as file:
            file.write(text.encode())

    return change


def without(*names: str) -> Callable[[Path], None]:
    def change(bag: Path) -> None:
        for name in names:
            (bag / name).unlink()

    return change


def emptied(bag: Path) -> None:
    shutil.rmtree(bag / "data")


def other_contents(bag: Path) -> None:
    (bag / "data" / "a.csv").write_text("9\n")


def tag_changed(bag: Path) -> None:
    (bag / "bag-info.txt").write_text((bag / "bag-info.txt").read_text() + "More: said\n")


def with_link(bag: Path) -> None:
    (bag / "data" / "link").symlink_to("a.csv")


def unlisted(bag: Path) -> None:
    (bag / "data" / "more.csv").write_text("")


def other_encoding(bag: Path) -> None:
    edit("bag-info.txt", "the group", "the gr\N{LATIN SMALL LETTER O WITH DIAERESIS}up")(bag)
    data = (bag / "bag-info.txt").read_bytes().replace("\N{LATIN SMALL LETTER O WITH DIAERESIS}".encode(), b"\xf6")
    (bag / "bag-info.txt").write_bytes(data)


HEX = "0" * 64


TAGS = ("tagmanifest-sha256.txt", "tagmanifest-md5.txt")


#: What is done to a bag, the clause that it breaks, and what is said of it.
BROKEN: list[tuple[Callable[[Path], object], str, str]] = [
    (without("bagit.txt", *TAGS), "2.1.1", "there is no bagit.txt"),
    (edit("bagit.txt", "BagIt-Version: 1.0\n", ""), "2.1.1", "the two lines"),
    (add("bagit.txt", "More: lines\n"), "2.1.1", "the two lines"),
    (edit("bagit.txt", "BagIt-Version", "\ufeffBagIt-Version"), "2.1.1", "byte order mark"),
    (edit("bagit.txt", "1.0", "7.3"), "2.1.1", "version 7.3 is not known"),
    (edit("bagit.txt", "UTF-8", "UTF-99"), "2.1.1", "encoding UTF-99"),
    (emptied, "2.1.2", "no directory data/"),
    (with_link, "2.1.2", "a link has no contents"),
    (without("manifest-sha256.txt", "manifest-md5.txt", *TAGS), "2.1.3", "no payload manifest"),
    (unlisted, "2.1.3", "does not list it"),
    (add("manifest-sha256.txt", "nonsense\n"), "2.1.3", "not a line"),
    (add("manifest-sha256.txt", f"{HEX}  data/a.csv\n"), "2.1.3", "listed twice"),
    (add("manifest-sha256.txt", f"{HEX}  bagit.txt\n"), "2.1.3", "only what is in data/"),
    (add("manifest-sha256.txt", f"{HEX}  data/../../etc/passwd\n"), "5.1", "leads out"),
    (add("manifest-sha256.txt", f"{HEX}  /etc/passwd\n"), "5.1", "leads out"),
    (add("manifest-sha256.txt", f"{HEX}  ~/x\n"), "5.1", "leads out"),
    (add("manifest-sha256.txt", f"{HEX}  data/gone.csv\n"), "3", "it is not there"),
    (edit("manifest-sha256.txt", hashlib.sha256(b"1\n").hexdigest(), "abc"), "2.4", "no checksum of sha256"),
    (add("manifest-tiger.txt", "00  data/a.csv\n"), "2.4", "algorithm tiger is not known"),
    (edit("manifest-md5.txt", "%25", "%"), "2.1.3", "must be written as %25"),
    (lambda bag: (bag / "tagmanifest-md5.txt").write_text(f"{'0' * 32}  data/a.csv\n"), "2.2.1", "must not list"),
    (tag_changed, "3", "not those that tagmanifest"),
    (other_contents, "3", "not those that manifest"),
    (edit("bag-info.txt", "Contact-Name: ", "Contact-Name "), "2.2.2", "not a line of a label"),
    (edit("bag-info.txt", "Payload-Oxum: 6.4", "Payload-Oxum: 6.5"), "2.2.2", "data/ holds 6.4"),
    (edit("bag-info.txt", "Payload-Oxum: 6.4", "Payload-Oxum: six"), "2.2.2", "BYTES.FILES"),
    (add("bag-info.txt", "payload-oxum: 6.4\n"), "2.2.2", "must not be there twice"),
    (other_encoding, "2.3", "not in the encoding"),
    (add("fetch.txt", "https://fen.example/x data/x.csv\n"), "2.2.3", "not a line of a URL"),
    (add("fetch.txt", "https://fen.example/x 3 data/x.csv\n"), "2.2.3", "a payload manifest does not"),
    (add("fetch.txt", "https://fen.example/x - bagit.txt\n"), "2.2.3", "only what belongs in data/"),
]


def test_whatever_is_wrong_is_named_with_its_clause(program: Program, bag: Path) -> None:
    assert program.json("bag", "check", "fen-bag")["valid"]
    assert len(BROKEN) > 20
    wrong = []
    for number, (change, clause, why) in enumerate(BROKEN):
        broken = program.directory / f"broken-{number}"
        shutil.copytree(bag, broken, symlinks=True)
        change(broken)
        answer = program.json("bag", "check", broken.name, expect=1)
        assert not answer["valid"]
        if not any(each["clause"] == clause and why in each["reason"] for each in answer["problems"]):
            wrong.append((number, clause, why, answer["problems"]))
    assert not wrong, wrong
    said = program("bag", "check", "broken-22", expect=1).stdout
    assert "complete, but NOT VALID" in said and "RFC 8493, 3  data/a.csv: its contents" in said


@pytest.mark.kept("openssh")
def test_a_bag_on_a_node_and_in_an_archive(program: Program, far: Far, bag: Path) -> None:
    assert bag.stat().st_mode & 0o777 and not list(program.directory.glob(".yatagan-*"))
    program("stage", "fen-bag", f"{far.name}:")
    answer = program.json("bag", "check", f"{far.name}:fen-bag")
    assert answer["valid"] and answer["files"] == 4 and answer["evidence"] == {"on-node": 4}
    assert {entry["label"]: entry["value"] for entry in answer["info"]}["Payload-Oxum"] == "6.4"
    program("bundle", "make", "fen-bag")
    subprocess.run(["tar", "caf", "bag.tar.gz", "fen-bag"], cwd=program.directory, check=True)
    shutil.make_archive(str(program.directory / "bag"), "zip", program.directory, "fen-bag")
    for archive in ("fen-bag.tar.zst", "bag.tar.gz", "bag.zip"):
        assert program.json("bag", "check", archive)["valid"], archive
    subprocess.run(["tar", "caf", "flat.tar", "-C", "fen-bag", "."], cwd=program.directory, check=True)
    (problem,) = program.json("bag", "check", "flat.tar", expect=1)["problems"]
    assert problem["clause"] == "4.2" and "one directory" in problem["reason"]
    (far.root / "fen-bag" / "data" / "a.csv").write_text("9\n")
    answer = program.json("bag", "check", f"{far.name}:fen-bag", expect=1)
    assert answer["complete"] and {each["path"] for each in answer["problems"]} == {"data/a.csv"}


def test_what_is_to_be_fetched_is_reported(program: Program, bag: Path) -> None:
    for manifest in bag.glob("tagmanifest-*.txt"):
        manifest.unlink()
    (bag / "data" / "a.csv").unlink()
    (bag / "fetch.txt").write_text("https://fen.example/a.csv 2 data/a.csv\n")
    answer = program.json("bag", "check", "fen-bag", expect=1)
    assert answer["to_fetch"] == [{"path": "data/a.csv", "url": "https://fen.example/a.csv"}]
    assert all("fetched from https://fen.example/a.csv" in each["reason"] for each in answer["problems"])
    assert "not fetched" in program("bag", "check", "fen-bag", expect=1).stdout


def test_the_bag_of_the_standard_and_an_older_one(program: Program) -> None:
    """As the RFC shows one (4.1), with its spaces, CR and folded lines; and 0.97, where a percent sign is one."""
    bag = program.directory / "myfirstbag"
    (bag / "data").mkdir(parents=True)
    (bag / "data" / "27613-h.htm").write_bytes(b"<h1>27613</h1>")
    (bag / "bagit.txt").write_bytes(b"BagIt-Version: 1.0\r\nTag-File-Character-Encoding: UTF-8\r\n")
    digest = hashlib.md5(b"<h1>27613</h1>").hexdigest()
    (bag / "manifest-md5.txt").write_bytes(f"{digest} \t data/27613-h.htm\r".encode())
    (bag / "bag-info.txt").write_bytes(b"Source-Organization: FEN\r\nExternal-Description: peat\r\n   of the bog\r\n")
    answer = program.json("bag", "check", "myfirstbag")
    assert answer["valid"] and {"label": "External-Description", "value": "peat of the bog"} in answer["info"]
    (bag / "bagit.txt").write_text("BagIt-Version: 0.97\nTag-File-Character-Encoding: UTF-8\n")
    (bag / "data" / "50%25").write_bytes(b"x")
    with (bag / "manifest-md5.txt").open("ab") as file:
        file.write(f"\n{hashlib.md5(b'x').hexdigest()} *data/50%25\n".encode())
    assert program.json("bag", "check", "myfirstbag")["valid"]


def test_what_no_bag_is_made_of(program: Program, bag: Path) -> None:
    taken = program("bag", "make", "fen", expect=None)
    assert taken.returncode != 0 and "fen-bag" in taken.stderr
    (program.directory / "fen" / "link").symlink_to("a.csv")
    assert (
        "a bag holds files alone, and link is none" in program("bag", "make", "fen", "--output", "b", expect=5).stderr
    )
    program("bag", "make", "fen", "--output", "b", "--skip", "link")
    assert program.json("bag", "check", "b")["valid"]
    (program.directory / "fen" / "link").unlink()
    Path(os.fsdecode(os.fsencode(program.directory / "fen") + b"/\xff")).write_text("")
    assert "names are UTF-8" in program("bag", "make", "fen", "--output", "c", expect=5).stderr
    assert "in the directory" in program("bag", "make", "fen", "--output", "fen/c", expect=2).stderr
    assert "not LABEL: VALUE" in program("bag", "make", "fen", "--info", "nonsense", expect=2).stderr
