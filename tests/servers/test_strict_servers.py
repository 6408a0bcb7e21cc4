"""Real OpenSSH servers as strict sites set them up: second factors, no commands, one session, keys with a phrase."""

from __future__ import annotations

import contextlib
import getpass
import hashlib
import hmac
import os
import re
import secrets
import shutil
import signal
import socket
import struct
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import pytest

from conftest import ALL_NEEDED, OpenSsh, Program, start_sshd
from terminal import Terminal

pytestmark = pytest.mark.server

#: One for each process that runs tests.
ACCOUNT = f"yatagan-{os.getpid()}"
PAM_MODULES = [Path(f"{lib}/x86_64-linux-gnu/security/pam_oath.so") for lib in ("/lib", "/usr/lib")]


@contextlib.contextmanager
def serving(base: Path, user: str, extra: str = "", **more: str) -> Iterator[OpenSsh]:
    """A server of its own for one test."""
    child, port = start_sshd(base, extra, **more)
    try:
        yield OpenSsh(base, port, user)
    finally:
        child.send_signal(signal.SIGTERM)
        child.wait(10)


@pytest.fixture
def base(openssh: OpenSsh, tmp_path: Path) -> Path:
    """Where a server of the test's own keeps its keys."""
    (tmp_path / "server").mkdir()
    (tmp_path / "far").mkdir()
    return tmp_path / "server"


@pytest.fixture
def site(account: Account) -> Iterator[Path]:
    """The same where the throwaway account can read it, as its logins must."""
    with tempfile.TemporaryDirectory(dir="/srv", prefix=f"{ACCOUNT}-") as directory:
        os.chmod(directory, 0o755)
        yield Path(directory)


# -- keys with a pass phrase -----------------------------------------------------------------------------


@pytest.fixture
def locked(program: Program, openssh: OpenSsh, tmp_path: Path) -> tuple[Path, str]:
    """A node that is entered with a key that has a pass phrase; the key, and the phrase."""
    phrase, key = secrets.token_hex(6), tmp_path / "locked"
    shutil.copy(openssh.base / "login", key)
    subprocess.run(["ssh-keygen", "-q", "-p", "-N", phrase, "-f", str(key)], check=True)
    shutil.copy(openssh.base / "login.pub", tmp_path / "locked.pub")
    far = openssh.far(tmp_path)
    far.add[far.add.index("--key") + 1] = str(key)
    program.know(far)
    return key, phrase


def test_a_pass_phrase_is_asked_for(program: Program, locked: tuple[Path, str]) -> None:
    key, phrase = locked
    refused = program("list", "oak:", expect=3).stderr
    assert f"'Pass phrase of the key {key}:'" in refused and "no terminal to answer" in refused
    terminal = Terminal(program, "list", "oak:")
    terminal.expect(f"Pass phrase of the key {key}:")
    terminal.type("not this one")
    terminal.expect("Pass phrase of the key")
    terminal.type(phrase)
    assert terminal.end() == 0 and "locked" in terminal.seen


def test_an_agent_that_holds_the_key_is_asked_first(
    program: Program, locked: tuple[Path, str], openssh: OpenSsh
) -> None:
    sock = program.home / "agent"
    agent = subprocess.Popen(["ssh-agent", "-D", "-a", str(sock)], stdout=subprocess.DEVNULL)
    agent_at = {"SSH_AUTH_SOCK": str(sock)}
    environment = {**program.environment(), **agent_at}
    try:
        while not sock.exists():
            time.sleep(0.02)
        # Other keys in the agent do no harm, however few tries the server allows.
        for number in range(8):
            other = program.home / f"other-{number}"
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(other)], check=True)
            subprocess.run(["ssh-add", "-q", str(other)], env=environment, check=True)
        subprocess.run(["ssh-add", "-q", str(openssh.base / "login")], env=environment, check=True)
        program("list", "oak:", env=agent_at)
    finally:
        agent.terminate()
        agent.wait(10)


# -- sites' rules ----------------------------------------------------------------------------------------


def test_one_session_and_no_more(program: Program, base: Path, tmp_path: Path) -> None:
    with serving(base, getpass.getuser(), "MaxSessions 1\n") as server:
        program.know(server.far(tmp_path / "far"))
        _up_and_down(program, tmp_path / "far", "4 files in place, contents not looked at (sent)")


@pytest.mark.parametrize(
    ("megabytes", "cuts"), [(60, 3), pytest.param(200, 9, marks=pytest.mark.soak)], ids=["60 MB", "200 MB"]
)
def test_a_line_that_is_killed_every_20_megabytes(
    program: Program, openssh: OpenSsh, tmp_path: Path, megabytes: int, cuts: int
) -> None:
    """Nobody is there, and yet all of it arrives."""
    (tmp_path / "far").mkdir()
    source = program.directory / "fen"
    source.mkdir()
    for number in range(4):
        (source / f"{number}.npy").write_bytes(os.urandom(megabytes * 250_000))
    with Cutting(openssh.port, 20_000_000) as line:
        far = OpenSsh(openssh.base, line.port, openssh.user).far(tmp_path / "far")
        program.know(far)
        batch = program.json("stage", "fen", "oak:")["batch"]
    assert batch["good"] and line.cuts >= cuts
    assert batch["sent_again_bytes"] < 100_000_000
    for file in source.iterdir():
        assert (tmp_path / "far" / "fen" / file.name).read_bytes() == file.read_bytes()


class Cutting:
    """A port of loopback that leads to another one, and cuts each connection after so many bytes."""

    def __init__(self, port: int, after: int) -> None:
        self._to, self._after = port, after
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._listener.getsockname()[1]
        self.cuts = 0

    def __enter__(self) -> Cutting:
        threading.Thread(target=self._accept, daemon=True).start()
        return self

    def __exit__(self, *args: object) -> None:
        self._listener.close()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                near, _ = self._listener.accept()
                far = socket.create_connection(("127.0.0.1", self._to))
                for ends in ((near, far), (far, near)):
                    threading.Thread(target=self._pass, args=ends, daemon=True).start()

    def _pass(self, here: socket.socket, there: socket.socket) -> None:
        left = self._after
        with contextlib.suppress(OSError):
            while left > 0 and (data := here.recv(min(left, 1 << 18))):
                there.sendall(data)
                left -= len(data)
            self.cuts += left <= 0
        for end in (here, there):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)


def _up_and_down(program: Program, root: Path, proof: str, node: str = "oak") -> None:
    source = program.directory / "fen"
    (source / "sub").mkdir(parents=True)
    for name in ("a", "b", "sub/c", "sub/d"):
        (source / name).write_text(f"contents of {name}\n")
        os.utime(source / name, (1_500_000_000, 1_500_000_000))
    shown = program("stage", "fen", f"{node}:").stdout
    assert proof in " ".join(shown.split()), shown
    assert (root / "fen" / "sub" / "c").read_text() == "contents of sub/c\n"
    assert "Nothing to move" in program("stage", "fen", f"{node}:").stdout
    program("stage", f"{node}:fen", "back")
    assert program.json("verify", "back/fen", "--against", _listed(program), expect=0)["good"]


def _listed(program: Program) -> str:
    program("checksums", "fen", "--output", "fen.sums")
    return "fen.sums"


# -- accounts of their own: where the set-up may make them, as in CI --------------------------------------


@dataclass
class Account:
    """A throwaway account: its password, and the secret of its one-time codes."""

    password: str
    secret: bytes
    used: int = 0

    def code(self) -> str:
        """The code of now, or the first later one that was not used (RFC 6238, 30 s, six digits)."""
        self.used = max(int(time.time()) // 30, self.used + 1)
        mac = hmac.digest(self.secret, struct.pack(">Q", self.used), hashlib.sha1)
        at = mac[-1] & 15
        return f"{(struct.unpack('>I', mac[at : at + 4])[0] & 0x7FFFFFFF) % 10**6:06d}"


@pytest.fixture(scope="module")
def account() -> Iterator[Account]:
    if os.geteuid() != 0 or not ALL_NEEDED:
        pytest.skip("makes an account, which is for throwaway machines (YATAGAN_NEED_SSHD=1, as root)")
    found = Account(secrets.token_hex(6), secrets.token_bytes(20))
    subprocess.run(["useradd", "--create-home", "--shell", "/bin/sh", ACCOUNT], check=True)
    try:
        subprocess.run(["chpasswd"], input=f"{ACCOUNT}:{found.password}", text=True, check=True)
        yield found
    finally:
        subprocess.run(["userdel", "--remove", ACCOUNT], check=True, stderr=subprocess.DEVNULL)


@contextlib.contextmanager
def pam_service(account: Account, kind: str, *asks: str) -> Iterator[str]:
    """A server under a name of its own, for whose logins PAM asks what these modules ask."""
    if not any(module.exists() for module in PAM_MODULES):
        pytest.fail("libpam-oath is missing, and here its tests must run")
    name = f"{ACCOUNT}-{kind}"
    link, service, users = Path("/usr/local/sbin", name), Path("/etc/pam.d", name), Path("/etc", f"{name}.oath")
    link.symlink_to("/usr/sbin/sshd")
    modules = {"password": "pam_unix.so", "code": f"pam_oath.so usersfile={users} window=9 digits=6"}
    lines = [f"auth requisite {modules[ask]}" for ask in asks]
    lines += ["account required pam_unix.so", "session required pam_permit.so"]
    service.write_text("\n".join(lines) + "\n")
    users.write_text(f"HOTP/T30/6 {ACCOUNT} - {account.secret.hex()}\n")
    users.chmod(0o600)
    try:
        yield str(link)
    finally:
        for made in (link, service, users):
            made.unlink(missing_ok=True)


@pytest.fixture(scope="module")
def pam(account: Account) -> Iterator[str]:
    """A server whose logins PAM asks a password and a code for."""
    with pam_service(account, "sshd", "password", "code") as sshd:
        yield sshd


RULES = {
    "password and code": "keyboard-interactive",
    "key, then password and code": "publickey,keyboard-interactive",
}


@pytest.mark.parametrize("methods", RULES.values(), ids=RULES)
def test_password_and_code_through_pam(program: Program, account: Account, pam: str, site: Path, methods: str) -> None:
    rules = f"KbdInteractiveAuthentication yes\nPasswordAuthentication no\nAuthenticationMethods {methods}\n"
    with serving(site, ACCOUNT, rules, sshd=pam, use_pam="yes") as server:
        far = server.far(Path("~"))
        program.know(far)
        asked = program("list", "oak:", expect=3).stderr
        assert "'Password:'" in asked and account.password not in asked
        terminal = Terminal(program, "list", "oak:")
        _answer(terminal, account)
        assert terminal.end() == 0, terminal.seen
        used = Terminal(program, "list", "oak:")  # a server that goes on asking
        for _ in range(2):
            used.expect("oak asks: Password:")
            used.type(account.password)
            used.expect("oak asks: One-time password")
            used.type("000000")
        used.expect("oak asks: Password:")
        used.press("\x03")
        assert used.end() == 3 and "given up at the question 'Password:'" in used.seen
        assert "Traceback" not in used.seen


def test_a_code_alone_after_the_key(program: Program, account: Account, site: Path) -> None:
    rules = "KbdInteractiveAuthentication yes\nAuthenticationMethods publickey,keyboard-interactive\n"
    with (
        pam_service(account, "codes", "code") as sshd,
        serving(site, ACCOUNT, rules, sshd=sshd, use_pam="yes") as server,
    ):
        program(*server.far(Path("~")).add)
        terminal = Terminal(program, "list", "oak:")
        terminal.expect("oak asks: One-time password (OATH)")
        terminal.type(account.code())
        assert terminal.end() == 0 and "asks: Password" not in terminal.seen


def test_ten_commands_and_one_prompt(program: Program, account: Account, pam: str, site: Path) -> None:
    """Password and code once; then both ways, proofs, small work and a look at the node without another question."""
    rules = "KbdInteractiveAuthentication yes\nPasswordAuthentication no\nAuthenticationMethods keyboard-interactive\n"
    with serving(site, ACCOUNT, rules, sshd=pam, use_pam="yes") as server:
        program(*server.far(Path("~")).add)
        terminal = Terminal(program, "node", "open", "oak", "--for", "1h")
        _answer(terminal, account)
        assert terminal.end() == 0, terminal.seen
        _up_and_down(program, Path(f"/home/{ACCOUNT}"), "4 files hashed on the node once synced, and equal (on-node)")
        for words in (
            ("list", "oak:fen", "--recursive"),
            ("checksums", "oak:fen"),
            ("verify", "oak:fen"),
            ("mkdir", "oak:more"),
            ("rename", "oak:more", "most"),
            ("remove", "oak:most", "--yes"),
            ("stage", "oak:fen/*", "again"),
        ):
            program(*words)
        assert program.json("node", "check", "oak")["same_disk"]
        program("node", "close", "oak")
        assert "no terminal to answer" in program("list", "oak:", expect=3).stderr


def _answer(terminal: Terminal, account: Account) -> None:
    terminal.expect("oak asks: Password:")
    terminal.type(account.password)
    terminal.expect("oak asks: One-time password (OATH)")
    terminal.type(account.code())


def test_files_only_below_one_directory(program: Program, site: Path) -> None:
    top = site / "top"
    (top / "upload").mkdir(parents=True)
    shutil.chown(top / "upload", ACCOUNT)
    rules = (
        f"Match User {ACCOUNT}\nChrootDirectory {top}\nForceCommand internal-sftp -d /upload\n"
        "AllowTcpForwarding no\nPermitTTY no\n"
    )
    with serving(site, ACCOUNT, rules, sftp="internal-sftp") as server:
        far = server.far(site)
        start = far.add.index("--start")
        program(*far.add[:start], *far.add[start + 2 :])
        _up_and_down(program, top / "upload", "4 files in place, contents not looked at (sent)")
        again = program("stage", "fen", "oak:proven", "--prove", "read-back").stdout
        assert "4 files read back, hashed here, and equal" in " ".join(again.split())
        assert "does not run commands" in program("stage", "fen", "oak:x", "--prove", "on-node", expect=2).stderr


def test_a_slow_shell_is_no_missing_one(program: Program, openssh: OpenSsh, tmp_path: Path) -> None:
    """It is waited for; where that takes too long the plan says so first, and the node is tried again the next time."""
    (tmp_path / "far").mkdir()
    slow = 'case "$SSH_ORIGINAL_COMMAND" in *python3*) sleep 6;; esac; eval "$SSH_ORIGINAL_COMMAND"'
    child, port = start_sshd(openssh.base, f"ForceCommand {slow}\n")
    try:
        program(*replace(openssh, port=port).far(tmp_path / "far").add)
        (program.directory / "f").write_text("f")
        shown = program("stage", "f", "oak:").stdout
        for said in (shown, program("node", "check", "oak").stdout):
            took = re.search(r"(?:that of oak|its shell) took ([\d.]+) s", " ".join(said.split()))
            assert took and float(took[1]) >= 6, said
        assert "(on-node)" in shown
        program("config", "set", "connection.shell", "2s")
        (program.directory / "g").write_text("g")
        shown = " ".join(program("stage", "g", "oak:").stdout.split())
        assert "the shell of oak has started nothing within 2.0 s, so nothing is proven there" in shown
        assert "may run commands" in shown and "runs no commands" not in shown
        assert program.json("batch", "list")["batches"][0]["evidence"] == {"sent": 1}
        program("config", "set", "connection.shell", "60s")
        assert program.json("stage", "g", "oak:again")["batch"]["evidence"] == {"on-node": 1}
    finally:
        child.terminate()
        child.wait(10)
