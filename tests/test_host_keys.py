"""Host keys: what known_hosts files say, what is pinned, and which key a node may show."""

from __future__ import annotations

import base64
import hashlib
import hmac
import signal
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import OpenSsh, Practice, Program, start_sshd, wait_for
from terminal import Terminal
from yatagan.errors import CannotReach, ChangedHostKey, RevokedHostKey, UnknownHostKey, UnpinnedHostKey
from yatagan.nodes.host_keys import HostKeys, accept, fingerprint
from yatagan.nodes.known_hosts import look_up

HOST, PORT = "fen.example", 2222


@cache
def key(name: str = "a", kind: str = "ssh-ed25519") -> asyncssh.SSHKey:
    return asyncssh.generate_private_key(kind).convert_to_public()


def spell(found: asyncssh.SSHKey) -> str:
    return " ".join(found.export_public_key("openssh").decode().split()[:2])


def numbered(cases: list[Any]) -> list[str]:
    """Names for cases that hold keys, which differ from process to process."""
    return [str(number) for number in range(len(cases))]


def hashed(name: str) -> str:
    salt = b"01234567890123456789"
    digest = hmac.new(salt, name.encode(), hashlib.sha1).digest()
    return f"|1|{base64.b64encode(salt).decode()}|{base64.b64encode(digest).decode()}"


def written(tmp_path: Path, *lines: str) -> list[Path]:
    file = tmp_path / "known_hosts"
    file.write_bytes("\n".join(lines).encode("utf-8", "surrogateescape"))
    return [file]


def log_in_with(program: Program, cases: list[tuple[str, int, str]]) -> None:
    """Log in to oak with each of these known_hosts files of the user's: the status, and what is said."""
    for lines, status, said in cases:
        written(program.home / ".ssh", lines, "")
        done = program("list", "oak:", expect=None)
        assert (done.returncode, said in done.stderr) == (status, True), (lines, done)


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


# -- the program -----------------------------------------------------------------------------------------


def without_trust(add: list[str]) -> list[str]:
    return add[: add.index("--trust")]


def test_a_pin_counts_though_the_key_is_known_already(program: Program, practice: Practice) -> None:
    """A1: another node of the same address had made the key known, and the wrong pin was ignored."""
    far = practice.far()
    program.know(far)
    program("list", "heron:")
    bad = ["node", "add", "bad", *without_trust(far.add)[3:], "--trust", f"SHA256:{'A' * 43}"]
    assert "heron has the same address" in program(*bad).stderr
    said = program("list", "bad:", expect=3).stderr
    assert "not pinned" in said and practice.site.fingerprint("heron") in said and "known_hosts" in said
    program.save(*bad, "--trust", practice.site.fingerprint("heron"))
    program("list", "bad:")
    assert program.json("node", "show", "bad")["trust"] == [f"SHA256:{'A' * 43}", practice.site.fingerprint("heron")]


@contextmanager
def server(openssh: OpenSsh, base: Path, *kinds: str, extra: str = "") -> Iterator[OpenSsh]:
    """A server with host keys of these kinds besides its first, an Ed25519 one."""
    base.mkdir()
    for kind in kinds:
        bits = {"rsa": "2048", "ecdsa": "256"}[kind]  # the default of RSA keys takes seconds
        subprocess.run(["ssh-keygen", "-q", "-t", kind, "-b", bits, "-N", "", "-f", str(base / kind)], check=True)
    child, port = start_sshd(base, "".join(f"HostKey {base}/{kind}\n" for kind in kinds) + extra)
    try:
        yield OpenSsh(base, port, openssh.user)
    finally:
        child.send_signal(signal.SIGTERM)
        child.wait(10)


def shown(file: Path) -> str:
    return fingerprint(asyncssh.read_public_key(file))


@pytest.mark.server
@pytest.mark.parametrize("pin", ["host.pub", "rsa.pub", "ecdsa.pub"])
def test_the_type_of_the_pinned_key_is_negotiated(pin: str, program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    with server(openssh, tmp_path / "server", "rsa", "ecdsa") as found:
        program(*without_trust(found.far(tmp_path).add), "--trust", shown(found.base / pin))
        program("list", "oak:")
        program.save(*without_trust(found.far(tmp_path).add), "--trust", f"SHA256:{'A' * 43}")
        assert "not pinned" in program("list", "oak:", expect=3).stderr


@pytest.mark.server
def test_lines_of_the_users_known_hosts(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    """A2, by the program: the line, and whether `list` ends well."""
    with server(openssh, tmp_path / "server", "rsa") as found:
        far = found.far(tmp_path)
        program(*without_trust(far.add))
        (program.home / ".ssh").mkdir(mode=0o700)
        name = f"[127.0.0.1]:{found.port}"
        first, rsa = (" ".join((found.base / file).read_text().split()[:2]) for file in ("host.pub", "rsa.pub"))
        cases = [
            (f"{name} {first}", 0, ""),
            (f"{name} {rsa}", 0, ""),
            (f"127.0.0.1 {first}", 0, ""),
            (f"{name} {first}\n@revoked {name} {first}", 3, "revoked"),
            (f"@revoked {name} {first}\n@revoked {name} {rsa}", 3, "revoked"),
            (f"{name} {first}\n@revoked 127.0.0.1", 3, "cannot be read"),
            (f"{name} {first}\n@cert-authority * {spell(key())}", 0, ""),
            (f"{name} {first}\n\udcff\x00\x01\n|1|bad|bad {first}\ntorn", 0, "line 2 of"),
            (f"{name} {spell(key())}", 3, "another host key"),
            ("", 3, "was not accepted yet"),
        ]
        log_in_with(program, cases)
        # A revoked key is not even asked about.
        written(program.home / ".ssh", f"@revoked {name} {first}", "")
        terminal = Terminal(program, "list", "oak:")
        assert terminal.end() == 3 and "Is this the key" not in terminal.seen


@pytest.mark.server
def test_host_certificates(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    base = tmp_path / "server"
    with server(openssh, base, extra=f"HostCertificate {base}/host-cert.pub\n"):
        for name in ("authority", "other"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(base / name)], check=True)
        sign = ["ssh-keygen", "-q", "-s", str(base / "authority"), "-h", "-I", "oak", "-n", "127.0.0.1", "-V", "+1d"]
        subprocess.run([*sign, str(base / "host.pub")], check=True)
        again, port = start_sshd(base, f"HostCertificate {base}/host-cert.pub\n")
        try:
            far = OpenSsh(base, port, openssh.user).far(tmp_path)
            program(*without_trust(far.add))
            (program.home / ".ssh").mkdir(mode=0o700)
            name = f"[127.0.0.1]:{port}"
            right, other, host = (
                (base / file).read_text().strip() for file in ("authority.pub", "other.pub", "host.pub")
            )
            cases = [
                (f"@cert-authority * {right}", 0, ""),
                (f"@cert-authority {name} {right}\n@revoked * {right}", 3, "was not accepted yet"),
                (f"@cert-authority * {other}", 3, "was not accepted yet"),
                (f"@cert-authority * {other}\n{name} {host}", 0, ""),
                (f"{name} {host}", 0, ""),
                (f"@cert-authority * {right}\n@revoked {name} {host}", 3, "revoked"),
            ]
            log_in_with(program, cases)
        finally:
            again.send_signal(signal.SIGTERM)
            again.wait(10)


@pytest.mark.server
def test_the_users_ssh_files_name_where_host_keys_are(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    ssh = program.home / ".ssh"
    ssh.mkdir(mode=0o700)
    program(*without_trust(openssh.far(tmp_path).add))
    kind, data, *_ = (openssh.base / "host.pub").read_text().split()
    name = f"[127.0.0.1]:{openssh.port}"
    for setting, host in [
        ("UserKnownHostsFile ~/.ssh/elsewhere", name),
        ("GlobalKnownHostsFile %d/.ssh/elsewhere", name),
        ("HostKeyAlias oaks\n  UserKnownHostsFile ~/.ssh/elsewhere", "oaks"),
    ]:
        (ssh / "elsewhere").unlink(missing_ok=True)
        (ssh / "config").write_text(f"Host 127.0.0.1\n  {setting}\n")
        assert "was not accepted yet" in program("list", "oak:", expect=3).stderr
        (ssh / "elsewhere").write_text(f"{host} {kind} {data}\n")
        program("list", "oak:")


def test_the_machines_own_known_hosts_are_read(tmp_path: Path) -> None:
    from yatagan.config.home import Home
    from yatagan.config.nodes import Node
    from yatagan.nodes.connecting import read_route

    home = Home(tmp_path / "c", tmp_path / "s", tmp_path / ".ssh", tmp_path / "r", tmp_path / "etc")
    files = read_route(Node("oak", "oak.fen.example"), home).known_hosts
    assert tmp_path / "etc" / "ssh_known_hosts" in files and files[0] == home.known_hosts
    assert Home(tmp_path, tmp_path, tmp_path, tmp_path).system_ssh == Path("/etc/ssh")


@pytest.mark.server
def test_a_damaged_line_does_not_stop_a_jump(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    """Machines on the way are held to the same rules; a circle of them is an error."""
    ssh = program.home / ".ssh"
    ssh.mkdir(mode=0o700)
    host = f"  HostName 127.0.0.1\n  Port {openssh.port}\n  User {openssh.user}\n  IdentityFile {openssh.base}/login\n"
    (ssh / "config").write_text(f"Host gate inner\n{host}Host inner\n  ProxyJump gate\nHost round\n  ProxyJump round\n")
    kind, data, *_ = (openssh.base / "host.pub").read_text().split()
    program("node", "add", "inner", "inner", "--start", str(tmp_path))
    known = [f"[127.0.0.1]:{openssh.port} {kind} {data}", "torn"]
    written(ssh, *known, "")
    program("list", "inner:")
    written(ssh, *known, f"@revoked * {kind} {data}", "")
    assert "revoked" in program("list", "inner:", expect=3).stderr
    program("node", "add", "round", "round")
    assert "circle" in program("list", "round:", expect=3).stderr


@pytest.mark.server
def test_a_key_that_changed_stops_until_it_is_pinned_or_its_line_goes(
    program: Program, openssh: OpenSsh, tmp_path: Path
) -> None:
    base = tmp_path / "server"
    with server(openssh, base) as found:
        port, add = found.port, found.far(tmp_path).add
        program(*add)
        program("list", "oak:")
    for name in ("host", "host.pub"):
        (base / name).unlink()
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(base / "host")], check=True)
    again = subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", str(base / f"sshd-{port}.conf")], start_new_session=True)
    try:
        wait_for(lambda: "connecting failed" not in program("list", "oak:", expect=None).stderr)
        assert "not pinned" in program("list", "oak:", expect=3).stderr
        program.save(*without_trust(add))
        said = program("list", "oak:", expect=3).stderr
        assert "another host key than before" in said and "line 1 of" in said
        terminal = Terminal(program, "list", "oak:")
        assert terminal.end() == 3 and "Is this the key" not in terminal.seen
        program.save(*found.far(tmp_path).add)
        program("list", "oak:")
    finally:
        again.send_signal(signal.SIGTERM)
        again.wait(10)
