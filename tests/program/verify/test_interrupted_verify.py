"""`verify --resume`: what an interrupted run has read counts for a day, as long as its file has not moved."""

from __future__ import annotations

from conftest import Practice, Program


def test_a_lost_connection_is_no_reason_to_begin_again(program: Program, practice: Practice) -> None:
    program.know(practice.far())
    root = program.directory / "fen"
    root.mkdir()
    for number in range(600):
        (root / f"flux-of-chamber-{number:03}.csv").write_text(f"{number}\n" * 20)
    program("stage", "fen", "heron:")
    program("checksums", "heron:fen")
    practice.wrong("heron", **{"cut-after": "90kB"})
    without = program("verify", "heron:fen", expect=3)
    assert "the connection was lost" in without.stderr
    practice.wrong("heron", **{"cut-after": "90kB"})
    done = program("verify", "heron:fen", "--resume", "--processes", "3", "--json")
    assert '"good": true' in done.stdout and "logging in again" in done.stderr


def test_a_login_node_gives_two_processors(program: Program, practice: Practice) -> None:
    program.know(practice.far("dunlin"))
    (program.directory / "a.csv").write_text("a\n")
    program("stage", "a.csv", "dunlin:")
    program("checksums", "dunlin:a.csv")
    told = program("verify", "dunlin:a.csv", "--processes", "8").stderr
    assert "dunlin is made for logging in: 2 processors work on this, not 8" in told
