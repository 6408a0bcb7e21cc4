"""A checksum list as a shell script: right in every shell, with names of all kinds, and kind to its caller."""

from __future__ import annotations

import os
import subprocess

from conftest import Program


def test_the_command_writes_it(program: Program) -> None:
    fen = program.directory / "fen"
    fen.mkdir()
    (fen / "a.csv").write_text("1\n")
    (fen / "with\nnewline").write_text("2\n")
    said = program("checksums", "fen", "--as-script", "check-inputs.sh").stdout
    assert "sh check-inputs.sh DIRECTORY" in said and "inputs || exit 1" in said
    done = subprocess.run(["./check-inputs.sh", "fen"], cwd=program.directory, capture_output=True, check=True)
    assert done.stdout == b"check-inputs.sh: good: 2 files\n"
    printed = subprocess.run(
        ["sh", "-s", "fen"],
        cwd=program.directory,
        input=os.fsencode(program("checksums", "fen", "--as-script", "-").stdout),
        capture_output=True,
        check=True,
    )
    assert printed.stdout == b"check: good: 2 files\n"
    assert not list(program.directory.glob("*.jsonl"))
    assert "exclude each other" in program("checksums", "fen", "--as-script", "a", "--output", "b", expect=2).stderr
