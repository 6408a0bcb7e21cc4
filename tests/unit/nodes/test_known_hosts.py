"""What known_hosts files say, and which key a node may show."""

from __future__ import annotations

import base64
import hashlib
import hmac
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from hypothesis import given
from hypothesis import strategies as st

from host_keys import key, spell, written
from yatagan.errors import CannotReach, ChangedHostKey, RevokedHostKey, UnknownHostKey, UnpinnedHostKey
from yatagan.nodes.host_keys import HostKeys, accept, fingerprint
from yatagan.nodes.known_hosts import look_up

HOST, PORT = "fen.example", 2222


def numbered(cases: list[Any]) -> list[str]:
    """Names for cases that hold keys, which differ from process to process."""
    return [str(number) for number in range(len(cases))]


def hashed(name: str) -> str:
    salt = b"01234567890123456789"
    digest = hmac.new(salt, name.encode(), hashlib.sha1).digest()
    return f"|1|{base64.b64encode(salt).decode()}|{base64.b64encode(digest).decode()}"


NAMES_THE_HOST = [
    "[fen.example]:2222",
    "[FEN.Example]:2222",
    "other,[fen.example]:2222",
    "[fen.*]:2222",
    "[fen.exampl?]:2222",
    "fen.example",
    "*",
    hashed("[fen.example]:2222"),
    hashed("fen.example"),
]


NAMES_ANOTHER = ["[fen.example]:2223", "fen", "*,![fen.example]:2222,!fen.example", "10.0.0.0/8", hashed("fen")]


@pytest.mark.parametrize("hosts", NAMES_THE_HOST, ids=numbered(NAMES_THE_HOST))
def test_a_line_that_names_the_host(hosts: str, tmp_path: Path) -> None:
    found = look_up(written(tmp_path, f"{hosts} {spell(key())} comment"), [HOST], PORT)
    assert [each.key for each in found.keys] == [key()] and not found.damaged


@pytest.mark.parametrize("hosts", NAMES_ANOTHER, ids=numbered(NAMES_ANOTHER))
def test_a_line_that_names_another(hosts: str, tmp_path: Path) -> None:
    assert not look_up(written(tmp_path, f"{hosts} {spell(key())}"), [HOST], PORT).keys


def test_an_address_is_in_a_network(tmp_path: Path) -> None:
    assert look_up(written(tmp_path, f"10.1.0.0/16 {spell(key())}"), [HOST, "10.1.2.3"], 22).keys


def test_the_port_counts_before_the_name_alone(tmp_path: Path) -> None:
    lines = f"fen.example {spell(key('b'))}", f"[fen.example]:2222 {spell(key())}"
    assert [each.key for each in look_up(written(tmp_path, *lines), [HOST], PORT).keys] == [key()]


#: Lines that cannot be read: each is skipped, and the one behind it counts.
DAMAGED = [
    "fen.example",
    "\udcff\x00\x01",
    f"|1|bad|bad {spell(key())}",
    f"|2|{hashed(HOST)[3:]} {spell(key())}",
    "fen.example ssh-ed25519 AAAAtorn",
    "fen.example ssh-rsa",
    f"@strange fen.example {spell(key())}",
    "@cert-authority fen.example ssh-ed25519 AAAA",
]


@pytest.mark.parametrize("line", DAMAGED, ids=numbered(DAMAGED))
def test_a_damaged_line_is_skipped_and_noted(line: str, tmp_path: Path) -> None:
    files = written(tmp_path, line, f"fen.example {spell(key())}")
    found = look_up(files, [HOST], PORT)
    assert [each.key for each in found.keys] == [key()]
    assert found.damaged == [f"line 1 of {files[0]}"] and not found.lost_revocations


def test_a_type_of_key_that_we_do_not_know_is_no_damage(tmp_path: Path) -> None:
    found = look_up(written(tmp_path, "fen.example future-key-type AAAA", ""), [HOST], PORT)
    assert not found.keys and not found.damaged


@given(st.binary(max_size=200))
def test_no_file_is_an_error(content: bytes) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as directory:
        file = Path(directory, "known_hosts")
        file.write_bytes(content + f"\nfen.example {spell(key())}\n".encode())
        assert key() in [each.key for each in look_up([file], [HOST], PORT).keys]


@pytest.mark.parametrize(
    "line", ["@revoked", "@revoked fen.example", "@revoked fen.* ssh-ed25519 AAAA", "@revoked |1|x|y z"]
)
def test_a_revocation_that_cannot_be_read_stops_whom_it_may_concern(line: str, tmp_path: Path) -> None:
    keys = HostKeys("oak", (), written(tmp_path, line, f"fen.example {spell(key())}"))
    keys.look_up([HOST], PORT)
    assert not keys.accepts(HOST, PORT, key())
    assert type(keys.objection) is CannotReach and "line 1 of" in keys.objection.detail


def test_a_revocation_of_another_host_that_cannot_be_read_stops_nobody(tmp_path: Path) -> None:
    keys = HostKeys("oak", (), written(tmp_path, "@revoked oak ssh-ed25519 AAAA", f"fen.example {spell(key())}"))
    keys.look_up([HOST], PORT)
    assert keys.accepts(HOST, PORT, key())


def of_known(*lines: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    return (), lines


def pinned(found: asyncssh.SSHKey, *lines: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    return (fingerprint(found),), lines


VERDICTS = [
    (of_known(), UnknownHostKey),
    (of_known(f"fen.example {spell(key())}"), None),
    (of_known(f"fen.example {spell(key('b'))}"), ChangedHostKey),
    (of_known(f"fen.example {spell(key('b'))}", f"fen.example {spell(key())}"), None),
    (of_known(f"fen.example {spell(key('r', 'ssh-rsa'))}"), ChangedHostKey),
    (of_known(f"fen.example {spell(key())}", f"@revoked * {spell(key())}"), RevokedHostKey),
    (of_known(f"@revoked [fen.example]:2222 {spell(key())}"), RevokedHostKey),
    (of_known(f"@revoked fen.example {spell(key())}"), RevokedHostKey),
    (of_known(f"fen.example {spell(key())}", f"@revoked other {spell(key())}"), None),
    (pinned(key()), None),
    (pinned(key(), f"fen.example {spell(key('b'))}"), None),
    (pinned(key("b"), f"fen.example {spell(key())}"), UnpinnedHostKey),
    (pinned(key("b")), UnpinnedHostKey),
    (pinned(key(), f"@revoked fen.example {spell(key())}"), RevokedHostKey),
]


@pytest.mark.parametrize(("given_", "objection"), VERDICTS, ids=numbered(VERDICTS))
def test_which_key_is_accepted(
    given_: tuple[tuple[str, ...], tuple[str, ...]], objection: type[CannotReach] | None, tmp_path: Path
) -> None:
    pins, lines = given_
    keys = HostKeys("oak", pins, written(tmp_path, *lines, ""))
    keys.look_up([HOST], PORT)
    assert keys.accepts(HOST, PORT, key()) == (objection is None)
    assert objection is None or type(keys.objection) is objection


def test_a_server_is_asked_for_the_types_of_the_known_keys_first(tmp_path: Path) -> None:
    keys = HostKeys("oak", (), written(tmp_path, f"fen.example {spell(key('r', 'ssh-rsa'))}"))
    keys.look_up([HOST], PORT)
    assert keys.algorithms()[0] == "rsa-sha2-256" and "ssh-ed25519" in keys.algorithms()


def test_the_users_choice_of_algorithms_counts(tmp_path: Path) -> None:
    usual = HostKeys("oak", (), []).algorithms()
    assert "ssh-dss" not in usual and usual[0] == "ssh-ed25519"
    assert HostKeys("oak", (), [], "+ssh-dss").algorithms()[-1] == "ssh-dss"
    assert HostKeys("oak", (), [], "^rsa-sha2-512").algorithms()[0] == "rsa-sha2-512"
    assert "ssh-rsa" not in HostKeys("oak", (), [], "-ssh-rsa*").algorithms()
    assert HostKeys("oak", (), [], "ecdsa-sha2-nistp2*").algorithms() == ["ecdsa-sha2-nistp256"]


def test_a_key_is_remembered_behind_a_line_that_was_torn_off(tmp_path: Path) -> None:
    (file,) = written(tmp_path, "fen.example ssh-ed2")
    accept(file, f"{HOST} {spell(key())}")
    assert [each.key for each in look_up([file], [HOST], 22).keys] == [key()]


def test_the_machines_own_known_hosts_are_read(tmp_path: Path) -> None:
    from yatagan.config.home import Home
    from yatagan.config.nodes import Node
    from yatagan.nodes.connecting import read_route

    home = Home(tmp_path / "c", tmp_path / "s", tmp_path / ".ssh", tmp_path / "r", tmp_path / "etc")
    files = read_route(Node("oak", "oak.fen.example"), home).known_hosts
    assert tmp_path / "etc" / "ssh_known_hosts" in files and files[0] == home.known_hosts
    assert Home(tmp_path, tmp_path, tmp_path, tmp_path).system_ssh == Path("/etc/ssh")
