"""`yatagan compare`: what is only on one side, the same, or different in what; and the same of archives."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from conftest import Far, Program


def survey(fen: Path, plots: int = 8, each: int = 30) -> None:
    for plot in range(plots):
        directory = fen / f"plot-{plot:02}"
        directory.mkdir(parents=True)
        for number in range(each):
            (directory / f"flux-{number:02}.csv").write_text(f"{plot},{number}\n" * 50)
            os.utime(directory / f"flux-{number:02}.csv", (1_600_000_000, 1_600_000_000))
        (directory / "latest").symlink_to("flux-00.csv")


def seven_changes(fen: Path) -> None:
    flipped = fen / "plot-01" / "flux-03.csv"
    data = bytearray(flipped.read_bytes())
    data[50] ^= 1
    flipped.write_bytes(data)
    os.utime(flipped, (1_600_000_000, 1_600_000_000))
    (fen / "plot-02" / "flux-05.csv").unlink()
    (fen / "plot-03" / "extra.csv").write_text("new\n")
    os.truncate(fen / "plot-04" / "flux-00.csv", 100)
    (fen / "plot-05" / "latest").unlink()
    (fen / "plot-05" / "latest").symlink_to("flux-01.csv")
    (fen / "plot-06" / "flux-09.csv").chmod(0o600)
    (fen / "plot-07" / "flux-11.csv").rename(fen / "plot-00" / "flux-77.csv")


def told(answer: dict[str, Any]) -> set[tuple[str, str, str]]:
    return {(entry["path"], entry["outcome"], " ".join(entry["differs"])) for entry in answer["entries"]}


SEVEN = {
    ("plot-01/flux-03.csv", "different", "contents"),
    ("plot-02/flux-05.csv", "only_first", ""),
    ("plot-03/extra.csv", "only_second", ""),
    ("plot-04/flux-00.csv", "different", "size time"),
    ("plot-05/latest", "different", "target"),
    ("plot-06/flux-09.csv", "facts_differ", "mode"),
    ("plot-07/flux-11.csv", "moved", ""),
}


@pytest.mark.kept("openssh")
def test_exactly_what_was_changed_is_named(program: Program, far: Far) -> None:
    survey(program.directory / "fen")
    program("stage", "fen", f"{far.name}:campaign")
    there = f"{far.name}:campaign/fen"
    for by in ("digest", "size-and-time"):
        answer = program.json("compare", "fen", there, "--by", by)
        assert answer["same"] and answer["totals_agree"] and answer["entries"] == []
    seven_changes(far.root / "campaign" / "fen")
    answer = program.json("compare", "fen", there, "--by", "digest", expect=1)
    assert told(answer) == SEVEN
    moved = next(entry for entry in answer["entries"] if entry["outcome"] == "moved")
    assert moved["new_path"] == "plot-00/flux-77.csv"
    assert answer["first"]["digests_made"] == "read-here" and answer["second"]["digests_made"] == "on-node"
    assert (
        answer["outcomes"]["same"]["count"] == 8 * 32 - 6 + 1
    )  # directories, links and files, but for those, and the root
    quick = program.json("compare", "fen", there, expect=1)
    assert {path for path, _, _ in told(quick)} == {path for path, _, _ in SEVEN} - {"plot-01/flux-03.csv"} | {
        "plot-00/flux-77.csv"
    }
    said = program("compare", "fen", there, expect=1).stdout
    assert "a change that keeps both is not seen" in said and "only there" in said
    # From the other side the same is told.
    back = {
        (path, outcome) for path, outcome, _ in told(program.json("compare", there, "fen", "--by", "digest", expect=1))
    }
    swap = {"only_first": "only_second", "only_second": "only_first"}
    assert {(path, swap.get(outcome, outcome)) for path, outcome in back if outcome != "moved"} == {
        (path, outcome) for path, outcome, _ in SEVEN if outcome != "moved"
    }


def test_against_its_record_exactly_that_is_named(program: Program, oak: Far) -> None:
    survey(program.directory / "fen")
    program("stage", "fen", "oak:")
    program("checksums", "oak:fen")
    seven_changes(oak.root / "fen")
    answer = program.json("verify", "oak:fen", expect=1)
    listed = {(entry["path"], entry["verdict"]) for entry in answer["entries"]}
    words = {"only_first": "missing", "only_second": "not listed", "facts_differ": "facts differ"}
    assert listed == {(path, words.get(outcome, outcome)) for path, outcome, _ in SEVEN}
    (oak.root / "fen" / "SHA256SUMS.facts.jsonl").unlink()
    answer = program.json("verify", "oak:fen", expect=1)
    assert {(entry["path"], entry["verdict"]) for entry in answer["entries"]} == {
        ("plot-01/flux-03.csv", "different"),
        ("plot-02/flux-05.csv", "missing"),
        ("plot-04/flux-00.csv", "different"),
        ("plot-07/flux-11.csv", "missing"),
        ("plot-00/flux-77.csv", "not listed"),
        ("plot-03/extra.csv", "not listed"),
    } | {(f"plot-{plot:02}/latest", "not listed") for plot in range(8)}
    assert "modes, times, links and directories could not be checked" in program("verify", "oak:fen", expect=1).stdout


def test_a_directory_that_is_one_thing_is_one_line(program: Program) -> None:
    fen, other = program.directory / "fen", program.directory / "other"
    survey(fen)
    shutil.copytree(fen, other, symlinks=True)
    (other / "plot-01").rename(other / "plot-one")
    shutil.rmtree(other / "plot-02")
    shutil.copytree(fen / "plot-03", other / "plot-13", symlinks=True)
    said = program("compare", "fen", "other", "--by", "digest", expect=1).stdout
    assert "only in the first   plot-02/  (30 files, " in said
    assert "only in the second  plot-13/  (30 files, " in said
    assert "moved               plot-01/ → plot-one/  (30 files, " in said
    assert said.count("flux-") == 0
    assert program("compare", "fen", "other", "--by", "digest", "--all", expect=1).stdout.count("flux-") == 120
    chosen = program.json("compare", "fen", "other", "--only", "plot-00", "--skip", "latest")
    assert chosen["same"] and chosen["first"]["files"] == 30
    assert not program.json(
        "compare", "fen/plot-00/flux-01.csv", "other/plot-00/flux-02.csv", "--by", "digest", expect=1
    )["same"]


@pytest.mark.parametrize("form", ["stored", "bundle", "tar", "tar.gz", "zip"])
@pytest.mark.parametrize("where", ["here", "there"])
def test_an_archive_is_a_side_like_any_other(program: Program, oak: Far, form: str, where: str) -> None:
    fen = program.directory / "fen"
    survey(fen, plots=3, each=5)
    directory = program.directory if where == "here" else oak.root
    match form:
        case "stored":
            if where == "here":
                pytest.skip("a bundle is stored on nodes")
            program("stage", "fen", "oak:", "--store", "bundle")
            archive = "fen"
        case "bundle":
            archive = "fen.tar.zst"
            program("bundle", "make", "fen")
            for name in (archive, archive + ".members.jsonl"):
                shutil.move(program.directory / name, directory / name)
        case "tar" | "tar.gz":
            archive = f"fen.{form}"
            pack = ["tar", "caf", str(directory / archive), "-C", str(program.directory if form == "tar" else fen)]
            subprocess.run([*pack, "fen" if form == "tar" else "."], check=True)
        case _:
            archive = "fen.zip"
            for link in fen.rglob("latest"):
                link.unlink()
            shutil.make_archive(str(directory / "fen"), "zip", program.directory, "fen")
    place = archive if where == "here" else f"oak:{archive}"
    answer = program.json("compare", "fen", place, "--by", "digest")
    assert answer["same"] and answer["second"]["files"] == 15
    if where == "there":
        assert answer["second"]["digests_made"] == ("read-back" if form == "zip" else "on-node")
    assert program.json("compare", "fen", place)["same"]
    assert program.json("compare", place, place, "--by", "digest")["same"]
    (fen / "plot-01" / "flux-02.csv").write_text("1,2\n" * 49 + "1,3\n")
    os.utime(fen / "plot-01" / "flux-02.csv", (1_600_000_000, 1_600_000_000))
    assert told(program.json("compare", "fen", place, "--by", "digest", expect=1)) == {
        ("plot-01/flux-02.csv", "different", "contents")
    }
    assert program.json("compare", "fen", place)["same"]


def test_what_cannot_be_read_says_nothing(program: Program) -> None:
    fen, other = program.directory / "fen", program.directory / "other"
    survey(fen, plots=2, each=3)
    shutil.copytree(fen, other, symlinks=True)
    (other / "x.tar").write_bytes(b"")
    (fen / "x.tar").write_bytes(b"")
    if os.geteuid() == 0:
        pytest.skip("root may read everything")
    (other / "plot-01").chmod(0)
    answer = program.json("compare", "fen", "other", expect=1)
    (other / "plot-01").chmod(0o755)
    assert told(answer) == {("plot-01", "unreadable", "")}
    assert "there is no such file" in program("compare", "fen", "nowhere", expect=None).stderr
