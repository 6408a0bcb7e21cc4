"""Host keys: what known_hosts files say, what is pinned, and which key a node may show."""

from __future__ import annotations

import signal
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import asyncssh
import pytest

from conftest import OpenSsh, Practice, Program, start_sshd, wait_for
from host_keys import key, spell, written
from terminal import Terminal
from yatagan.nodes.host_keys import fingerprint


def log_in_with(program: Program, cases: list[tuple[str, int, str]]) -> None:
    """Log in to oak with each of these known_hosts files of the user's: the status, and what is said."""
    for lines, status, said in cases:
        written(program.home / ".ssh", lines, "")
        done = program("list", "oak:", expect=None)
        assert (done.returncode, said in done.stderr) == (status, True), (lines, done)


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
