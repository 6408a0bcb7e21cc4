"""What a node's properties are taken to mean."""

from __future__ import annotations

from dataclasses import replace

import pytest

from yatagan.cli.commands.node_check import meaning
from yatagan.config.nodes import Role
from yatagan.faults import Fault
from yatagan.stores.node_probe import EXTENSIONS, Checkup

GOOD = Checkup(
    node="oak",
    role=Role.TRANSFER,
    cluster=None,
    address=("192.0.2.7", 22),
    user="mara",
    host_key="SHA256:abc",
    host_key_kind="ssh-ed25519",
    methods=["publickey"],
    questions=0,
    reaching=0.02,
    letting_in=0.1,
    server="SSH-2.0-OpenSSH_9.2",
    cipher="aes128-gcm@openssh.com",
    read_size=261120,
    write_size=261120,
    extensions=list(EXTENSIONS),
    sessions=8,
    sessions_more=True,
    commands="",
    python="3.9.2",
    start=b"/home/mara",
    trip=0.002,
    clock=0.1,
    free=10**12,
    same_disk=True,
    up=5e7,
    down=6e7,
    folds_case=False,
    shell_seconds=0.4,
)


NO_COMMANDS = replace(GOOD, python="", same_disk=False, clock=None, commands="commands are not allowed")


MEANINGS: list[tuple[Checkup, list[str]]] = [
    (GOOD, ["proven on the node"]),
    (replace(GOOD, same_disk=False), ["commands see another disk"]),
    (NO_COMMANDS, ["only by reading them back"]),
    (replace(NO_COMMANDS, extensions=[]), ["reading", "cannot be synced", "a moment", "from its beginning", "space"]),
    (replace(NO_COMMANDS, sessions=1, sessions_more=False), ["reading them back", "only one session"]),
    (replace(GOOD, read_size=32768), ["proven", "requests are small"]),
    (replace(GOOD, trip=0.1), ["proven", "107 a second"]),
    (replace(GOOD, clock=-90.0), ["proven", "set the clocks"]),
    (replace(GOOD, role=Role.LOGIN, cluster="fens"), ["made for logging in", "proven"]),
    (replace(GOOD, folds_case=True), ["proven", "differ in case alone"]),
    (replace(GOOD, writable=Fault.DENIED, up=None, down=None), ["name another with --start", "proven"]),
]


@pytest.mark.parametrize(("found", "told"), MEANINGS)
def test_what_it_means(found: Checkup, told: list[str]) -> None:
    lines = list(meaning(found))
    assert len(lines) == len(told)
    for line, words in zip(lines, told, strict=True):
        assert words in line
