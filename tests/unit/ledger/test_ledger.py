"""Writing to the ledger: whole lines, whatever happens; and nothing ever fails because of it."""

from __future__ import annotations

import fcntl
import itertools
import json
import os
import random
import re
import resource
import shutil
import signal
import stat
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest
import rfc8785
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import wait_for
from ledgers import DIGEST, World, statement
from yatagan.ledger.checking import Check
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import canonical, parse


def make(place: Path, machine: str = "machine", patience: float = 10.0) -> Ledger:
    """A machine's view of the group's ledger."""
    (place / "group" / "ledger").mkdir(parents=True, exist_ok=True)
    return Ledger(place / "group" / "ledger", place / machine / "ledger-memory", patience=patience)


def own(place: Path, patience: float = 10.0) -> Ledger:
    """The ledger in the state directory itself."""
    return Ledger(place / "state" / "ledger", place / "state" / "ledger-memory", patience=patience)


def ids(ledger: Ledger) -> list[str]:
    return [record.id for record in ledger.records()][::-1]


values = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53) + 1, 2**53 - 1) | st.text(),
    lambda inner: st.lists(inner) | st.dictionaries(st.text(st.characters(min_codepoint=0, max_codepoint=127)), inner),
)


@given(values)
@settings(max_examples=40)
def test_records_have_the_canonical_form_of_rfc_8785(value: object) -> None:
    try:
        meant = rfc8785.dumps(value)  # type: ignore[arg-type]
    except rfc8785.CanonicalizationError:
        with pytest.raises(ValueError):
            canonical(value)
    else:
        assert canonical(value) == meant


@pytest.mark.parametrize("value", [1.5, 2**53, {"größe": 1}, {1: 2}, float("nan")])
def test_what_has_no_sure_form_is_refused(value: object) -> None:
    with pytest.raises(ValueError):
        canonical(value)


@pytest.mark.parametrize("open_", [make, own])
def test_a_record_is_found_again_with_its_list(tmp_path: Path, open_: Callable[[Path], Ledger]) -> None:
    ledger = open_(tmp_path)
    done = ledger.append(statement("one"), lambda: [(b"fen/a\nb.csv", DIGEST)])
    assert not done.waits and len(done.digest) == 64
    found = ledger.find("one")
    assert found is not None and found.digest == done.digest and found.number == 1
    assert found.origins[0].path == b"/home/mara/fen" and found.target is not None and found.target.node == "heron"
    listed = ledger.directory.lists / found.list_digest
    assert listed.read_bytes() == b"\\" + f"{DIGEST}  fen/a\\nb.csv\n".encode()
    assert ledger.append(statement("two")).digest and ids(ledger) == ["one", "two"]
    assert ledger.find("three") is None and ledger.state_of("three") is None
    assert not list(ledger.memory.directory.rglob("*.json.tried"))


def test_one_file_for_an_account_on_a_machine(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A home on the network has a writer for each host, and each ledger has its own."""
    for number in range(3):
        own(tmp_path).append(statement(f"{number}"))
    assert len(own(tmp_path).directory.writer_files()) == 1
    monkeypatch.setattr("platform.node", lambda: "dunlin")
    own(tmp_path).append(statement("there"))
    assert len(own(tmp_path).directory.writer_files()) == 2
    (tmp_path / "group").mkdir()
    elsewhere = Ledger(tmp_path / "group", tmp_path / "state" / "ledger-memory")
    elsewhere.append(statement("x"))
    names = {*elsewhere.directory.writer_files(), *own(tmp_path).directory.writer_files()}
    assert len(names) == 3, "the name of a writer is in one ledger only"


def test_other_files_are_named_when_they_have_moved(tmp_path: Path) -> None:
    world = World(tmp_path)
    for machine in (0, 1, 2, 0, 0, 1, 1, 0):
        world.append(machine)
    named = [sorted(json.loads(line).get("others", {})) for line in world.lines(world.file(0))]
    one, two = (world.file(machine).removesuffix(".jsonl") for machine in (1, 2))
    assert named == [[], sorted([one, two]), [], [one]]
    assert world.check().good


def test_a_shared_ledger_takes_over_who_may_read_it(tmp_path: Path) -> None:
    ledger, directory = make(tmp_path), tmp_path / "group" / "ledger"
    directory.chmod(0o2770)
    ledger.append(statement("one"), lambda: [(b"a", DIGEST)])
    writers, files = directory / "writers", [*directory.glob("writers/*"), *directory.glob("lists/*")]
    assert stat.S_IMODE(writers.stat().st_mode) == 0o3770, "nobody removes another's file"
    assert len(files) == 2 and {stat.S_IMODE(file.stat().st_mode) for file in files} == {0o640}


@pytest.mark.skipif(os.geteuid() != 0, reason="another account is needed")
def test_another_account_of_the_group_appends_to_its_own_file_alone() -> None:
    place = Path(tempfile.mkdtemp(prefix="yatagan-group-"))
    place.chmod(0o755)
    group = place / "group"
    group.mkdir()
    group.chmod(0o3777)
    (place / "other").mkdir()
    os.chown(place / "other", 12345, 12345)
    try:
        ours = Ledger(group, place / "ours" / "ledger-memory")
        ours.append(statement("ours"), lambda: [(b"a", DIGEST)])
        (file,) = (group / "writers").iterdir()
        before = file.read_bytes()

        def as_other(work: Callable[[Ledger], bool]) -> bool:
            """What comes of it in a process of another account."""
            child = os.fork()
            if child == 0:
                os.setgroups([])
                os.setgid(12345)
                os.setuid(12345)
                os._exit(0 if work(Ledger(group, place / "other" / "ledger-memory")) else 1)
            return os.waitpid(child, 0)[1] == 0

        assert as_other(lambda ledger: bool(ledger.append(statement("theirs")).digest))
        assert as_other(lambda ledger: ids(ledger) == ["ours", "theirs"])
        assert len(list((group / "writers").iterdir())) == 2 and file.read_bytes() == before
        assert as_other(lambda ledger: not os.access(file, os.W_OK) and Check(ledger.directory, {}).run().good)
        (group / "writers").chmod(0o700)
        assert as_other(lambda ledger: bool(ledger.append(statement("waits")).waits))
        (group / "writers").chmod(0o3777)
        assert as_other(lambda ledger: bool(ledger.append(statement("later")).digest))
        assert ids(ours) == ["ours", "theirs", "waits", "later"]
        assert Check(ours.directory, {}).run().good
    finally:
        shutil.rmtree(place)


@given(st.lists(st.binary(max_size=30).map(lambda data: data.replace(b"\n", b"")), max_size=30), st.booleans())
def test_lines_are_the_same_backwards(lines: list[bytes], torn: bool) -> None:
    with tempfile.TemporaryDirectory() as place, pytest.MonkeyPatch.context() as patch:
        patch.setattr("yatagan.ledger.directory._BLOCK", 16)
        directory = LedgerDirectory(Path(place))
        directory.writers.mkdir()
        (directory.writers / "x").write_bytes(b"".join(line + b"\n" for line in lines) + b"torn" * torn)
        assert list(directory.lines("x")) == lines
        assert list(directory.lines_backwards("x", lambda block: True)) == lines[::-1]
        some = list(directory.lines_backwards("x", lambda block: b"a" in block))
        assert {line for line in lines if b"a" in line} <= set(some)


class TestWaiting:
    """A ledger that cannot be written stops nothing."""

    @pytest.mark.parametrize("open_", [make, own])
    def test_a_record_waits_until_the_ledger_can_be_written(
        self, tmp_path: Path, open_: Callable[[Path], Ledger]
    ) -> None:
        ledger = open_(tmp_path)
        ledger.append(statement("before"))
        moved = ledger.directory.path.with_name("away")
        ledger.directory.path.rename(moved)
        ledger.directory.path.write_text("in the way\n")
        for name in ("one", "two"):
            done = ledger.append(statement(name), lambda: [(b"fen/a", DIGEST)])
            assert done.waits and not done.digest and not done.lost
            state = ledger.state_of(name)
            assert state is not None and state.waits == done.waits
        ledger.directory.path.unlink()
        moved.rename(ledger.directory.path)
        assert ledger.append(statement("after")).digest
        assert ids(ledger) == ["before", "one", "two", "after"] and not ledger.waiting()
        found = ledger.find("one")
        assert found is not None and ledger.directory.list_digest(found.list_digest) == found.list_digest
        assert World(tmp_path).check().good

    def test_a_disk_that_is_not_mounted_gets_no_records(self, tmp_path: Path) -> None:
        ledger = make(tmp_path)
        (tmp_path / "group" / "ledger").rmdir()
        assert "No such file" in ledger.append(statement("one")).waits
        assert not (tmp_path / "group" / "ledger").exists()
        (tmp_path / "group" / "ledger").mkdir()
        ledger.append(statement("two"))
        assert ids(ledger) == ["one", "two"]

    def test_a_slow_disk_is_not_waited_for(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        ledger, released = make(tmp_path, patience=0.3), threading.Event()
        really = LedgerDirectory.make

        def hang(directory: LedgerDirectory) -> None:
            released.wait(30)
            really(directory)

        monkeypatch.setattr(LedgerDirectory, "make", hang)
        assert "did not answer" in ledger.append(statement("one")).waits
        released.set()
        wait_for(lambda: ledger.find("one") is not None)
        monkeypatch.setattr(LedgerDirectory, "make", really)
        ledger.append(statement("two"))
        assert ids(ledger) == ["one", "two"], "what was written late is not written twice"

    def test_what_was_tried_is_not_written_twice(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        """As after a crash between the ledger and the state directory."""
        ledger = make(tmp_path)
        monkeypatch.setattr("yatagan.ledger.waiting.WaitingRecord.remove", lambda record: None)
        ledger.append(statement("one"))
        monkeypatch.undo()
        assert len(ledger.waiting()) == 1
        ledger.append(statement("two"))
        assert ids(ledger) == ["one", "two"] and not ledger.waiting()

    def test_a_lock_that_somebody_holds(self, tmp_path: Path) -> None:
        ledger = own(tmp_path, patience=0.2)
        ledger.append(statement("one"))
        with ledger.memory.locked(time.monotonic()):
            assert "another process" in ledger.append(statement("two")).waits
        ledger.append(statement("three"))
        assert ids(ledger) == ["one", "two", "three"]

    def test_what_cannot_even_wait_is_said_to_be_lost(self, tmp_path: Path) -> None:
        (tmp_path / "state").write_text("in the way\n")
        done = own(tmp_path).append(statement("one"))
        assert done.lost and not done.digest


class TestOwnFile:
    """Our file is not what we left."""

    def grown(self, place: Path) -> tuple[Ledger, Path]:
        ledger = own(place)
        for name in ("one", "two", "three"):
            ledger.append(statement(name))
        (name,) = ledger.directory.writer_files()
        return ledger, ledger.directory.writers / name

    def test_a_torn_line_is_cut_off(self, tmp_path: Path) -> None:
        ledger, file = self.grown(tmp_path)
        with file.open("ab") as stream:
            stream.write(b'{"half a li')
        ledger.append(statement("four"))
        assert ids(ledger) == ["one", "two", "three", "four"] and len(ledger.directory.writer_files()) == 1
        assert World(tmp_path / "state").check().good

    def test_a_torn_note_of_the_newest_record(self, tmp_path: Path) -> None:
        ledger, _ = self.grown(tmp_path)
        (ledger.memory.directory / "head").write_text("12 garb")
        ledger.append(statement("four"))
        assert len(ledger.directory.writer_files()) == 1 and World(tmp_path / "state").check().good

    def test_a_clone_of_this_machine_gets_a_file_of_its_own(self, tmp_path: Path) -> None:
        """Its name, its number and its state directory are the same; the group's ledger is one."""
        first = make(tmp_path, "first")
        first.append(statement("one"))
        shutil.copytree(tmp_path / "first", tmp_path / "clone")
        clone = make(tmp_path, "clone")
        clone.append(statement("two"))
        first.append(statement("three"))
        clone.append(statement("four"))
        assert ids(first) == ["one", "two", "three", "four"] and len(first.directory.writer_files()) == 2
        assert Check(first.directory, first.memory.seen(), first.memory.expected()).run().good

    def test_a_clone_that_writes_just_now(self, tmp_path: Path) -> None:
        ledger, file = self.grown(tmp_path)
        with file.open("ab") as stream:
            fcntl.flock(stream, fcntl.LOCK_EX)
            stream.write(b"half of a li")
            stream.flush()
            ledger.append(statement("four"))
            assert file.read_bytes().endswith(b"half of a li"), "what it writes is left alone"
        assert len(ledger.directory.writer_files()) == 2

    @pytest.mark.parametrize(
        ("account", "begins"),
        [("mara", "mara"), ("CAMPUS\\mara k", "CAMPUS-mara-k"), ("m" * 50, "m" * 40), ("", "account")],
    )
    def test_a_file_says_whose_it_is(
        self, tmp_path: Path, account: str, begins: str, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        monkeypatch.setattr("yatagan.ledger.memory.user", lambda: account)
        ledger = make(tmp_path, "first")
        ledger.append(statement("one"))
        (name,) = ledger.directory.writer_files()
        assert re.fullmatch(f"{begins}-[0-9a-f]{{16}}", name.removesuffix(".jsonl")), name

    @pytest.mark.parametrize("how", ["rolled back", "removed", "link", "hard link", "nonsense at its end", "empty"])
    def test_a_new_writer_begins_and_names_what_is_missing(self, tmp_path: Path, how: str) -> None:
        ledger, file = self.grown(tmp_path)
        lines = file.read_bytes().splitlines(keepends=True)
        if how == "rolled back":
            file.write_bytes(lines[0])
        elif how == "removed":
            file.unlink()
        elif how == "link":
            file.rename(tmp_path / "other")
            file.symlink_to(tmp_path / "other")
        elif how == "hard link":
            os.link(file, tmp_path / "other")
        elif how == "empty":
            file.write_bytes(b"")
        else:
            file.write_bytes(b"".join(lines) + b"what\n")
        before = file.read_bytes() if how != "removed" else b""
        assert ledger.append(statement("four")).digest
        assert how == "removed" or file.read_bytes() == before, "it is left as it is"
        new = next(name for name in ledger.directory.writer_files() if name != file.name)
        record = parse((ledger.directory.writers / new).read_bytes().splitlines()[0], new)
        assert record is not None and record.number == 1
        if how not in ("removed", "hard link", "link", "nonsense at its end"):
            assert record.others[file.stem].number == 3
        assert World(tmp_path / "state").check().good == (how == "hard link")


def append_for_ever(place: Path, where: str, name: str, limit: int, tell: int) -> int:
    """Start a process that appends records until it is killed, and tells the id of each that was answered."""
    child = os.fork()
    if child:
        return child
    try:
        resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))
        ledger = Ledger(place / where / "ledger", place / "state" / "ledger-memory")
        for number in itertools.count():
            done = ledger.append(statement(f"{name}-{number}"), lambda: [(b"fen/a", DIGEST)])
            assert not done.lost, done
            os.write(tell, f"{name}-{number}\n".encode())
    finally:
        os._exit(1)


@pytest.mark.parametrize(("where", "count"), [("state", 20), ("group", 20)])
def test_processes_killed_at_random_on_a_disk_that_fills(tmp_path: Path, where: str, count: int) -> None:
    """Every line is whole or absent, the chain holds, and what was answered is there or waits."""
    (tmp_path / where / "ledger").mkdir(parents=True)
    chance, limit = random.Random(7), 60_000
    hear, tell = os.pipe()
    running = [append_for_ever(tmp_path, where, f"w{number}", limit, tell) for number in range(count)]
    os.close(tell)
    told: list[str] = []
    reader = threading.Thread(target=lambda: told.extend(os.fdopen(hear)))
    reader.start()
    ledger = Ledger(tmp_path / where / "ledger", tmp_path / "state" / "ledger-memory")
    try:
        wait_for(lambda: len(told) > 20)
        for process in chance.sample(running[: count // 2], count // 2):
            time.sleep(chance.random() * 0.1)
            os.kill(process, signal.SIGKILL)
        wait_for(lambda: len(ledger.waiting()) > 5, 60)
    finally:
        for process in running:
            os.kill(process, signal.SIGKILL)
            os.waitpid(process, 0)
        reader.join()
    assert World(tmp_path / where).check().good
    assert max(file.stat().st_size for file in ledger.directory.writers.iterdir()) <= limit
    assert {name.strip() for name in told} <= {*ids(ledger), *(each.fields["id"] for each in ledger.waiting())}
    ledger.append(statement("at last"))
    assert not ledger.waiting() and {name.strip() for name in told} < set(ids(ledger))
    assert len(ids(ledger)) == len(set(ids(ledger)))
    assert World(tmp_path / where).check().good and ledger.memory.expected()
