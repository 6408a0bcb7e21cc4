"""Practice nodes: heron, bittern and dunlin, on loopback, below one directory.

heron is a transfer node as sites like to have them: login by key, commands allowed; it answers at two addresses, as
clusters do whose name stands for several machines. dunlin is the login node of
the same cluster: it sees heron's disk, and ends connections that last too long. bittern is a strict one: a password
and then a one-time code, file transfer only, one directory. All are real SSH servers; only what they serve is small.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import secrets
import signal
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import asyncssh

from yatagan.practice import node_faults
from yatagan.practice.node_faults import Trouble
from yatagan.practice.power import ForgetfulDisk
from yatagan.practice.sftp_server import PracticeFiles

USER = "fenflux"
NODES = ("heron", "bittern", "dunlin")
#: Those that are entered with a key and run commands, and the cluster that they are.
BY_KEY = ("heron", "dunlin")
CLUSTER = "fens"
#: Seconds after which dunlin ends a connection, as login nodes do.
_PATIENCE = 600.0
#: heron's other address.
SECOND_ADDRESS = "127.0.0.2"
#: Seconds between looks at the faults, for those that do not wait for a request.
_FOLLOW_SECONDS = 0.1
_CODES = 60
_ALGORITHM = "ssh-ed25519"


@dataclass(frozen=True, slots=True)
class Site:
    """The files of a set of practice nodes."""

    root: Path

    def home(self, node: str) -> Path:
        """The directory that a node serves; nodes of one cluster serve the same."""
        return self.root / ("heron" if node in BY_KEY else node)

    def faults(self, node: str) -> Path:
        """The node's faults file."""
        return self.root / "site" / f"{node}.faults.json"

    def acting(self, node: str) -> Path:
        """The node's copy of its faults file, once it goes by it also where nobody has asked it for anything."""
        return self.root / "site" / f"{node}.acting.json"

    def host_key(self, node: str) -> Path:
        """The node's own key."""
        return self.root / "site" / f"{node}.host-key"

    @property
    def login_key(self) -> Path:
        """The key that opens heron and dunlin."""
        return self.root / "site" / "login-key"

    @property
    def password(self) -> Path:
        """bittern's password."""
        return self.root / "site" / "bittern.password"

    @property
    def codes(self) -> Path:
        """bittern's one-time codes that were not used yet, one a line."""
        return self.root / "site" / "bittern.codes"

    @property
    def other_key(self) -> Path:
        """A host key that is unknown."""
        return self.root / "site" / "other-key"

    @property
    def running(self) -> Path:
        """The serving process, and its ports."""
        return self.root / "site" / "running.json"

    def prepare(self) -> None:
        """Create what is missing."""
        (self.root / "site").mkdir(parents=True, exist_ok=True, mode=0o700)
        for node in NODES:
            self.home(node).mkdir(exist_ok=True)
            _make_key(self.host_key(node))
        _make_key(self.other_key)
        _make_key(self.login_key)
        if not self.password.exists():
            _write_private(self.password, secrets.token_hex(4))
        if not self.codes.exists():
            _write_private(self.codes, "\n".join(f"{secrets.randbelow(10**6):06d}" for _ in range(_CODES)) + "\n")

    def fingerprint(self, node: str) -> str:
        """SHA-256 fingerprint of the node's host key."""
        return asyncssh.read_public_key(f"{self.host_key(node)}.pub").get_fingerprint()

    def ports(self) -> dict[str, int]:
        """The ports of the nodes, as they were served last; {} when they never were."""
        try:
            found = json.loads(self.running.read_text(encoding="utf-8"))["ports"]
        except (OSError, ValueError, KeyError):
            return {}
        return {str(node): int(port) for node, port in found.items()}

    def pid(self) -> int | None:
        """The process that serves now; None when there is none."""
        try:
            found = json.loads(self.running.read_text(encoding="utf-8"))
            pid = int(found["pid"])
            os.kill(pid, 0)
        except (OSError, ValueError, KeyError):
            return None
        return pid if _start_of(pid) == found.get("start") else None


def _start_of(pid: int) -> str:
    """When a process was started, in clock ticks: distinguishes processes that had the same number."""
    try:
        return Path(f"/proc/{pid}/stat").read_text(encoding="utf-8", errors="replace").rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


def _make_key(file: Path) -> None:
    if not file.exists():
        key = asyncssh.generate_private_key(_ALGORITHM, comment="yatagan practice")
        _write_private(file, key.export_private_key().decode())
        key.write_public_key(f"{file}.pub")


def _write_private(file: Path, text: str) -> None:
    descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as stream:
        stream.write(text)


class _Server(asyncssh.SSHServer):
    """What all practice nodes share: refusing logins, cutting connections."""

    def __init__(self, node: PracticeNode) -> None:
        self._node = node
        self._connection: asyncssh.SSHServerConnection | None = None

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        self._connection = conn
        if self._node.trouble.refuses or _address(conn) == self._node.trouble.now.away:
            conn.abort()
        else:
            self._node.connections.add(conn)

    def connection_lost(self, exc: Exception | None) -> None:
        if self._connection is not None:
            self._node.connections.discard(self._connection)

    def begin_auth(self, username: str) -> bool:
        return True

    def auth_completed(self) -> None:
        connection, seconds = self._connection, self._node.trouble.patience or self._node.patience
        if connection is not None and seconds:
            asyncio.get_running_loop().call_later(seconds, connection.abort)


def _address(connection: asyncssh.SSHServerConnection) -> str:
    """Our own address that a client reached."""
    return str(connection.get_extra_info("sockname")[0])


class _Session(asyncssh.SSHServerProcess[bytes]):
    """A command or file transfer; `ended` is called when it is over."""

    def __init__(self, ended: Callable[[], None], *more: Any) -> None:
        super().__init__(*more)
        self._ended = ended

    def connection_lost(self, exc: Exception | None) -> None:
        super().connection_lost(exc)
        self._ended()


class _ByKey(_Server):
    def __init__(self, node: PracticeNode) -> None:
        super().__init__(node)
        self._sessions = 0

    def session_requested(self) -> Any:
        most = self._node.trouble.now.sessions
        if most is not None and self._sessions >= most:
            return False
        self._sessions += 1
        return _Session(self._session_ended, self._node.run, self._node.files, 3, False)

    def _session_ended(self) -> None:
        self._sessions -= 1

    def begin_auth(self, username: str) -> bool:
        if self._connection is not None:
            self._connection.set_authorized_keys(f"{self._node.site.login_key}.pub")
        return True


class _ByPasswordAndCode(_Server):
    """Keyboard-interactive in two rounds, and a third without prompts where an approval is waited for.

    A code works once.
    """

    def __init__(self, node: PracticeNode) -> None:
        super().__init__(node)
        self._passed = False
        self._approving = False

    def kbdint_auth_supported(self) -> bool:
        return True

    def get_kbdint_challenge(self, username: str, lang: str, submethods: str) -> Any:
        self._passed = False
        prompt = "Password and code in one word: " if self._node.trouble.now.one_word else "Password: "
        return "", "bittern, a practice node", "", [(prompt, False)]

    async def validate_kbdint_response(self, username: str, responses: Any) -> Any:
        if self._approving:
            await asyncio.sleep(self._node.trouble.approval)
            return True
        if self._node.trouble.now.one_word:
            password = self._node.site.password.read_text(encoding="utf-8")
            word = responses[0] if len(responses) == 1 else ""
            return word.startswith(password) and self._use_code(word.removeprefix(password))
        if not self._passed:
            self._passed = list(responses) == [self._node.site.password.read_text(encoding="utf-8")]
            return ("", "", "", [("One-time code: ", False)]) if self._passed else False
        if not self._use_code(responses[0] if len(responses) == 1 else ""):
            return False
        self._approving = self._node.trouble.approval > 0
        return ("", "Approve this login on your phone.", "", []) if self._approving else True

    def _use_code(self, code: str) -> bool:
        file = self._node.site.codes
        left = file.read_text(encoding="utf-8").split()
        if code not in left:
            return False
        left.remove(code)
        _write_private(file, "\n".join(left) + "\n")
        return True


class PracticeNode:
    """One node, served."""

    def __init__(self, site: Site, name: str) -> None:
        self.site = site
        self.name = name
        self.connections: set[asyncssh.SSHServerConnection] = set()
        self.trouble = Trouble(site.faults(name), self.cut)
        self._disk = ForgetfulDisk(site.root / "site" / f"{name}.aside")
        self.port = 0
        self._acceptors: list[asyncssh.SSHAcceptor] = []
        self.patience = _PATIENCE if name == "dunlin" else 0.0

    def cut(self) -> None:
        """Drop every connection."""
        for connection in list(self.connections):
            connection.abort()

    async def serve(self, port: int) -> None:
        """Listen on loopback; on any free port when this one is taken."""
        commands = self.name in BY_KEY
        options: dict[str, Any] = {
            "server_factory": lambda: (_ByKey if commands else _ByPasswordAndCode)(self),
            "server_host_keys": [str(self.site.host_key(self.name))],
            "encoding": None,
            "encryption_algs": ("aes128-gcm@openssh.com", "aes256-ctr"),
            "login_timeout": 120,
        }
        if not commands:
            options["sftp_factory"] = self.files
        try:
            acceptor = await asyncssh.listen("127.0.0.1", port, **options)
        except OSError:
            acceptor = await asyncssh.listen("127.0.0.1", 0, **options)
        self.port = acceptor.get_port()
        self._acceptors.append(acceptor)
        if self.name == "heron":
            with contextlib.suppress(OSError):  # some systems have but one address on loopback
                self._acceptors.append(await asyncssh.listen(SECOND_ADDRESS, self.port, **options))
        self._watch = asyncio.create_task(self._follow_faults())

    async def _follow_faults(self) -> None:
        """Apply faults that must act at once, not at the next request."""
        seen = node_faults.Faults()
        self.site.acting(self.name).unlink(missing_ok=True)
        while True:
            now = self.trouble.now
            if now.other_key != seen.other_key:
                key = self.site.other_key if now.other_key else self.site.host_key(self.name)
                for acceptor in self._acceptors:
                    acceptor.update(server_host_keys=[str(key)])
            if now.power_cut is not None and now.power_cut != seen.power_cut:
                self.cut()
                self._disk.lose_power(now.power_cut)
            for connection in list(self.connections) if now.away is not None else ():
                if _address(connection) == now.away:
                    connection.abort()
            if now != seen:
                node_faults.save(self.site.acting(self.name), now)
            seen = now
            await asyncio.sleep(_FOLLOW_SECONDS)

    def close(self) -> None:
        """Stop serving."""
        self._watch.cancel()
        for acceptor in self._acceptors:
            acceptor.close()
        self.cut()

    def files(self, chan: Any) -> PracticeFiles:
        """The file service of one session."""
        root, hidden = os.fsencode(self.site.home(self.name)), self.name not in BY_KEY
        return PracticeFiles(chan, root, hidden, self.trouble, self._disk)

    async def run(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """Run a command in the account's shell, in its home."""
        home = str(self.site.home(self.name))
        if process.command is None or self.trouble.now.foreign_names or self.trouble.now.no_commands:
            process.stderr.write(b"a practice node: there is no shell to sit at, only commands\n")
            process.exit(1)
            return
        child = await asyncio.create_subprocess_exec(
            "/bin/sh",
            "-c",
            process.command,
            cwd=home,
            start_new_session=True,
            env={"HOME": home, "USER": USER, "PATH": os.environ.get("PATH", os.defpath), "LANG": "C.UTF-8"},
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
        )
        try:
            await process.redirect(stdin=child.stdin, stdout=child.stdout, stderr=child.stderr)
            process.exit(await child.wait())
        finally:
            if child.returncode is None:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(child.pid, signal.SIGKILL)


async def serve(site: Site, started: Any) -> None:
    """Serve all nodes until told to end (SIGTERM, SIGINT). `started` is called with the ports."""
    site.prepare()
    before = site.ports()
    nodes = [PracticeNode(site, name) for name in NODES]
    for node in nodes:
        await node.serve(before.get(node.name, 0))
    ports = {node.name: node.port for node in nodes}
    new = site.running.with_suffix(".new")
    new.write_text(json.dumps({"pid": os.getpid(), "start": _start_of(os.getpid()), "ports": ports}), encoding="utf-8")
    os.replace(new, site.running)
    started(ports)
    over = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, over.set)
    await over.wait()
    for node in nodes:
        node.close()
