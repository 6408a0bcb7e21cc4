"""Random rounds: a tree, an operation, a harm, and an independent look at both disks.

Whatever is killed, stopped, swapped, filled or set wrong while a stage runs: nothing is lost, nothing torn gets a name,
what is called good is what was carried, and once the harm is mended it is finished. Whatever has become of two trees:
`compare`, `verify` and `restore` say and do what is true. `rounds.py` is the judge.
"""

from __future__ import annotations

import base64
import json
import os
import random
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pytest

import rounds
from conftest import OpenSsh, Program, run_forked, start_sshd
from processes import children, server_of

pytestmark = pytest.mark.server
#: Rounds of each kind in the suite, and all of them in the soak; several in one test, since servers are shared.
FEW, MANY, EACH = 20, 1000, 5
LIMIT = 60


def batches_of(count: int) -> list[Any]:
    starts = range(0, count, EACH)
    return [pytest.param(start, marks=pytest.mark.soak) if start >= FEW else start for start in starts]


@dataclass
class Servers:
    """A real server that runs commands, and one for files alone."""

    commands: OpenSsh
    files: OpenSsh


@pytest.fixture(scope="module")
def servers(openssh: OpenSsh) -> Iterator[Servers]:
    child, port = start_sshd(openssh.base, "ForceCommand internal-sftp\n", sftp="internal-sftp")
    yield Servers(openssh, replace(openssh, port=port))
    child.terminate()
    child.wait(10)


@dataclass
class Ground:
    """Where a round takes place: a tree `fen`, and the directory `top` that it goes to; one of the two on a node."""

    number: int
    base: Path
    servers: Servers
    rng: random.Random = field(init=False)
    program: Program = field(init=False)
    server: OpenSsh = field(init=False)

    def __post_init__(self) -> None:
        self.rng = rng = random.Random(self.number)
        self.program = Program(self.base / "home", self.base / "near")
        for directory in (self.program.home, self.program.directory, self.base / "far"):
            directory.mkdir(parents=True)
        self.kind = rng.choice(["here", "commands", "commands", "files"])
        self.upload = self.kind == "here" or rng.random() < 0.6
        self.server = self.servers.files if self.kind == "files" else self.servers.commands
        if self.kind != "here":
            self.program.know(self.server.far(self.base / "far"))
        near, far = self.program.directory, self.base / "far"
        self.fen, self.top = (near / "fen", far / "top") if self.upload else (far / "fen", near / "top")
        away = "oak:" if self.kind != "here" else f"{far}/"
        self.from_, self.to = ("fen", f"{away}top") if self.upload else (f"{away}fen", "top")
        self.there = self.top / "fen"

    def run(self, *words: str, watch: Callable[[int], None] = lambda process: None, **environment: str) -> Answer:
        """A command, without a terminal; nobody is asked."""
        environment = {**self.program.environment(), **environment}
        done = run_forked([*words, "--json"], self.program.directory, environment, LIMIT, watch, tick=0.01)
        assert "Traceback" not in done.stderr, done.stderr
        answer = json.loads(done.stdout) if done.stdout.startswith("{") else {}
        return Answer(done.returncode, answer, done.stderr)


@dataclass(frozen=True)
class Answer:
    status: int
    says: dict[str, Any]
    errors: str


# -- a stage, and what happens to it ---------------------------------------------------------------------------


class Harm:
    """Something that goes wrong at a chosen moment of a run, and how it is mended."""

    def __init__(self, ground: Ground) -> None:
        self.ground, self.rng = ground, ground.rng
        self.done = False
        #: Whether all was in place before it was done.
        self.complete = False
        #: Seconds after something of this run is at the destination, or after its start.
        self._after, self._arrival = self.rng.random() * 0.4, self.rng.random() < 0.7
        self._since: float | None = None
        self._before: set[str] = set()

    def begin(self) -> None:
        """The run begins in a moment."""
        self._before = self._names()
        self._since = None if self._arrival else time.monotonic()

    def _names(self) -> set[str]:
        return {os.path.join(above, name) for above, _, names in os.walk(self.ground.top) for name in names}

    def watch(self, process: int) -> None:
        if self._since is None and self._names() != self._before:
            self._since = time.monotonic()
        if not self.done and self._since is not None and time.monotonic() - self._since >= self._after:
            self.done = self.act(process)

    def act(self, process: int) -> bool:
        """Do it. False: try again in a moment."""
        return True

    def mend(self) -> None:
        """Undo it."""

    def environment(self) -> dict[str, str]:
        return {}

    def asides(self) -> list[Path]:
        """Where else that may be which was at the destination."""
        return []


class Signal(Harm):
    """The process is stopped, or killed; not while it is still being loaded."""

    def begin(self) -> None:
        super().begin()
        self._loaded = time.monotonic() + 0.15

    def act(self, process: int) -> bool:
        if time.monotonic() < self._loaded:
            return False
        which = self.rng.choice([signal.SIGINT, signal.SIGTERM, signal.SIGKILL, signal.SIGKILL])
        with suppress(ProcessLookupError):
            os.kill(process, which)
        return True


class Swap(Harm):
    """The destination gets another name; another directory, or a link to a stranger's, or nothing is in its place."""

    def __init__(self, ground: Ground) -> None:
        super().__init__(ground)
        self._arrival = True  # what is in its place before anything has come is the destination

    def act(self, process: int) -> bool:
        top, self.aside = self.ground.top, self.ground.base / "aside"
        if not top.exists():
            return False
        self.stranger = self.ground.base / "stranger"
        self.stranger.mkdir()
        top.rename(self.aside)
        self.how = self.rng.choice(["another", "link", "nothing"])
        if self.how == "another":
            top.mkdir()
        elif self.how == "link":
            top.symlink_to(self.stranger)
        self.complete = not rounds.unlike(rounds.look(self.ground.fen), rounds.look(self.aside / "fen"))
        return True

    def mend(self) -> None:
        if not self.done:
            return
        strays = set(os.listdir(self.stranger)) - set(map(os.path.basename, rounds.part_files(self.stranger)))
        assert not strays, "something was named where a link leads"
        # Paths are no open directories to a file server: a part file may be made there, in the moment after a look.
        assert (self.ground.upload and self.ground.kind != "here") or not os.listdir(self.stranger)
        top = self.ground.top
        if top.is_symlink():
            top.unlink()
        elif top.exists():
            top.rename(self.ground.base / "other")
        self.aside.rename(top)

    def asides(self) -> list[Path]:
        return [self.ground.base / "aside", self.ground.base / "other"]


class SmallDisk(Harm):
    """The disk of the destination is full before all has come, or can be read only for a while."""

    def __init__(self, ground: Ground) -> None:
        super().__init__(ground)
        self._disk = ground.top.parent
        self._full = self.rng.random() < 0.5
        self._mount("-t", "tmpfs", "-o", f"size={1 << 28},mode=755", "none")

    def begin(self) -> None:
        super().begin()
        if self._full:
            to_come = sum(len(each.data) for each in rounds.look(self.ground.fen).values())
            used = shutil.disk_usage(self._disk).used
            self._mount("-o", f"remount,size={used + to_come * 2 // 3 + 65_536}")

    def _mount(self, *words: str) -> bool:
        return not subprocess.run(["mount", *words, str(self._disk)], capture_output=True, check=False).returncode

    def act(self, process: int) -> bool:
        return self._full or self._mount("-o", "remount,ro")

    def mend(self) -> None:
        self._mount("-o", f"remount,rw,size={1 << 28}")

    def leave(self) -> None:
        subprocess.run(["umount", "-l", str(self._disk)], check=True)


class Clock(Harm):
    """The clock of this machine is set, forward or back, while it runs."""

    def environment(self) -> dict[str, str]:
        jumps = self.rng.choice([-86_400, -3, 7, 4000, 40_000_000])
        return {"CLOCK_JUMPS": f"{self.rng.randrange(1, 400)},{jumps}"}


class Line(Harm):
    """The server's processes for this login are killed; it goes on by itself."""

    def act(self, process: int) -> bool:
        for child in children(server_of(self.ground.server.base / f"sshd-{self.ground.server.port}.conf")):
            with suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)
        return True


HARMS: list[type[Harm]] = [Harm, Signal, Signal, Swap, Swap, SmallDisk, Clock, Line]
OPTIONS = [(), (), ("--by", "digest"), ("--prove", "none"), ("--prove", "read-back"), ("--pack", "always")]


@pytest.mark.parametrize("start", batches_of(MANY))
def test_a_stage_and_what_happens_to_it(start: int, servers: Servers, tmp_path: Path) -> None:
    for number in range(start, start + EACH):
        _stage_round(Ground(number, tmp_path / str(number), servers))


def _stage_round(ground: Ground) -> None:
    rng, fen, there = ground.rng, ground.fen, ground.there
    largest = rng.choice([100_000, 2_000_000])
    what = rng.choice(HARMS)
    if (what is SmallDisk and (os.geteuid() or not ground.upload)) or (what is Line and ground.kind == "here"):
        what = Signal
    rounds.grow(fen, rng, largest)
    harm = what(ground)
    try:
        if rng.random() < 0.5:  # an earlier stage, and edits since
            words = ("--no-space-check", "--if-newer-there", "replace")
            ground.run("stage", ground.from_, ground.to, *words)
            rounds.harm(fen, rng, 6, rounds.SEEN)
            rounds.harm(there, rng, 2, [rounds.written, rounds.added])
        _carry(ground, harm)
    except BaseException:
        print(f"round {ground.number}: {ground.kind}, {'up' if ground.upload else 'down'}, {what.__name__}")
        raise
    finally:
        if isinstance(harm, SmallDisk):
            harm.leave()
    shutil.rmtree(ground.base)


def _carry(ground: Ground, harm: Harm) -> None:
    rng, fen, there = ground.rng, ground.fen, ground.there
    source, before = rounds.look(fen), rounds.look(there)
    contents = rounds.all_contents(ground.top)
    options = [*rng.choice(OPTIONS), "--no-space-check", "--if-newer-there", "replace", "--max-rate", "6MB/s"]
    words = ("stage", ground.from_, ground.to, *options)
    harm.begin()
    done = ground.run(*words, watch=harm.watch, **harm.environment())

    def look(answer: Answer, then: str) -> None:
        told = f"{then}: {answer}"
        assert answer.status in (0, 1, 3, 4, 5, -signal.SIGKILL), told
        assert answer.status in (0, 1, -signal.SIGKILL) or answer.errors or answer.says, told
        assert rounds.look(fen) == source, f"the source was written to\n{told}"
        kept = rounds.all_contents(ground.top, *harm.asides())
        assert contents <= kept, f"something that was there is nowhere now\n{told}"
        assert not rounds.torn(rounds.look(there), before, [source]), told
        if answer.status == 0 and not harm.complete:
            assert not (wrong := rounds.unlike(source, rounds.look(there))), f"{wrong}\n{told}"

    look(done, "after the harm")
    harm.mend()
    for _ in range(4):
        waiting = [
            each
            for each in ground.run("batch", "list").says["batches"]
            if each["state"] not in ("finished", "cancelled")
        ]
        again = ("batch", "resume", waiting[0]["batch"]) if waiting else words
        done = ground.run(*again)
        look(done, " ".join(again))
        if not waiting and done.status == 0:
            break
    assert done.status == 0, f"it never ends well: {done}"
    assert not (wrong := rounds.unlike(source, rounds.look(there))), f"{wrong}\n{done}"
    left = rounds.part_files(ground.top)
    if left and isinstance(harm, SmallDisk):  # what could not be removed from it is still known
        ground.run("parts", "remove", ground.to, "--yes")
        left = rounds.part_files(ground.top)
    assert not left, "unfinished files are left"


# -- two trees, and what is said of them -----------------------------------------------------------------------


@pytest.mark.parametrize("start", batches_of(MANY))
def test_what_is_said_of_two_trees(start: int, servers: Servers, tmp_path: Path) -> None:
    for number in range(start, start + EACH):
        _answer_round(Ground(10_000 + number, tmp_path / str(number), servers))


def _answer_round(ground: Ground) -> None:
    rng, fen, there = ground.rng, ground.fen, ground.there
    rounds.grow(fen, rng, 40_000)
    try:
        assert ground.run("stage", ground.from_, ground.to).status == 0
        assert ground.run("checksums", ground.from_, "--output", "list").status == 0
        listed = rounds.look(fen)
        rounds.harm(there, rng, 5)
        if rng.random() < 0.5:
            rounds.harm(fen, rng, 3)
        now = rounds.look(fen), rounds.look(there)
        _compared(ground, *now)
        _verified(ground, listed, now[1])
        assert now == (rounds.look(fen), rounds.look(there)), "an answer has changed something"
        if ground.upload:
            _restored(ground, listed)
    except BaseException:
        print(f"answers {ground.number}: {ground.kind}, {'up' if ground.upload else 'down'}")
        raise
    shutil.rmtree(ground.base)


def _path(entry: dict[str, Any], key: str = "path") -> str:
    """A path of an answer, as rounds.py spells it."""
    raw = base64.b64decode(entry[f"{key}_b64"]) if f"{key}_b64" in entry else entry[key].encode()
    return os.fsdecode(raw) if raw != b"." else ""


def _compared(ground: Ground, fen: rounds.Tree, there: rounds.Tree) -> None:
    sides = [(ground.from_, fen), (f"{ground.to}/fen", there)]
    if ground.rng.random() < 0.5:
        sides.reverse()
    (first, one), (second, other) = sides
    by_contents = ground.rng.random() < 0.6
    answer = ground.run("compare", first, second, "--by", "digest" if by_contents else "size-and-time")
    true = rounds.differences(one, other, by_contents=by_contents)
    said = {_path(each): (each["outcome"], set(each["differs"])) for each in answer.says["entries"]}
    for each in answer.says["entries"]:
        if each["outcome"] == "moved":
            path, new = _path(each), _path(each, "new_path")
            assert one[path].data == other[new].data and path not in other and new not in one, each
            del said[path], true[path], true[new]
    assert said == true, f"{answer}"
    assert answer.status == bool(answer.says["entries"])
    if by_contents:
        found = {path for path, (outcome, _) in true.items() if outcome.startswith("only")}
        mine, theirs = (
            {tree[path].data for path in found if path in tree and tree[path].data} for tree in (one, other)
        )
        assert not mine & theirs, "the same contents under another name, and not said"
    for side, tree in (("first", one), ("second", other)):
        counted = [sum(each.kind == kind for each in tree.values()) for kind in ("file", "directory", "link")]
        assert counted == [answer.says[side][key] for key in ("files", "directories", "links")]


#: What `verify` calls an outcome, where the list is the first tree.
_FINDINGS = {
    "only_first": "missing",
    "only_second": "not listed",
    "different": "different",
    "facts_differ": "facts differ",
}


def _verified(ground: Ground, listed: rounds.Tree, there: rounds.Tree) -> None:
    by_contents = ground.rng.random() < 0.7
    by = ("--by", "digest" if by_contents else "size-and-time")
    answer = ground.run("verify", f"{ground.to}/fen", "--against", "list", *by)
    true = rounds.differences(listed, there, by_contents=by_contents)
    expected = {path: _FINDINGS[outcome] for path, (outcome, _) in true.items()}
    said = {_path(each): each["verdict"] for each in answer.says["entries"]}
    bad = bool(set(said.values()) - {"not listed"})
    for each in answer.says["entries"]:
        if each["verdict"] == "moved":
            path, new = _path(each), _path(each, "new_path")
            assert there[new].data == listed[path].data
            assert (expected.pop(path), expected.pop(new), said.pop(path)) == ("missing", "not listed", "moved")
    assert said == expected, f"{answer}"
    assert answer.says["good"] is not bad
    assert answer.status == (not answer.says["good"])


def _restored(ground: Ground, staged: rounds.Tree) -> None:
    rng, fen, there = ground.rng, ground.fen, ground.there
    for file in rounds.files_of(fen):
        if rng.random() < 0.4:
            file.unlink()
    before, copies = rounds.look(fen), rounds.look(there)
    answer = ground.run("restore", "fen")
    after = rounds.look(fen)
    lost = {path for path, each in staged.items() if each.kind == "file" and path not in before}
    sound = {path for path in lost if path in copies and copies[path].data == staged[path].data}
    moved = {path: each for path, each in before.items() if each.kind == "file" and after.get(path) != each}
    for path in moved:  # damaged here: of the same size and time as on record
        assert after[path].data == staged[path].data, f"{path}: what was changed here was not left\n{answer}"
    wrong = {path for path in lost if path in after and after[path].data != staged[path].data}
    assert not wrong, f"{wrong}\n{answer}"
    assert sound <= set(after), f"{sound - set(after)} could have come back\n{answer}"
    damaged = {path for path, each in after.items() if (was := staged.get(path)) and _damaged(was, each)}
    assert answer.status == bool(damaged | lost - set(after)), f"{damaged} {lost - set(after)}\n{answer}"


def _damaged(was: rounds.Thing, now: rounds.Thing) -> bool:
    """Whether contents have changed, and not the time: that was nobody's edit."""
    return was.data != now.data and rounds.same_time(was, now) and now.kind == "file"
