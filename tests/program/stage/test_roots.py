"""What of this machine may be touched, and the settings that say so."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

from conftest import Program, wait_for


def test_links_that_lead_out(program: Program, tmp_path: Path) -> None:
    near, private = program.directory, tmp_path / "private"
    private.mkdir()
    (private / "diary").write_text("x")
    (near / "fen").mkdir()
    (near / "fen" / "a").write_text("a")
    (near / "out").symlink_to(private)
    for words in (
        ("list", "out"),
        ("stage", "out/diary", "fen"),
        ("stage", "fen", "out"),
        ("checksums", "out"),
        ("checksums", "fen", "--output", "out/sums"),
        ("mkdir", "out/new"),
        ("rename", "out/diary", "y"),
        ("remove", "out/diary", "--yes"),
    ):
        said = " ".join(program(*words, expect=5).stderr.split())
        assert f"leads out of what this command may touch, to {private}" in said, words
        assert f"yatagan config allow {private}" in said
    assert os.listdir(private) == ["diary"]
    program("list", str(private))  # what is named outright needs no leave
    program("config", "allow", str(private))
    assert "diary" in program("list", "out").stdout
    for writing in ("out", str(private)):
        assert "for reading alone" in program("stage", "fen", writing, expect=5).stderr
    program("config", "allow", str(private), "--write")
    program("stage", "fen", "out")
    assert (private / "fen" / "a").read_text() == "a"
    assert program.json("config", "show")["roots"] == {"readable": [], "writable": [str(private)]}
    program("config", "withdraw", str(private))
    program("list", "out", expect=5)
    (near / "yatagan.toml").touch()
    (near / "fen" / "up").symlink_to(near)  # out of the working directory, but not of the project
    inside = Program(program.home, near / "fen")
    assert "out" in inside("list", "up").stdout


def test_a_batch_goes_where_it_was_accepted_for(program: Program, tmp_path: Path) -> None:
    near = program.directory
    (near / "big").write_bytes(os.urandom(150_000_000))
    (near / "there").mkdir()
    stage = program.start("stage", "big", "there")
    wait_for(lambda: any(near.glob("there/.yatagan-*.part")))
    stage.send_signal(signal.SIGINT)
    assert stage.wait(20) == 4
    (near / "there").rename(near / "moved")
    (tmp_path / "private").mkdir()
    (near / "there").symlink_to(tmp_path / "private")
    said = program("batch", "resume", expect=5).stderr
    assert "leads to" in said and "not what was planned" in said
    assert not os.listdir(tmp_path / "private")
    (near / "there").unlink()
    (near / "moved").rename(near / "there")
    assert program.json("batch", "resume")["good"]


def test_settings(program: Program) -> None:
    assert "connection.patience      20s" in program("config", "show").stdout
    assert f"{program.directory}  the working directory" in program("config", "show").stdout
    (program.home / "settings.toml").write_text('# ours\n[connection]\npatience = "20s"  # short\n')
    assert "is 30m now" in program("config", "set", "connection.patience", "30m").stdout
    program("config", "set", "login-node.size", "5GB")
    assert '# ours\n[connection]\npatience = "30m"  # short\n' in (program.home / "settings.toml").read_text()
    assert program.json("config", "show")["login_node"]["size_bytes"] == 5_000_000_000
    for words, said in (
        (("set", "connection.patience", "soon"), "no duration"),
        (("set", "connection.speed", "1"), "there are connection.patience"),
        (("allow", "nowhere"), "no directory"),
        (("withdraw", "/srv"), "was not allowed"),
    ):
        assert said in program("config", *words, expect=2).stderr
    (program.home / "settings.toml").write_text('[roots]\nreadable = ["data"]\n')
    assert "absolute paths" in program("list", ".", expect=2).stderr


def test_times_of_arrival(program: Program) -> None:
    source = program.directory / "fen"
    source.mkdir()
    (source / "a").write_text("a")
    for path in (source / "a", source):
        os.utime(path, (1_500_000_000, 1_500_000_000))
    began = time.time() - 5
    program("stage", "fen", "there", "--times", "now")
    there = program.directory / "there" / "fen"
    assert (there / "a").stat().st_mtime > began and there.stat().st_mtime > began
    assert "Nothing to move" in program("stage", "fen", "there", "--times", "now").stdout
    (source / "a").write_text("b")
    assert program.json("stage", "fen", "there", "--times", "now")["batch"]["in_place"] == 1
    assert (there / "a").read_text() == "b"
