"""Three real accounts: an attacker plants, a colleague shares, and the victim comes to no harm.

Every planting is made by the attacker's own account, in a shared project, a shared ledger, a shared destination, or
around the victim's home; then the victim runs a command, under several umasks. Nothing of the victim is written, read
out, run or hung.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import stat
import subprocess
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from conftest import ALL_NEEDED, PATH, run_forked

GROUP, ATTACKER, COLLEAGUE, VICTIM = "ygfen", "yg-mallory", "yg-jo", "yg-mara"
#: What stands in the victim's private files, and nowhere else.
SECRET = b"the moor keeps what it takes"
PROJECT = '[project]\nname = "fen"\nledger = "led"\n'
#: Seconds in which every command must have ended.
PATIENCE = 30


@dataclass(frozen=True)
class Accounts:
    """The accounts' numbers, and that of the group which is the main one of all of them."""

    attacker: int
    colleague: int
    victim: int
    group: int


@pytest.fixture(scope="module")
def accounts() -> Iterator[Accounts]:
    if os.geteuid() != 0 or not ALL_NEEDED:
        pytest.skip("makes accounts, which is for throwaway machines (YATAGAN_NEED_SSHD=1, as root)")
    tag = f"{os.getpid() % 10000:04}"  # several test processes may do so at once
    names = [f"{name}{tag}" for name in (ATTACKER, COLLEAGUE, VICTIM)]
    try:
        subprocess.run(["groupadd", f"{GROUP}{tag}"], check=True)
        for name in names:
            make = ["useradd", "--no-create-home", "--gid", f"{GROUP}{tag}", "--shell", "/bin/sh", name]
            subprocess.run(make, check=True)
        import grp
        import pwd

        numbers = [pwd.getpwnam(name).pw_uid for name in names]
        yield Accounts(numbers[0], numbers[1], numbers[2], grp.getgrnam(f"{GROUP}{tag}").gr_gid)
    finally:
        for name in names:
            subprocess.run(["userdel", name], check=False, stderr=subprocess.DEVNULL)
        subprocess.run(["groupdel", f"{GROUP}{tag}"], check=False, stderr=subprocess.DEVNULL)


@dataclass
class Scene:
    """The places of one planting."""

    base: Path
    accounts: Accounts
    umask: int
    #: The victim's tree that is staged, made once: what is just written is waited for.
    data: Path
    environment: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.home = self.base / "homes" / "mara"
        self.shared = self.base / "shared"
        self.project = self.shared / "project"
        self.led = self.project / "led"
        self.dest = self.shared / "dest"
        self.private = self.home / "private"
        self.secret = self.private / "secret.txt"
        self.start_up = self.home / ".bashrc.d"
        self.config, self.state = self.home / ".config", self.home / ".local" / "state"

    def build(self) -> None:
        group, victim, colleague = self.accounts.group, self.accounts.victim, self.accounts.colleague
        for place, mode, owner in (
            (self.base, 0o755, 0),
            (self.base / "homes", 0o755, 0),
            (self.home, 0o755, victim),
            (self.shared, 0o2775, colleague),
            (self.project, 0o2775, colleague),
            (self.led, 0o2775, colleague),
            (self.dest, 0o2775, colleague),
            (self.private, 0o700, victim),
            # Whoever could follow a link of the attacker's would be able to write here.
            (self.start_up, 0o700, victim),
            (self.home / "work", 0o700, victim),
        ):
            place.mkdir(exist_ok=True)
            os.chown(place, owner, group)
            place.chmod(mode)
        for file, data, owner in (
            (self.project / "yatagan.toml", PROJECT.encode(), colleague),
            (self.secret, SECRET, victim),
            (self.home / ".profile", b"# mine\n", victim),
        ):
            file.write_bytes(data)
            os.chown(file, owner, group)
            file.chmod(0o664 if owner == colleague else 0o600)

    def as_attacker(self, plant: Callable[[Scene], object]) -> None:
        child = os.fork()
        if child == 0:
            status = 1
            try:
                os.umask(0)
                os.setgroups([self.accounts.group])
                os.setgid(self.accounts.group)
                os.setuid(self.accounts.attacker)
                plant(self)
                status = 0
            except BaseException:  # noqa: BLE001
                import traceback

                traceback.print_exc()
            finally:
                os._exit(status)
        assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0, "the planting itself failed"

    def run(self, *words: str, directory: Path | None = None) -> subprocess.CompletedProcess[str]:
        """The victim's command."""
        environment = {
            "HOME": str(self.home),
            "USER": "mara",
            "LOGNAME": "mara",
            "PATH": PATH,
            "LC_ALL": "C.UTF-8",
            "XDG_CONFIG_HOME": str(self.config),
            "XDG_STATE_HOME": str(self.state),
            **self.environment,
        }
        account = (self.accounts.victim, [self.accounts.group], self.umask)
        return run_forked(words, directory or self.home / "work", environment, PATIENCE, account=account)

    def precious(self) -> dict[str, tuple[int, int, str]]:
        """All of the victim's home that no command has any business with: owner, mode, contents."""
        found = {}
        for above, directories, files in os.walk(self.home):
            for name in (*directories, *files):
                path = Path(above, name)
                inside = path.relative_to(self.home)
                if inside.parts[0] in (".config", ".local", "back"):
                    continue
                facts = path.lstat()
                what = ""
                if stat.S_ISREG(facts.st_mode):
                    what = hashlib.sha256(path.read_bytes()).hexdigest()
                elif stat.S_ISLNK(facts.st_mode):
                    what = os.readlink(path)
                found[str(inside)] = (facts.st_uid, facts.st_mode, what)
        return found

    def holds_secret(self) -> list[str]:
        """Files outside the victim's private directory that hold what stands in it."""
        found = []
        for above, _, files in os.walk(self.base):
            for name in files:
                path = Path(above, name)
                if path.is_relative_to(self.private) or not stat.S_ISREG(path.lstat().st_mode):
                    continue
                if path.lstat().st_size < 10_000_000 and SECRET in path.read_bytes():
                    found.append(str(path.relative_to(self.base)))
        return found


def write(path: Path, data: bytes | str, mode: int = 0o666) -> None:
    path.write_bytes(data if isinstance(data, bytes) else data.encode())
    path.chmod(mode)


def instead(path: Path) -> Path:
    """The place of something, which is moved away: the directory is the group's."""
    if os.path.lexists(path):
        path.rename(path.with_name(f"{path.name}.was"))
    return path


def sparse(path: Path, size: int) -> None:
    with path.open("wb") as stream:
        stream.truncate(size)


def settings_that_run(scene: Scene, directory: Path) -> None:
    write(directory / "settings.toml", f'[notice]\ncommand = "touch {scene.base}/ran"\nwhen = "always"\n')


RECORD = {
    "format": 2,
    "kind": "staged",
    "outcome": "good",
    "who": "x\x1b[31mfen@bed",
    "recorded_at": "2026-11-27T10:00:00.000000Z",
    "version": "1",
    "number": 1,
    "previous": "",
    "id": "evil\x1b]0;owned\x07",
    "from": [{"node": "=cmd|' /C calc'!A0", "path": "/x\x1b[2J"}],
    "to": {"node": "\x1b[31mheron", "path": "/y\u202e"},
    "command": ["stage", "\x1b[1m"],
}


def records(scene: Scene, **more: object) -> None:
    writers = scene.led / "writers"
    writers.mkdir(exist_ok=True)
    (scene.led / "lists").mkdir(exist_ok=True)
    name = "mallory-0123456789abcdef"
    line = json.dumps({**RECORD, "writer": name, **more}, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    write(writers / f"{name}.jsonl", line + "\n")


def archive(path: Path, scene: Scene) -> None:
    data = io.BytesIO()
    with tarfile.open(fileobj=data, mode="w") as tar:
        for name, link in (("../../homes/mara/.bashrc.d/x", ""), ("in", str(scene.start_up)), ("in/x", "")):
            member = tarfile.TarInfo(name)
            if link:
                member.type, member.linkname = tarfile.SYMTYPE, link
                tar.addfile(member)
            else:
                member.size = 5
                tar.addfile(member, io.BytesIO(b"evil\n"))
    write(path, data.getvalue())


STAGE = ("stage", "{data}", "{dest}", "--no-questions")
#: Name, what the attacker plants, the victim's command, and in which directory it is run.
PLANTINGS: list[tuple[str, Callable[[Scene], object], tuple[str, ...], str]] = [
    # -- a shared project ----------------------------------------------------------------------------------
    ("writers-link", lambda s: (s.led / "writers").symlink_to(s.start_up), STAGE, "{project}"),
    ("lists-link", lambda s: (s.led / "lists").symlink_to(s.start_up), STAGE, "{project}"),
    ("ledger-link", lambda s: instead(s.led).symlink_to(s.start_up), STAGE, "{project}"),
    ("ledger-file", lambda s: write(instead(s.led), "x"), STAGE, "{project}"),
    ("ledger-fifo", lambda s: os.mkfifo(instead(s.led)), STAGE, "{project}"),
    (
        "project-out",
        lambda s: write(instead(s.project / "yatagan.toml"), PROJECT.replace('"led"', f'"{s.start_up}"')),
        STAGE,
        "{project}",
    ),
    (
        "project-up",
        lambda s: write(instead(s.project / "yatagan.toml"), PROJECT.replace('"led"', '"../../homes/mara/.bashrc.d"')),
        STAGE,
        "{project}",
    ),
    (
        "project-shell",
        lambda s: write(
            instead(s.project / "yatagan.toml"), f'[project]\nname = "$(touch {s.base}/ran)"\nledger = "led"\n'
        ),
        STAGE,
        "{project}",
    ),
    (
        "project-escapes",
        lambda s: write(instead(s.project / "yatagan.toml"), '[project]\nname = "a\\u001b[31m"\n[x."\\u001b]0;y"]\n'),
        ("project", "show"),
        "{project}",
    ),
    (
        "project-link",
        lambda s: (s.shared / "yatagan.toml").symlink_to(s.home / "clone" / "yatagan.toml"),
        STAGE,
        "{shared}",
    ),
    ("project-zero", lambda s: instead(s.project / "yatagan.toml").symlink_to("/dev/zero"), STAGE, "{project}"),
    ("local-zero", lambda s: (s.project / "yatagan.local.toml").symlink_to("/dev/zero"), STAGE, "{project}"),
    ("local-secret", lambda s: (s.project / "yatagan.local.toml").symlink_to(s.secret), STAGE, "{project}"),
    ("local-fifo", lambda s: os.mkfifo(s.project / "yatagan.local.toml"), STAGE, "{project}"),
    ("local-huge", lambda s: sparse(s.project / "yatagan.local.toml", 20 << 30), STAGE, "{project}"),
    ("local-deep", lambda s: write(s.project / "yatagan.local.toml", "a = " + "[" * 5000), STAGE, "{project}"),
    (
        "local-dotted",
        lambda s: write(s.project / "yatagan.local.toml", "a" + ".a" * 400_000 + " = 1"),
        STAGE,
        "{project}",
    ),
    ("local-digits", lambda s: write(s.project / "yatagan.local.toml", "a = " + "9" * 5000), STAGE, "{project}"),
    (
        "local-out",
        lambda s: write(s.project / "yatagan.local.toml", f'[project]\nledger = "{s.start_up}"\n'),
        STAGE,
        "{project}",
    ),
    # -- a shared ledger -----------------------------------------------------------------------------------
    (
        "writer-fifo",
        lambda s: (records(s), os.mkfifo(s.led / "writers" / "jo-0123456789abcdef.jsonl")),
        STAGE,
        "{project}",
    ),
    (
        "writer-secret",
        lambda s: (records(s), (s.led / "writers" / "jo-0123456789abcdef.jsonl").symlink_to(s.secret)),
        ("ledger", "check"),
        "{project}",
    ),
    (
        "list-secret",
        lambda s: (records(s, list="f" * 64), (s.led / "lists" / ("f" * 64)).symlink_to(s.secret)),
        ("ledger", "show", "--full"),
        "{project}",
    ),
    ("old-secret", lambda s: (records(s), (s.led / "old.jsonl").symlink_to(s.secret)), ("ledger", "show"), "{project}"),
    ("record-escapes", lambda s: records(s), ("ledger", "show", "--full"), "{project}"),
    ("record-formulas", lambda s: records(s), ("ledger", "export", "--csv"), "{project}"),
    ("record-report", lambda s: records(s), ("ledger", "show", "--json"), "{project}"),
    ("record-number", lambda s: records(s, number=9 * 10**15), ("ledger", "check"), "{project}"),
    (
        "bad-lines",
        lambda s: (records(s), write(s.led / "writers" / "jo-0123456789abcdef.jsonl", b"{}\n" * 8000)),
        ("ledger", "check"),
        "{project}",
    ),
    (
        "signers-slow",
        lambda s: write(s.led / "allowed_signers", "jo " + 'a="b",a' * 40 + "! ssh-ed25519 AAAA\n"),
        ("ledger", "signers"),
        "{project}",
    ),
    ("signers-secret", lambda s: (s.led / "allowed_signers").symlink_to(s.secret), ("ledger", "signers"), "{project}"),
    ("signers-zero", lambda s: (s.led / "revoked_keys").symlink_to("/dev/zero"), ("ledger", "signers"), "{project}"),
    (
        "revoked-closed",
        lambda s: (records(s, signature="AAAA"), write(s.led / "revoked_keys", "x", 0o600)),
        ("ledger", "check"),
        "{project}",
    ),
    ("writers-closed", lambda s: ((s.led / "writers").mkdir(), (s.led / "writers").chmod(0o700)), STAGE, "{project}"),
    # -- a shared destination ------------------------------------------------------------------------------
    ("dest-link", lambda s: instead(s.dest).symlink_to(s.start_up), STAGE, "{work}"),
    ("dest-inner-link", lambda s: (s.dest / "data").symlink_to(s.start_up), STAGE, "{work}"),
    (
        "dest-file-link",
        lambda s: ((s.dest / "data").mkdir(), (s.dest / "data" / "a.csv").symlink_to(s.secret)),
        STAGE,
        "{work}",
    ),
    ("dest-fifo", lambda s: ((s.dest / "data").mkdir(), os.mkfifo(s.dest / "data" / "a.csv")), STAGE, "{work}"),
    (
        "dest-kept-link",
        lambda s: (
            (s.dest / "data").mkdir(),
            write(s.dest / "data" / "a.csv", "old"),
            os.utime(s.dest / "data" / "a.csv", (1_500_000_000, 1_500_000_000)),
            (s.dest / ".yatagan-kept").symlink_to(s.start_up),
        ),
        STAGE,
        "{work}",
    ),
    (
        "source-link",
        lambda s: (s.shared / "src").symlink_to(s.private),
        ("stage", "{shared}/src/", "{dest}", "--no-questions"),
        "{home}",
    ),
    (
        "source-inner",
        lambda s: ((s.shared / "src").mkdir(), (s.shared / "src" / "x").symlink_to(s.secret)),
        ("stage", "{shared}/src", "{dest}", "--no-questions"),
        "{home}",
    ),
    (
        "source-fifo",
        lambda s: ((s.shared / "src").mkdir(), os.mkfifo(s.shared / "src" / "x")),
        ("stage", "{shared}/src", "{home}/back", "--no-questions"),
        "{home}",
    ),
    ("peek-link", lambda s: (s.shared / "notes").symlink_to(s.secret), ("peek", "{shared}/notes"), "{home}"),
    (
        "edit-link",
        lambda s: (s.shared / "notes").symlink_to(s.secret),
        ("edit", "{shared}/notes", "--no-questions"),
        "{home}",
    ),
    ("list-names", lambda s: write(s.shared / "a\x1b[31m\n\u202e", "x"), ("list", "{shared}"), "{home}"),
    (
        "glob-names",
        lambda s: write(s.shared / "--\x1b[31mx", "x"),
        ("list", "--\x1b[31mx", "b\x1b]0;z\x07"),
        "{shared}",
    ),
    (
        "sums-secret",
        lambda s: (s.shared / "SHA256SUMS").symlink_to(s.secret),
        ("verify", "{data}", "--against", "{shared}/SHA256SUMS"),
        "{home}",
    ),
    (
        "sums-fifo",
        lambda s: os.mkfifo(s.shared / "SHA256SUMS"),
        ("verify", "{data}", "--against", "{shared}/SHA256SUMS"),
        "{home}",
    ),
    (
        "unpack",
        lambda s: archive(s.shared / "in.tar", s),
        ("bundle", "unpack", "{shared}/in.tar", "--into", "{home}/back"),
        "{home}",
    ),
    # -- around the home -----------------------------------------------------------------------------------
    (
        "config-theirs",
        lambda s: ((s.config / "yatagan").mkdir(), settings_that_run(s, s.config / "yatagan")),
        STAGE,
        "{work}",
    ),
    (
        "config-link",
        lambda s: (
            (s.shared / "cfg").mkdir(),
            settings_that_run(s, s.shared / "cfg"),
            (s.config / "yatagan").symlink_to(s.shared / "cfg"),
        ),
        STAGE,
        "{work}",
    ),
    ("config-file", lambda s: settings_that_run(s, s.config / "yatagan"), STAGE, "{work}"),
    (
        "nodes-link",
        lambda s: (
            write(s.shared / "nodes.toml", '[node.heron]\naddress = "evil.example"\n'),
            (s.config / "yatagan" / "nodes.toml").symlink_to(s.shared / "nodes.toml"),
        ),
        ("node", "list"),
        "{work}",
    ),
    ("state-theirs", lambda s: (s.state / "yatagan" / "batches").mkdir(parents=True), ("batch", "list"), "{work}"),
    ("state-accepted", lambda s: write(s.state / "yatagan" / "accepted.json", "[]"), ("project", "show"), "{project}"),
    ("home-above", lambda s: (s.config / "yatagan").rename(s.config / "was"), ("config", "show"), "{work}"),
    ("runtime-theirs", lambda s: (s.shared / "run" / "yatagan").mkdir(parents=True), ("node", "list"), "{work}"),
]
#: Where the home itself is not as it should be: what is open to the group before the attacker comes.
OPEN_HOMES: dict[str, tuple[str, ...]] = {
    "config-theirs": (".config",),
    "config-link": (".config",),
    "config-file": (".config/yatagan",),
    "nodes-link": (".config/yatagan",),
    "state-theirs": (".local/state",),
    "state-accepted": (".local/state/yatagan",),
    "home-above": (".config", ".config/yatagan"),
}


def prepare(scene: Scene, name: str) -> None:
    """What of the victim's own is there beforehand."""
    accounts = scene.accounts
    own = [".config", ".local", ".local/state", *OPEN_HOMES.get(name, ())]
    if name == "project-link":
        own.append("clone")
    for place in own:
        path = scene.home / place
        path.mkdir(exist_ok=True)
        os.chown(path, accounts.victim, accounts.group)
        path.chmod(0o2775 if place in OPEN_HOMES.get(name, ()) else 0o755 if name in OPEN_HOMES else 0o700)
    if name == "project-link":
        write(scene.home / "clone" / "yatagan.toml", PROJECT, 0o600)
        os.chown(scene.home / "clone" / "yatagan.toml", accounts.victim, accounts.group)
        (scene.home / "clone").chmod(0o755)
    if name == "runtime-theirs":
        scene.environment["XDG_RUNTIME_DIR"] = str(scene.shared / "run")


@pytest.fixture(scope="module")
def data(accounts: Accounts) -> Iterator[Path]:
    base = Path(tempfile.mkdtemp(prefix="yatagan-accounts-"))
    base.chmod(0o755)
    made = base / "data"
    made.mkdir(mode=0o700)
    for name in ("a.csv", "b.csv"):
        (made / name).write_text(f"{name},1\n")
    for path in (made / "a.csv", made / "b.csv", made):
        os.chown(path, accounts.victim, accounts.group)
    yield made
    shutil.rmtree(base)


@pytest.fixture
def scene(accounts: Accounts, data: Path, request: pytest.FixtureRequest) -> Iterator[Scene]:
    base = Path(tempfile.mkdtemp(prefix="yatagan-accounts-"))
    found = Scene(base, accounts, request.param, data)
    found.build()
    yield found
    shutil.rmtree(base)


@pytest.mark.parametrize("scene", [0o000, 0o002, 0o077], indirect=True, ids=lambda umask: f"{umask:03o}")
@pytest.mark.parametrize(("name", "plant", "words", "directory"), PLANTINGS, ids=[each[0] for each in PLANTINGS])
def test_a_planting(
    name: str, plant: Callable[[Scene], object], words: tuple[str, ...], directory: str, scene: Scene
) -> None:
    places = {
        **{each: str(getattr(scene, each)) for each in ("home", "shared", "project", "dest", "data")},
        "work": str(scene.home / "work"),
    }
    prepare(scene, name)
    if directory == "{project}" and name not in OPEN_HOMES:
        scene.run("project", "accept", directory=scene.project)  # the victim trusts the colleague
    scene.as_attacker(plant)
    before = scene.precious()
    typed = [word.format(**places) for word in words]
    done = scene.run(*typed, directory=Path(directory.format(**places)))
    said = done.stdout + done.stderr
    if "YATAGAN_SHOW" in os.environ:
        print(f"== {name}: {' '.join(typed)}: {done.returncode}\n{said}")
    assert done.returncode in (0, 1, 2, 4, 5), said
    assert "Traceback" not in said and "\x1b" not in said and SECRET.decode() not in said, said
    assert scene.precious() == before, "something of the victim's was written"
    assert not scene.holds_secret(), "something of the victim's was read out"
    assert not (scene.base / "ran").exists(), "something was run"
    if "stage" in words and done.returncode == 0 and "{data}" in words:
        for file in ("a.csv", "b.csv"):
            assert (scene.dest / "data" / file).read_bytes() == (scene.data / file).read_bytes()
    elif done.returncode:
        assert len([line for line in done.stderr.splitlines() if line.startswith("yatagan: ")]) <= 1, said
    for place in (scene.config / "yatagan", scene.state / "yatagan"):
        if done.returncode != 5 and place.exists():
            assert not place.stat().st_mode & 0o077, f"{place} is open to others"


def test_there_are_enough() -> None:
    assert len(PLANTINGS) >= 40
