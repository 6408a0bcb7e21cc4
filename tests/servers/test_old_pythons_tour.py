"""Everything that runs on a node, under the Pythons that nodes have: from 3.6 on, which is the system's own on many."""

from __future__ import annotations

import os
import shutil
import signal
from pathlib import Path

import pytest

from conftest import OpenSsh, Program, snapshot, start_sshd
from other_pythons import directory_of


@pytest.mark.server
@pytest.mark.parametrize("version", ["3.6", pytest.param("3.8", marks=pytest.mark.soak), "3.13"])
def test_a_tour_of_all_that_runs_on_a_node(version: str, program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    base, far = tmp_path / "server", tmp_path / "far"
    base.mkdir()
    far.mkdir()
    # Behind the account's start-up files, which may set the path as well.
    (base / "run").write_text(f'#!/bin/sh\nPATH={directory_of(version)}:$PATH\nexec sh -c "$SSH_ORIGINAL_COMMAND"\n')
    (base / "run").chmod(0o755)
    child, port = start_sshd(base, f"ForceCommand {base}/run\n")
    try:
        program(*OpenSsh(base, port, openssh.user).far(far).add)
        assert program.json("node", "check", "oak")["python"].startswith(version + ".")
        fen = program.directory / "fen"
        (fen / "plot").mkdir(parents=True)
        for number in range(30):
            (fen / "plot" / f"{number}.csv").write_bytes(os.urandom(2000))
        (fen / "big").write_bytes(os.urandom(6 << 20))
        (fen / "link").symlink_to("big")
        assert program.json("stage", "fen", "oak:")["batch"]["evidence"] == {"on-node": 31}
        with open(fen / "big", "r+b") as stream:
            stream.write(b"changed")
        os.utime(fen / "big", (2_000_000_000, 2_000_000_000))
        assert program.json("stage", "fen", "oak:")["batch"]["reused_bytes"] > 5 << 20
        assert snapshot(far / "fen") == snapshot(fen)
        program("stage", "fen", "oak:", "--by", "digest")
        program("checksums", "oak:fen")
        program("verify", "oak:fen")
        for name in ("SHA256SUMS", "SHA256SUMS.facts.jsonl"):
            (far / "fen" / name).unlink()
        for form in ("tar", "tar.gz", *(["tar.zst"] if shutil.which("zstd") else [])):
            program("bundle", "make", "oak:fen", "--format", form)
            program("bundle", "list", f"oak:fen.{form}")
            program("bundle", "check", f"oak:fen.{form}")
            program("bundle", "unpack", f"oak:fen.{form}", "--into", f"oak:from-{form}")
            assert snapshot(far / f"from-{form}" / "fen") == snapshot(fen)
        program("stage", "fen", "oak:archive", "--store", "bundle")
        program("stage", "oak:fen", "back")
        assert snapshot(program.directory / "back" / "fen") == snapshot(fen)
    finally:
        child.send_signal(signal.SIGTERM)
        child.wait(10)
