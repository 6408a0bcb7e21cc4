"""What others can write is never believed: small files, our own directories, what reaches a terminal, patterns."""

from __future__ import annotations

import csv
import importlib
import io
import json
import os
import pkgutil
import re
import resource
import stat
import subprocess
import time
import tomllib
from collections.abc import Callable, Iterator
from contextlib import redirect_stdout
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import yatagan
from conftest import Program, opened_below, run_forked
from ledgers import World
from sources import MODULES
from terminal import Terminal
from yatagan.batches.activity import Activities
from yatagan.batches.locks import Holder
from yatagan.batches.moments import NEVER
from yatagan.batches.queueing import Attendance, QueueEntry, WaitsFor
from yatagan.cli.terminal import terminal
from yatagan.config import guarded_files
from yatagan.config.guarded_files import check_believed, follow_links, parse_toml, read_small
from yatagan.config.own_files import make_private
from yatagan.errors import BadList, NotBelieved
from yatagan.ledger.checking import Check
from yatagan.ledger.signers import Signers, parse_trusted
from yatagan.portable import index
from yatagan.spelling import is_unsafe
from yatagan.trees.checksum_record import algorithm_of, read_facts, read_gone

#: Another account.
STRANGER = 12345


only_root = pytest.mark.skipif(os.geteuid() != 0, reason="only root can plant as another account")


def _sparse(path: Path) -> None:
    with path.open("wb") as stream:
        stream.truncate(20 << 30)


def _link(path: Path, target: str, owner: int = 0) -> None:
    path.symlink_to(target)
    if owner:
        os.chown(path, owner, owner, follow_symlinks=False)


def _opened_to(path: Path, mode: int, owner: int = 0) -> None:
    path.write_text("x")
    path.chmod(mode)
    if owner:
        os.chown(path, owner, -1)


#: What stands where a small file is looked for; what is said of one of anybody's, and of one of ours ("": it is read).
STANDING: dict[str, tuple[Callable[[Path], object], str, str]] = {
    "a file": (lambda path: path.write_text("x"), "", ""),
    "a FIFO": (os.mkfifo, "is a FIFO", "is a FIFO"),
    "a directory": (Path.mkdir, "is a directory", "is a directory"),
    "twenty gigabytes": (_sparse, "has more than", "has more than"),
    "a link to zeros": (lambda path: _link(path, "/dev/zero"), "is a device", "is a device"),
    "a link of ours": (lambda path: (path.with_name("y").write_text("x"), _link(path, "y")), "", ""),
    "links through ..": (
        lambda path: (path.with_name("y").write_text("x"), _link(path, f"../{path.parent.name}/y")),
        "",
        "",
    ),
    "a circle": (lambda path: (_link(path, "y"), _link(path.with_name("y"), path.name)), "OSError", "OSError"),
    "nothing": (lambda path: None, "FileNotFoundError", "FileNotFoundError"),
    "a stranger's link": (
        lambda path: (path.with_name("y").write_text("x"), _link(path, "y", STRANGER)),
        "a link that another account made",
        "a link that another account made",
    ),
    "a stranger's link on the way": (
        lambda path: (
            path.with_name("d").mkdir(),
            (path.with_name("d") / "z").write_text("x"),
            _link(path.with_name("l"), "d", STRANGER),
            _link(path, "l/z"),
        ),
        "a link that another account made",
        "a link that another account made",
    ),
    "a stranger's file": (lambda path: _opened_to(path, 0o644, STRANGER), "", "belongs to another account"),
    "open to everyone": (lambda path: _opened_to(path, 0o646), "", "can be changed by everyone"),
    "open to a group": (
        lambda path: (_opened_to(path, 0o660), os.chown(path, -1, STRANGER)),
        "",
        "can be changed by group number 12345",
    ),
    "in a directory open to all": (lambda path: (path.write_text("x"), path.parent.chmod(0o777)), "", "can be changed"),
    "in a sticky directory": (lambda path: (path.write_text("x"), path.parent.chmod(0o1777)), "", ""),
    "in a stranger's directory": (
        lambda path: (path.write_text("x"), os.chown(path.parent, STRANGER, -1)),
        "",
        "belongs to another account",
    ),
}


@only_root
@pytest.mark.parametrize("ours", [False, True], ids=["anybody's", "ours"])
@pytest.mark.parametrize("name", STANDING)
def test_what_stands_where_a_file_is_looked_for(name: str, ours: bool, tmp_path: Path) -> None:
    (tmp_path / "in").mkdir(mode=0o755)
    path = tmp_path / "in" / "x"
    plant, *said = STANDING[name]
    plant(path)
    try:
        found = read_small(path, ours=ours)
    except (NotBelieved, OSError) as error:
        assert said[ours] and said[ours] in f"{type(error).__name__} {error}", error
    else:
        assert not said[ours] and found == b"x"
    assert not opened_below(tmp_path), "a descriptor was left open"


@only_root
def test_links_of_others(tmp_path: Path) -> None:
    """Named where others can make links; where none can, a link is its owner's business."""
    shared, own = tmp_path / "shared", tmp_path / "own"
    for place, mode in ((shared, 0o777), (own, 0o755)):
        place.mkdir()
        place.chmod(mode)
        (place / "file").write_text("x")
        _link(place / "theirs", "file", STRANGER)
        _link(place / "mine", "file")
        _link(place / "mine-to-theirs", "theirs")

    def look(path: Path) -> tuple[bytes, bytes | None]:
        return follow_links(os.fsencode(path))

    assert look(own / "theirs") == (os.fsencode(own / "file"), None)
    assert look(shared / "mine") == (os.fsencode(shared / "file"), None)
    for name in ("theirs", "mine-to-theirs"):
        assert look(shared / name) == (os.fsencode(shared / "file"), os.fsencode(shared / "theirs"))


@given(
    st.lists(st.sampled_from(["a", "b", "..", ".", "", "l", "m"]), max_size=8), st.sampled_from(["a", "..", "/", "m"])
)
def test_links_lead_where_the_system_says(names: list[str], target: str) -> None:
    """The judge is the standard library's own."""
    import tempfile

    with tempfile.TemporaryDirectory() as place:
        os.makedirs(f"{place}/a/b")
        os.symlink(target, f"{place}/l")
        os.symlink("a/b", f"{place}/m")
        path = os.path.normpath(os.path.join(place, *[name for name in names if name] or ["."]))
        try:
            found = os.fsdecode(follow_links(os.fsencode(path))[0])
        except OSError:
            assert os.path.realpath(path) == path or "l" in names
        else:
            assert found == os.path.realpath(path)


@given(
    st.recursive(
        st.booleans() | st.integers(-(2**60), 2**60) | st.text(max_size=8),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(min_size=1, max_size=5), inner, max_size=3),
        max_leaves=8,
    ).map(lambda value: {"x": value})
)
def test_sound_toml_is_read_as_ever(document: dict[str, Any]) -> None:
    import tomlkit

    text = tomlkit.dumps(document).encode()
    assert parse_toml(text) == tomllib.loads(text.decode())


@pytest.mark.parametrize(
    "text",
    [
        "a = " + "[" * 5000,
        "a = " + "[" * 5000 + "]" * 5000,
        "a = " + "{a=" * 2000 + "1" + "}" * 2000,
        "a" + ".a" * 400_000 + " = 1",
        '"a"' + '."a"' * 200_000 + " = 1",
        "[" + "a." * 400_000 + "a]",
        "x = {" + "a." * 100_000 + "a = 1}",
        "a = " + "9" * 5000,
        'a = "' + "\\" * 900_000,
        "a = '''" + "''" * 400_000,
        "# " + "." * 1000 + "\n" + "a = [" * 70,
    ],
    ids=range(11),
)
def test_toml_that_means_harm(text: str) -> None:
    with pytest.raises(ValueError):
        parse_toml(text.encode())


def test_what_is_nested_too_deep_is_one_of_our_own_errors() -> None:
    deep = b"[" * 100_000
    for read in (
        lambda: read_facts(deep, None, "x"),
        lambda: read_facts(b'{"format":1}\n' + deep, None, "x"),
        lambda: read_gone(b'\n{"kind":"gone","x":' + deep),
        lambda: index.read_totals(deep),
    ):
        try:
            found = read()
        except BadList:
            continue
        assert found is None
    assert algorithm_of(deep) is None


def test_dots_that_mean_no_harm() -> None:
    text = "# " + "." * 200 + '\nname = "' + "a." * 200 + "\"\nother = '" + "[" * 200 + "'\nlist = [1.5, 2.5]\n"
    assert parse_toml(text.encode())["list"] == [1.5, 2.5]


def test_a_pipe_of_the_shell_and_a_fifo_of_anybody(program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    """The first is read to its end, within bounds; the second is not waited for."""
    monkeypatch.setenv("YATAGAN_TEST_EXEC", "1")  # only what the shell starts itself has its pipes
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_text("1")
    os.mkfifo(program.directory / "fifo")

    def shell(line: str, expect: int) -> str:
        done = program.shell(line)
        assert done.returncode == expect, done.stderr
        return done.stdout + done.stderr

    verify = "yatagan verify fen --digest sha256 --against"
    assert "good" in shell(f"{verify} <(cd fen; sha256sum a)", 0)
    assert "good" in shell(f"(cd fen; sha256sum a) | {verify} /dev/stdin", 0)
    assert "has more than" in shell("yatagan ledger check --signers <(yes)", 5)
    assert "not a file" in shell(f"{verify} fifo", 1)
    assert "is a FIFO" in shell("yatagan ledger check --signers fifo", 5)


_OPENING = {"open", "read_text", "read_bytes", "fdopen"}


@only_root
@pytest.mark.parametrize("umask", [0o000, 0o002, 0o022, 0o077])
def test_what_is_ours_is_private_whatever_the_umask(umask: int, tmp_path: Path) -> None:
    home = tmp_path / "home"
    (tmp_path / "near" / "fen").mkdir(parents=True)
    (tmp_path / "near" / "fen" / "a").write_text("1")
    home.mkdir(mode=0o755)
    run = Program(home, tmp_path / "near")

    def yatagan_(*words: str) -> subprocess.CompletedProcess[str]:
        places = {"XDG_CONFIG_HOME": str(home / ".config"), "XDG_STATE_HOME": str(home / ".local" / "state")}
        environment = {**run.environment(), **places, "XDG_RUNTIME_DIR": str(home / "run"), "HOME": str(home)}
        del environment["YATAGAN_HOME"]
        done = run_forked(words, tmp_path / "near", environment, 60, account=(0, [0], umask))
        assert done.returncode == 0, done.stderr
        return done

    yatagan_("node", "add", "heron", "heron.fen.example")
    yatagan_("config", "set", "notice.when", "trouble")
    yatagan_("stage", "fen", "there")
    yatagan_("checksums", "fen")
    # What an earlier version has left open is closed, with one line, once.
    state = home / ".local" / "state" / "yatagan"
    for path in (home / ".config" / "yatagan", state, state / "batches"):
        path.chmod(0o755)
    said = yatagan_("node", "list").stderr
    assert len(said.splitlines()) == 1 and "now they are yours alone" in said
    assert not yatagan_("node", "list").stderr
    yatagan_("routine", "add", "fen", "fen", "there", "--every", "1h")
    yatagan_("routine", "remove", "fen")
    for place in (home / ".config", home / ".local" / "state"):
        for path in [place, *place.rglob("*")]:
            loose = stat.S_IMODE(path.lstat().st_mode) & 0o077
            # A database takes the umask; the directory that it is in lets nobody to it.
            assert not loose or (path.is_file() and ".db" in path.name), f"{path} {loose:o}"
    assert stat.S_IMODE((tmp_path / "near" / "fen" / "SHA256SUMS").stat().st_mode) == 0o644 & ~umask, "not ours alone"


@only_root
def test_a_directory_that_another_account_could_replace_is_refused(tmp_path: Path) -> None:
    place = tmp_path / "a" / "b"
    make_private(place)
    assert stat.S_IMODE((tmp_path / "a").stat().st_mode) == 0o700
    check_believed(place)
    check_believed(place / "missing" / "too")
    for path, mode, owner in ((place, 0o770, 0), (tmp_path / "a", 0o777, 0), (tmp_path / "a", 0o755, STRANGER)):
        path.chmod(mode)
        os.chown(path, owner, STRANGER)
        with pytest.raises(NotBelieved) as refused:
            check_believed(place)
        assert refused.value.remedy
        path.chmod(0o700)
        os.chown(path, 0, 0)
    check_believed(place)


def test_a_private_group_is_no_other(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "x").mkdir()
    (tmp_path / "x").chmod(0o770)
    os.chown(tmp_path / "x", -1, os.getegid())
    guarded_files._is_private_group.cache_clear()
    alone = guarded_files.others_may_write((tmp_path / "x").stat())
    import grp

    really = grp.getgrgid(os.getegid())
    members = grp.struct_group((really.gr_name, "x", really.gr_gid, ["jo"]))
    monkeypatch.setattr("grp.getgrgid", lambda number: members)
    guarded_files._is_private_group.cache_clear()
    assert guarded_files.others_may_write((tmp_path / "x").stat()) == f"group {really.gr_name}"
    monkeypatch.undo()
    guarded_files._is_private_group.cache_clear()
    if os.geteuid() == 0:
        assert not alone, "root's group is root's alone"


#: Text with everything in it that a terminal, a table or a page might do something with.
HOSTILE = st.text(st.characters(exclude_categories=()), max_size=30) | st.sampled_from(
    ["\x1b]0;x\x07", "\x9b31m", "\ufdd0abc:1\ufdd1", "a\r\nb", "\u202etxt", "=1+1", "\x1b[2J", "-\t", "@x", "\ud800"]
)


@given(HOSTILE, st.integers(0, 255))
def test_whatever_is_said_is_one_harmless_line(words: str, colour: int) -> None:
    shown = terminal.rendered(f"{terminal.style(words, fg=colour, bold=True)} {words}")
    inner = re.sub(rf"\x1b\[(1;38;5;{colour}|0)m", "", shown)
    assert not [char for char in inner if is_unsafe(char) and char != "\t"]
    assert terminal.plain(terminal.style(words, dim=True)) == words


@given(st.dictionaries(HOSTILE, HOSTILE, max_size=3))
def test_json_says_the_same_and_nothing_more(answer: dict[str, str]) -> None:
    with redirect_stdout(io.StringIO()) as out:
        terminal.say_json(answer)
    said = out.getvalue()
    assert json.loads(said) == answer and not [char for char in said if is_unsafe(char) and char != "\n"]


@given(HOSTILE)
def test_no_cell_is_a_formula(text: str) -> None:
    cell = terminal.csv_cell(text)
    assert str(cell)[:1] not in ("=", "+", "-", "@", "\t", "\r") and str(cell).endswith(text)


EVIL = "=x\x1b[31m\x9b2J\u202e\n<b>&\"'"


def test_a_record_of_another_account_in_every_view(program: Program) -> None:
    """Every field of it is hostile, one after the other."""
    program("checksums", "--help")
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_text("1")
    program("checksums", "fen")
    writers = program.home / "ledger" / "writers"
    (own,) = writers.iterdir()
    record = json.loads(own.read_text().splitlines()[0])
    places = [("from", 0, "node"), ("from", 0, "path"), ("to", "node"), ("to", "path"), ("evidence",), ("counts",)]
    fields = [(key,) for key in record if key not in ("writer", "number", "previous", "format")] + places
    for at, way in enumerate(fields):
        name = f"eve-{at:016x}"
        evil: dict[str, Any] = json.loads(json.dumps({**record, "writer": name, "number": 1, "previous": ""}))
        evil.setdefault("from", [{"node": "heron", "path": "/x"}])
        evil.setdefault("to", {"node": "heron", "path": "/y"})
        target: Any = evil
        for step in way[:-1]:
            target = target[step]
        target[way[-1]] = {EVIL: 3} if way in (("evidence",), ("counts",)) else EVIL
        line = json.dumps(evil, sort_keys=True, separators=(",", ":"))
        (writers / f"{name}.jsonl").write_text(line + "\n")
    commands = [
        ("ledger", "show"),
        ("ledger", "show", "--full"),
        ("ledger", "show", "--json"),
        ("ledger", "show", "--trouble"),
        ("ledger", "check"),
        ("ledger", "check", "--json"),
        ("ledger", "export", "--json"),
        ("ledger", "export", "--csv"),
        ("ledger", "signers"),
        ("restore", "fen", "--plan-only"),
    ]
    for words in commands:
        done = program(*words, expect=None)
        _is_harmless(done.stdout + done.stderr)
        if "--csv" in words:
            cells = [cell for row in csv.reader(io.StringIO(done.stdout)) for cell in row]
            assert not [cell for cell in cells if cell.startswith(("=", "+", "@"))]


def _is_harmless(said: str) -> None:
    bad = {char for char in said if is_unsafe(char) and char not in "\n\t\r"}
    assert not bad, f"{bad} in {said!r}"


def test_names_of_others_in_every_command(program: Program) -> None:
    """At a terminal, where also data goes out as harmless lines; of what our own colours are, nothing is left."""
    evil = "e\x1b[31m\x9b2J\u202e"
    tree = program.directory / evil
    tree.mkdir()
    (tree / f"f{evil}\n").write_text("1")
    (tree / f"--{evil}").write_text("2")
    other = program.directory / f"o{evil}"
    other.mkdir()
    for words in (
        ("list", evil),
        (evil,),
        ("checksums", evil),
        ("stage", evil, f"o{evil}", "--no-questions"),
        ("batch", "list"),
        ("compare", evil, f"o{evil}"),
        ("bundle", "make", evil, "--into", f"o{evil}"),
        ("bundle", "list", f"o{evil}/{evil}.tar.gz", "--checksums"),
        ("peek", f"{evil}/f{evil}\n"),
        ("kept", "list", f"o{evil}"),
        ("rename", f"{evil}/--{evil}", f"x{evil}"),
        ("remove", evil, "--yes"),
    ):
        shown = Terminal(program, *words)
        shown.end()
        # What our own writer makes of colours, and of a line that is written over.
        _is_harmless(re.sub(r"\x1b\[[0-9;]*m|\r?\x1b\[2K|\x1b\[\?25[hl]|\x1b\[[0-9]*A", "", shown.seen))


def _patterns() -> Iterator[tuple[str, re.Pattern[Any]]]:
    for found in pkgutil.walk_packages(yatagan.__path__, "yatagan."):
        if not found.name.endswith("__main__"):
            module: ModuleType = importlib.import_module(found.name)
            for name, value in vars(module).items():
                if isinstance(value, re.Pattern):
                    yield name, value


#: Pieces of which the worst input of some pattern is made, and ends that make it fail.
_PIECES = (
    "a",
    " ",
    "a.",
    'a="b",',
    "\\",
    '"',
    "'",
    "-",
    "0",
    "1.",
    "[",
    "/",
    "a/",
    "\t ",
    "a-",
    "x=",
    "\\\\",
    "**",
    "ab,",
)


_ENDS = ("!", "\n", "")


def _longest(name: str, pattern: re.Pattern[Any], size: int) -> float:
    """The processor's time for the worst input of so many characters, used as the program uses the pattern."""
    worst = 0.0
    searches = re.search(rf"\b{name}\.(search|find\w+|sub|split)\(", "\n".join(MODULES.values()))
    ways = [pattern.match, pattern.fullmatch, *([pattern.search] if searches else [])]
    for piece in _PIECES:
        for end in _ENDS:
            text: Any = (piece * (size // len(piece))) + end
            text = text.encode() if isinstance(pattern.pattern, bytes) else text
            for way in ways:
                began = time.process_time()
                way(text)
                worst = max(worst, time.process_time() - began)
    return worst


def test_no_pattern_goes_back_and_forth() -> None:
    """In a process that may take so much of a processor and no more: what doubles with each character never ends."""
    child = os.fork()
    if child == 0:
        resource.setrlimit(resource.RLIMIT_CPU, (60, 60))
        slow = {}
        for name, pattern in _patterns():
            _longest(name, pattern, 24)
            long = _longest(name, pattern, 1500)
            if long > 0.015:  # millions of steps: it grows with the square
                slow[name] = long
        os.write(2, f"{slow}\n".encode() if slow else b"")
        os._exit(1 if slow else 0)
    assert os.waitpid(child, 0)[1] == 0, "see what was said above; or it was ended, for it took too long"


def test_lines_of_allowed_signers() -> None:
    key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHUhpWWZKF2x2rLk2zVXlHt1Qe0lHhJ5tM1p9X9wCq0E"
    found = parse_trusted(f'mara,jo namespaces="yatagan-ledger",valid-before="20271231Z" {key}')
    assert found.names == ("mara", "jo") and found.namespaces == ("yatagan-ledger",) and found.before is not None
    for wrong in (
        f"mara cert-authority {key}",
        f'mara namespaces="x {key}',
        f"mara a,,b {key}",
        "mara " + 'a="b",' * 5000,
    ):
        with pytest.raises(ValueError):
            parse_trusted(wrong)


def _grows(work: Callable[[int], float], size: int) -> float:
    """How many times as long eight times as much takes: 8 if it grows with its input, 64 with the square."""
    return min(work(8 * size) for _ in range(2)) / max(min(work(size) for _ in range(3)), 1e-4)


def _took(work: Callable[[], object]) -> float:
    began = time.process_time()
    work()
    return time.process_time() - began


def test_a_damaged_ledger_is_checked_in_one_pass(tmp_path: Path) -> None:
    def work(size: int, lines: Callable[[list[bytes], int], list[bytes]]) -> float:
        world = World(tmp_path / f"{time.monotonic_ns()}")
        for _ in range(4):
            world.append(0)
        name = world.file(0)
        world.write(name, lines(world.lines(name), size))
        return _took(lambda: Check(world.directory, {}).run())

    def bad(found: list[bytes], size: int) -> list[bytes]:
        return [found[0], *[b"{}"] * size, *found[1:]]

    def twice(found: list[bytes], size: int) -> list[bytes]:
        return found + found[-1:] * size

    def between(found: list[bytes], size: int) -> list[bytes]:
        return [line for at in range(size // 2) for line in (found[at % len(found)], b"x")]

    for lines in (bad, twice, between):
        assert _grows(lambda size, lines=lines: work(size, lines), 500) < 30, lines.__name__


def test_a_number_that_somebody_has_chosen(tmp_path: Path) -> None:
    """A gap of nine quadrillion records is named at once."""
    world = World(tmp_path)
    for _ in range(3):
        world.append(0)
    name = world.file(0)
    first, *_, last = world.lines(name)
    record = json.loads(last)
    record["number"] = 9 * 10**15
    line = json.dumps(record, sort_keys=True, separators=(",", ":")).encode()
    assert _took(lambda: (world.write(name, [first, line]), world.check())) < 5


def test_many_batches_in_the_queue() -> None:
    class Many:
        def __init__(self, count: int) -> None:
            self.count = count

        def entries(self) -> list[QueueEntry]:
            dead = Holder("x", "gone", 5, 1)
            return [
                QueueEntry(at, f"b{at}", ("heron",), 0, dead, WaitsFor.ITS_TURN, NEVER, 0, 0, 0, "", "")
                for at in range(self.count)
            ]

        def attendance(self) -> Attendance:
            return Attendance(attended=False)

    class One:
        def __init__(self, name: str) -> None:
            self.name = name

        def carrier(self) -> None:
            return None

    def work(count: int) -> float:
        from yatagan.batches.states import BatchState

        return _took(
            lambda: [
                each.of(One(f"b{at}"), BatchState.QUEUED)  # type: ignore[arg-type]
                for each in [Activities(Many(count))]  # type: ignore[arg-type]
                for at in range(count)
            ]
        )

    assert _grows(work, 400) < 30


def test_a_list_with_one_content_many_times(tmp_path: Path) -> None:
    """Contents that are equal, and files that were moved: of each side as many."""
    from yatagan.stores.interface import Facts, Kind
    from yatagan.trees.scan import Tree
    from yatagan.verdicts.comparison import Digests, compare

    def tree(prefix: bytes, count: int) -> Tree:
        found = Tree(b"/x")
        for at in range(count):
            found.entries[b"%b-%d" % (prefix, at)] = Facts(Kind.FILE, 5, 0, 0o644)
        return found

    def work(count: int) -> float:
        one, other = tree(b"a", count), tree(b"b", count)
        sides = tuple(Digests(dict.fromkeys(each.entries, "d"), {}) for each in (one, other))
        return _took(lambda: compare(one, other, (sides[0], sides[1]), step_ns=1))

    assert _grows(work, 1000) < 30


def test_lists_journals_and_kept_files_of_any_length(tmp_path: Path) -> None:
    import asyncio

    from yatagan.batches.counts import outcome_of
    from yatagan.batches.journal import Journal
    from yatagan.batches.journal_data import Header
    from yatagan.batches.steps import Prove, Step, StepKind
    from yatagan.batches.strip import Strip  # noqa: F401
    from yatagan.digests.any_lists import own_list
    from yatagan.stores.interface import Facts, Kind
    from yatagan.stores.local import LocalStore
    from yatagan.trees.kept import find_kept, newest_of_each

    def a_list(count: int) -> float:
        data = b"".join(b"%064x  fen/%d.csv\n" % (at % 7, at) for at in range(count))
        return _took(lambda: own_list(data, "x"))

    def a_journal(count: int) -> float:
        facts = Facts(Kind.FILE, 5, 0, 0o644)
        steps = [Step(at, at, StepKind.FILE, b"/s/%d" % at, b"/d/%d" % at, b"%d" % at, facts) for at in range(1, count)]
        journal = Journal.in_memory(Header("b", 0, ("stage",), "", "", b"/d", Prove.NONE), steps)
        try:
            return _took(lambda: outcome_of(journal))
        finally:
            journal.close()

    def kept_files(count: int) -> float:
        top = tmp_path / str(time.monotonic_ns())
        for at in range(count):
            place = top / ".yatagan-kept" / f"b{at % 40}" / f"d{at % 10}"
            place.mkdir(parents=True, exist_ok=True)
            (place / str(at)).touch()

        async def find() -> None:
            store = LocalStore(b"/")
            newest_of_each([each async for each in find_kept(store, os.fsencode(top))])
            await store.close()

        return _took(lambda: asyncio.run(find()))

    assert _grows(a_list, 1000) < 30
    assert _grows(a_journal, 500) < 30
    assert _grows(kept_files, 80) < 30
    assert Signers(b"", b"").keys == []
