"""What the tests share: the program with a home of its own, practice nodes, and a real OpenSSH server."""

from __future__ import annotations

import contextlib
import json
import os
import shlex
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import hypothesis
import pytest

from yatagan.batches.batch_store import Batches
from yatagan.batches.queue import Queue
from yatagan.portable.index import around_offset
from yatagan.portable.tar import Member
from yatagan.practice import node_faults
from yatagan.practice.servers import NODES, Site

# A shell without job control has what it starts in the background ignore SIGINT, and the program heeds that.
signal.signal(signal.SIGINT, signal.default_int_handler)

# A busy machine is no failure.
hypothesis.settings.register_profile("yatagan", deadline=None)
hypothesis.settings.load_profile("yatagan")

SSHD = "/usr/sbin/sshd"

#: Nothing may be skipped here: real servers and all that the tests use must be there.
ALL_NEEDED = "YATAGAN_NEED_SSHD" in os.environ
needs_zstd = pytest.mark.skipif(shutil.which("zstd") is None and not ALL_NEEDED, reason="no zstd command")
#: Where commands are looked for, here and on nodes: the interpreter itself before what stands in front of it.
PATH = f"{sys.base_prefix}/bin:{os.environ['PATH']}"
#: Root may read everything: what must not be readable is read by a run with this in its environment.
NO_RIGHTS = {"NO_RIGHTS": "yes"} if os.geteuid() == 0 else {}
#: The program as it was installed for the Python that runs the tests.
YATAGAN = str(Path(sys.executable).with_name("yatagan"))
SUPPORT = Path(__file__).with_name("support")


def index_line(member: Member, offset: int, digest: str) -> bytes:
    """A member's line in an index, as somebody may have written it."""
    before, after = around_offset(member, digest)
    return b"%b%d%b" % (before, offset, after) if after else before


class ForkServer:
    """Starts runs of the program, one at a time, by a process that has imported what it needs; see forking.py."""

    _root: socket.socket | None = None
    _idle: list[ForkServer] = []
    #: Where a `yatagan` in a line of a shell finds it.
    name = f"yatagan-tests-{os.getpid()}"

    @classmethod
    def idle(cls) -> ForkServer:
        """One that starts nothing at present."""
        return cls._idle.pop() if cls._idle else cls()

    def __init__(self) -> None:
        if ForkServer._root is None:
            ForkServer._root, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            shells = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            shells.bind("\0" + self.name)
            shells.listen()  # before it has imported what it needs, so that who asks early waits
            passed = [theirs.fileno(), shells.fileno()]
            command = [sys.executable, str(SUPPORT / "forking.py"), *map(str, passed)]
            subprocess.Popen(command, env=plain_environment(), pass_fds=passed, stdin=subprocess.DEVNULL)
            theirs.close()
            shells.close()
        self._connection, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        socket.send_fds(ForkServer._root, [b"serve"], [theirs.fileno()])
        theirs.close()

    def start(self, request: list[Any], descriptors: list[int]) -> int:
        """The number of the process that was started."""
        socket.send_fds(self._connection, [json.dumps(request).encode()], descriptors)
        return int(self._connection.recv(100))

    def status(self, seconds: float | None) -> int | None:
        """What `waitpid` gives of the process; None if it still runs after these seconds."""
        self._connection.settimeout(seconds)
        try:
            status = int(self._connection.recv(100) or signal.SIGKILL)  # the server has gone
        except (TimeoutError, BlockingIOError):
            return None
        self._connection.settimeout(None)
        ForkServer._idle.append(self)
        return status


class ForkedPopen(subprocess.Popen[Any]):
    """A process of the program that is forked, where `subprocess.Popen` starts an interpreter."""

    account: tuple[int, list[int], int] | None = None
    at_terminal = False

    def _execute_child(self, args: Any, executable: Any, preexec_fn: Any, *more: Any) -> None:
        _, _, cwd, env, _, _, _, *streams = more[:13]
        self._server = ForkServer.idle()
        request = [[os.fsdecode(word) for word in args[1:]], str(cwd), env, self.account, self.at_terminal]
        own = (stream if stream >= 0 else number for number, stream in enumerate((streams[0], streams[3], streams[5])))
        self.pid = self._server.start(request, list(own))
        self._child_created = True
        self._close_pipe_fds(*streams)  # type: ignore[attr-defined]

    def _try_wait(self, wait_flags: int) -> tuple[int, int]:
        status = self._server.status(0 if wait_flags else None)
        return (self.pid, status) if status is not None else (0, 0)

    def _internal_poll(self, *_: Any, **__: Any) -> int | None:
        if self.returncode is None:
            process, status = self._try_wait(os.WNOHANG)
            if process:
                self._handle_exitstatus(status)  # type: ignore[attr-defined]
        return self.returncode


def run_forked(
    words: Sequence[str | bytes | os.PathLike[str]],
    directory: Path,
    environment: dict[str, str],
    seconds: float,
    watch: Callable[[int], None] = lambda process: None,
    account: tuple[int, list[int], int] | None = None,
    tick: float = 0.05,
) -> subprocess.CompletedProcess[str]:
    """Run the program to its end. `watch` is called with its process every `tick` seconds while it runs.

    `account`: the number of another one, its groups, and its umask.
    """
    server, said, decoded = ForkServer.idle(), [], [os.fsdecode(word) for word in words]
    request = [decoded, str(directory), environment, account, False]
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err, open(os.devnull) as null:
        child = server.start(request, [null.fileno(), out.fileno(), err.fileno()])
        end = time.monotonic() + seconds
        while (status := server.status(tick)) is None:
            watch(child)
            if time.monotonic() > end:
                os.kill(child, signal.SIGKILL)
                raise subprocess.TimeoutExpired(decoded, seconds)
        for stream in (out, err):
            stream.seek(0)
            said.append(stream.read().decode("utf-8", "surrogateescape"))
    return subprocess.CompletedProcess(decoded, os.waitstatus_to_exitcode(status), *said)


#: What `node add` has written, by its words.
_SAVED: dict[tuple[str, ...], str] = {}
#: Seconds after which a run is hopeless, however busy the machine is.
HOPELESS = 300
_PYTHONPATH = os.environ.get("PYTHONPATH")


def interpreted() -> bool:
    """Whether an interpreter is started for every run: if that is asked for, or it is to find modules elsewhere."""
    return "YATAGAN_TEST_EXEC" in os.environ or os.environ.get("PYTHONPATH") != _PYTHONPATH


def plain_environment() -> dict[str, str]:
    """As a user's environment is: no agent, no home of ours, and compiled modules kept between runs."""
    left_out = ("SSH_", "YATAGAN_", "XDG_", "PYTHONDONTWRITEBYTECODE")
    return {key: value for key, value in os.environ.items() if not key.startswith(left_out)}


@dataclass(frozen=True)
class Program:
    """The installed program, run as a user would, with directories of its own.

    A run is a fork of a process that has imported what the program takes from others, unless YATAGAN_TEST_EXEC is set
    or something else than usual is asked for, or an interpreter is to find modules elsewhere.
    """

    home: Path
    directory: Path

    def environment(self) -> dict[str, str]:
        return {
            **plain_environment(),
            "YATAGAN_HOME": str(self.home),
            "HOME": str(self.home),
            "LC_ALL": "C.UTF-8",
            "PATH": PATH,
        }

    def __call__(
        self, *words: str | bytes | Path, expect: int | None = 0, env: dict[str, str] | None = None, **more: Any
    ) -> subprocess.CompletedProcess[str]:
        """Run it to its end, with `env` besides its environment."""
        environment = {**self.environment(), **(env or {})}
        if more or interpreted():
            done = subprocess.run(
                [YATAGAN, *words],
                cwd=self.directory,
                env=environment,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                text=True,
                errors="surrogateescape",
                timeout=HOPELESS,
                **more,
            )
        else:
            done = run_forked(words, self.directory, environment, HOPELESS)
        assert "Traceback" not in done.stderr, done.stderr
        if expect is not None:
            assert done.returncode == expect, f"{words}: {done.returncode}\n{done.stdout}\n{done.stderr}"
        return done

    def json(self, *words: str | bytes | Path, expect: int = 0, env: dict[str, str] | None = None) -> Any:
        return json.loads(self(*words, "--json", expect=expect, env=env).stdout)

    def shell(self, line: str, shell: str = "bash", **more: Any) -> subprocess.CompletedProcess[str]:
        """Run a line of a shell in which `yatagan` is the program."""
        found = Path(YATAGAN)
        if not interpreted():
            ForkServer._idle.append(ForkServer.idle())  # there must be one
            found = self.home / "bin" / "yatagan"
            found.parent.mkdir(exist_ok=True)
            start = (
                f"import sys; sys.path[:0] = [{str(SUPPORT)!r}]; from shell_line import main; main({ForkServer.name!r})"
            )
            found.write_text(f'#!/bin/sh\nexec {sys.executable} -I -S -c {shlex.quote(start)} "$@"\n')
            found.chmod(0o755)
        environment = self.environment()
        environment["PATH"] = f"{found.parent}:{environment['PATH']}"
        where: Any = {"cwd": self.directory, "env": environment, "stdin": subprocess.DEVNULL, "timeout": HOPELESS}
        done = subprocess.run([shell, "-c", line], **where, capture_output=True, text=True, check=False, **more)
        assert "Traceback" not in done.stderr, done.stderr
        return done

    def know(self, far: Far) -> None:
        """Save a node, as `node add` does, which is run once for all that differ in their start directory alone."""
        file, start = self.home / "nodes.toml", str(far.root)
        saved = _SAVED.get(key := tuple(word.replace(start, "START") for word in far.add))
        if saved is not None:
            file.touch(0o600)
            with file.open("a") as stream:
                stream.write(saved.replace("START", start))
            return
        alone = not file.exists()
        self(*far.add)
        if alone:
            _SAVED[key] = file.read_text().replace(start, "START") + "\n"

    def save(self, *add: str) -> None:
        """Save a node by `node add`, in place of one of its name."""
        self("node", "remove", add[2], expect=None)
        self(*add)

    def dies_at(self, moment: str, *words: str) -> None:
        """Run it until that moment, at which it is killed; see dying.py."""
        done = run_forked(words, self.directory, {**self.environment(), "DIES_AT": moment}, HOPELESS)
        assert done.returncode == -signal.SIGKILL, f"{moment} never came\n{done.stdout}\n{done.stderr}"

    def start(self, *words: str, env: dict[str, str] | None = None) -> subprocess.Popen[str]:
        """Start it, with `env` besides its environment."""
        start = subprocess.Popen if interpreted() else ForkedPopen
        return start(
            [YATAGAN, *words],
            cwd=self.directory,
            env={**self.environment(), **(env or {})},
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )


@pytest.fixture
def program(tmp_path: Path) -> Iterator[Program]:
    """The program with an empty home, working in `tmp_path/near`. Nodes that were opened are closed in the end."""
    (tmp_path / "near").mkdir()
    (tmp_path / "home").mkdir(mode=0o700)
    (tmp_path / "home" / "settings.toml").write_text('[connection]\npatience = "20s"\nsilence = "20s"\n')
    found = Program(tmp_path / "home", tmp_path / "near")
    yield found
    _end_workers(found)
    for log in (tmp_path / "home" / "keepers").glob("*.log"):
        found("node", "close", log.stem, "--yes", expect=None)
    defects = found.home / "defects.log"
    assert not defects.exists(), defects.read_text()


def _end_workers(program: Program) -> None:
    """End the workers that a test has left."""
    for file in (program.home / "queue").glob("*.db"):
        queue = Queue(file, Batches(program.home / "batches"))
        for holder in [*(entry.worker for entry in queue.entries()), queue.waiting_lock().holder()]:
            if holder is not None and holder.is_alive:
                os.kill(holder.pid, signal.SIGKILL)


@dataclass
class Far:
    """A node that the program knows, and its start directory as the tests see it."""

    name: str
    root: Path
    add: list[str]
    kind: str


def at_once(faults: node_faults.Faults) -> tuple[object, ...]:
    """What a node does before anything is asked of it."""
    return faults.other_key, faults.power_cut, faults.away


@dataclass
class Practice:
    """Running practice nodes."""

    site: Site

    def wrong(self, node: str, **wrong: str) -> None:
        now = node_faults.Faults()
        for name, value in wrong.items():
            now = now.with_(name, value)
        node_faults.save(self.site.faults(node), now)
        wait_for(lambda: at_once(node_faults.load(self.site.acting(node))) == at_once(now))

    def far(self, node: str = "heron") -> Far:
        from yatagan.cli.commands.practice import node_add

        return Far(node, self.site.home(node), node_add(self.site, node, self.site.ports()[node])[1:], "practice")


@pytest.fixture(scope="session")
def _practice(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Practice]:
    root = tmp_path_factory.mktemp("practice")
    home = tmp_path_factory.mktemp("practice-home")
    run = Program(home, root)
    run("practice", "--root", str(root), "--background")
    yield Practice(Site(root))
    run("practice", "--root", str(root), "--stop")


@pytest.fixture
def practice(_practice: Practice) -> Iterator[Practice]:
    """The practice nodes, empty and without faults."""
    for node in NODES:
        _practice.wrong(node)
        for entry in _practice.site.home(node).iterdir():
            _remove(entry)
    yield _practice
    for node in NODES:
        _practice.wrong(node)


@dataclass
class OpenSsh:
    """A real OpenSSH server on loopback, with a key that opens it."""

    base: Path
    port: int
    user: str

    def far(self, root: Path) -> Far:
        fingerprint = subprocess.run(
            ["ssh-keygen", "-lf", str(self.base / "host.pub")], capture_output=True, text=True, check=True
        ).stdout.split()[1]
        add = [
            "node",
            "add",
            "oak",
            "127.0.0.1",
            "--port",
            str(self.port),
            "--user",
            self.user,
            "--key",
            str(self.base / "login"),
            "--start",
            str(root),
            "--trust",
            fingerprint,
        ]
        return Far("oak", root, add, "openssh")


def start_sshd(
    base: Path, extra: str = "", sftp: str = "/usr/lib/openssh/sftp-server", sshd: str = SSHD, use_pam: str = "no"
) -> tuple[subprocess.Popen[bytes], int]:
    """Start sshd on a free port; returns when it listens."""
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    for name in ("host", "login"):
        if not (base / name).exists():
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(base / name)], check=True)
    config = base / f"sshd-{port}.conf"
    log = base / f"sshd-{port}.log"
    config.write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {base}/host\nPidFile none\nUsePAM {use_pam}\nStrictModes no\n"
        f"AuthorizedKeysFile {base}/login.pub\nPermitRootLogin yes\n"
        # A shell as deep as this one does not read the start-up files of whoever runs the tests.
        f"SetEnv SHLVL=1 PATH={PATH}\n"
        f"Subsystem sftp {sftp}\n{extra}"
    )
    if os.geteuid() == 0:
        os.makedirs("/run/sshd", exist_ok=True)
    child = subprocess.Popen([sshd, "-D", "-f", str(config), "-E", str(log)], start_new_session=True)
    for _ in range(200):
        if log.exists() and "Server listening" in log.read_text():
            return child, port
        time.sleep(0.05)
    raise AssertionError(f"sshd did not start: {log.read_text() if log.exists() else 'no log'}")


@pytest.fixture(scope="session")
def openssh(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OpenSsh]:
    if not os.access(SSHD, os.X_OK) or not shutil.which("ssh-keygen"):
        if ALL_NEEDED:
            pytest.fail("there is no OpenSSH server, and here its tests must run")
        pytest.skip("no OpenSSH server on this machine")
    base = tmp_path_factory.mktemp("openssh")
    child, port = start_sshd(base)
    import getpass

    yield OpenSsh(base, port, getpass.getuser())
    child.send_signal(signal.SIGTERM)
    child.wait(10)


@pytest.fixture(params=["practice", pytest.param("openssh", marks=pytest.mark.server)])
def far(request: pytest.FixtureRequest, program: Program, tmp_path: Path) -> Far:
    """A saved node that takes keys and runs commands: once a practice node, once a real OpenSSH server.

    In modules marked `kept`, with the kinds of node, these are open, so that all goes through their keepers.
    """
    if request.param == "practice":
        found: Far = request.getfixturevalue("practice").far()
    else:
        (tmp_path / "far").mkdir()
        found = request.getfixturevalue("openssh").far(tmp_path / "far")
    program.know(found)
    marker = request.node.get_closest_marker("kept")
    if marker is not None and found.kind in marker.args:
        program("node", "open", found.name)
    return found


@pytest.fixture
def oak(openssh: OpenSsh, program: Program, tmp_path: Path) -> Far:
    """The real server alone."""
    (tmp_path / "far").mkdir()
    found = openssh.far(tmp_path / "far")
    program.know(found)
    return found


def _remove(entry: Path) -> None:
    if entry.is_symlink() or not entry.is_dir():
        entry.unlink()
    else:
        shutil.rmtree(entry)


def snapshot(root: Path | bytes, *, times: bool = True) -> dict[bytes, tuple[Any, ...]]:
    """Everything below a directory: kind, mode, time to the second, contents or target. Part files included."""
    base = os.fsencode(root)
    found: dict[bytes, tuple[Any, ...]] = {}
    for directory, names, files in os.walk(base):
        for name in [*names, *files]:
            path = os.path.join(directory, name)
            status = os.lstat(path)
            key = os.path.relpath(path, base)
            if os.path.islink(path):
                found[key] = ("link", os.readlink(path))
            elif os.path.isdir(path):
                found[key] = ("directory", status.st_mode & 0o777, status.st_mtime_ns // 10**9 if times else 0)
            else:
                with open(path, "rb") as stream:
                    found[key] = (
                        "file",
                        status.st_mode & 0o777,
                        status.st_mtime_ns // 10**9 if times else 0,
                        stream.read(),
                    )
    return found


def part_file(directory: Path, size: int = 0, pattern: str = ".yatagan-*.part") -> Path | None:
    """A part file of more than `size` bytes, if there is one. Others may come and go while it is looked for."""
    for path in directory.glob(pattern):
        with contextlib.suppress(FileNotFoundError):
            if path.is_file() and path.stat().st_size > size:
                return path
    return None


@contextlib.contextmanager
def meanwhile(do: Callable[[], object], every: float = 0.005) -> Iterator[None]:
    """Something that is done again and again, from another thread."""
    over = threading.Event()

    def work() -> None:
        while not over.wait(every):
            do()

    thread = threading.Thread(target=work)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


def first_run(program: Program, routine: str) -> dict[str, Any]:
    """The first run of a routine, which a worker begins as soon as it is added, once it is over."""
    found: list[dict[str, Any]] = []

    def over() -> bool:
        found[:] = program.json("routine", "show", routine)["runs"]
        return bool(found) and found[0]["outcome"] != "running"

    wait_for(over)
    return found[0]


def opened_below(directory: Path) -> list[str]:
    """What this process has open below a directory."""
    names = []
    for descriptor in Path("/proc/self/fd").iterdir():
        with contextlib.suppress(FileNotFoundError):  # the one that the listing itself had open
            names.append(os.readlink(descriptor))
    return [name for name in names if name.startswith(f"{directory}/")]


def moment(text: str) -> float:
    """A time of an answer, in seconds since the epoch."""
    return datetime.fromisoformat(text).timestamp()


def wait_for(true: Callable[[], bool], seconds: float = 30) -> None:
    """Until something is so; the limit only ends a hopeless wait. A look that takes long is rarer."""
    end = time.monotonic() + seconds
    while True:
        began = time.monotonic()
        if true():
            return
        assert began < end, "it did not come to pass"
        time.sleep(min(max(0.02, 4 * (time.monotonic() - began)), 0.5))
