"""Of a file that replaces another only what has changed is sent, whatever was done to it."""

from __future__ import annotations

import os
import random

import pytest

from conftest import Far, Program

MIB = 1 << 20


def changed(data: bytes) -> bytes:
    """Ten places changed, and some bytes inserted."""
    rng = random.Random(9)
    new = bytearray(data)
    for _ in range(10):
        at = rng.randrange(len(new) - 1000)
        new[at : at + 1000] = rng.randbytes(1000)
    at = len(new) // 3
    new[at:at] = b"inserted"
    return bytes(new)


@pytest.mark.kept("openssh")
@pytest.mark.parametrize("way", ["up", "down"])
def test_only_what_changed_is_sent(program: Program, far: Far, way: str) -> None:
    up = way == "up"
    here, there = program.directory / "flux.bin", far.root / "flux.bin"
    first, second = (f"{far.name}:", "flux.bin") if up else (f"{far.name}:flux.bin", ".")
    words = ("stage", second, first) if up else ("stage", first, second)
    old = random.Random(10).randbytes(24 * MIB)
    new = changed(old)
    source, target = (here, there) if up else (there, here)
    source.write_bytes(old)
    program(*words)
    source.write_bytes(new)
    source.chmod(0o640)
    plan = program(*words, "--plan-only").stdout
    assert "in part" in plan and "only what differs is sent" in plan
    done = program.json(*words)
    batch = done["batch"]
    assert batch["good"] and target.read_bytes() == new
    assert batch["sent_bytes"] + batch["reused_bytes"] >= len(new)
    assert batch["sent_bytes"] < len(new) // 4 and batch["sent_again_bytes"] == 0
    # What was not sent has not been received: the node has hashed the whole.
    assert batch["evidence"] == {"on-node": 1}
    assert "were there already and not sent" in program("batch", "show", batch["batch"]).stdout
    kept = list((target.parent / ".yatagan-kept").rglob("flux.bin"))
    assert [file.read_bytes() for file in kept] == [old]
    assert not list(target.parent.glob(".yatagan-*.part"))


def test_what_does_not_pay_is_said_and_all_of_it_sent(program: Program, far: Far) -> None:
    file = program.directory / "flux.bin"
    file.write_bytes(os.urandom(5 * MIB))
    program("stage", "flux.bin", f"{far.name}:")
    file.write_bytes(os.urandom(5 * MIB))
    done = program("stage", "flux.bin", f"{far.name}:")
    assert "flux.bin: little of it is in what it replaces, so all of it is sent" in done.stderr
    assert "not sent" not in done.stdout
    assert (far.root / "flux.bin").read_bytes() == file.read_bytes()
