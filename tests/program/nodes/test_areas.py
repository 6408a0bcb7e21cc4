"""Areas and roles: where data is put, and what is said before."""

from __future__ import annotations

import os
import time

import pytest

from conftest import Far, Practice, Program


@pytest.fixture
def far(program: Program, practice: Practice) -> Far:
    """What is said and refused here is our own doing: one kind of node will do, but where a real one is asked for."""
    found = practice.far()
    program.know(found)
    program("node", "open", found.name)
    return found


@pytest.fixture
def heron(program: Program, far: Far) -> Far:
    """A node with areas: scratch, purged; archive, read-only; and a link that leads out of scratch."""
    for name in ("scratch", "archive", "elsewhere"):
        (far.root / name).mkdir()
    (far.root / "scratch" / "out").symlink_to(far.root / "elsewhere")
    (far.root / "archive" / "old").write_text("old")
    area = ("area", "add", far.name)
    program(*area, "scratch", str(far.root / "scratch"), "--not-backed-up", "--purged-after", "30d", "--note", "fast")
    program(*area, "archive", str(far.root / "archive"), "--backed-up", "--read-only")
    source = program.directory / "fen"
    source.mkdir()
    for name, days in (("new", 1), ("old", 40)):
        (source / name).write_text(name)
        stamp = time.time() - days * 86400
        os.utime(source / name, (stamp, stamp))
    return far


def test_saving_showing_forgetting(program: Program, heron: Far) -> None:
    shown = program("area", "list").stdout
    assert f"{heron.name}:@scratch" in shown and "not backed up, purged after 30 days, fast" in shown
    assert "backed up, read-only" in shown
    assert "@archive" in program("node", "show", heron.name).stdout
    program("node", "change", heron.name, "--role", "login")  # changing the node keeps them
    assert len(program.json("area", "list", heron.name)["areas"]) == 2
    program("area", "remove", heron.name, "archive")
    assert [area["name"] for area in program.json("area", "list")["areas"]] == ["scratch"]
    assert "there is no such area" in program("area", "remove", heron.name, "archive", expect=2).stderr
    assert "is no duration" in program("area", "add", heron.name, "x", "/x", "--purged-after", "30", expect=2).stderr
    assert "cannot be an area's name" in program("area", "add", heron.name, "a/b", "/x", expect=2).stderr
    assert "no node is called" in program("area", "add", "nobody", "x", "/x", expect=2).stderr


def test_what_an_area_means_for_a_stage(program: Program, heron: Far) -> None:
    there = f"{heron.name}:@scratch/campaign"
    shown = program("stage", "fen", there).stdout.splitlines()
    assert "1 file is older than 30 days: @scratch may remove it at once" in shown[1]
    assert any("@scratch: not backed up, purged after 30 days, fast" in line for line in shown)
    assert (heron.root / "scratch" / "campaign" / "fen" / "old").read_text() == "old"
    again = program.json("stage", "fen", there, "--plan-only")["plan"]
    assert [caution["about"] for caution in again["cautions"]] == ["area"], "nothing old would be carried now"
    assert "new" in program("list", f"{there}/fen").stdout
    leads = " ".join(program("stage", "fen", f"{heron.name}:@scratch/out", "--plan-only").stdout.split())
    assert "a link leads out of @scratch" in leads and "/elsewhere" in leads
    (heron.root / "@scratch").mkdir()
    program("stage", "fen/new", f"{heron.name}:./@scratch")
    assert (heron.root / "@scratch" / "new").exists()
    program("stage", f"{heron.name}:@archive/old", ".")  # reading is always good
    assert (program.directory / "old").read_text() == "old"


@pytest.mark.server
@pytest.mark.parametrize("modes", ["shared area", "site", "keep"])
def test_whose_modes_arrive(program: Program, oak: Far, modes: str) -> None:
    """In what a group shares, the directory there decides: its group, its umask; only the execute bit travels."""
    shared = oak.root / "shared"
    shared.mkdir()
    shared.chmod(0o2775)
    program("area", "add", oak.name, "group", str(shared), *(["--shared"] if modes == "shared area" else []))
    source = program.directory / "fen"
    (source / "deep").mkdir(parents=True)
    for name, mode in (("table", 0o600), ("run.sh", 0o700), ("deep/more", 0o604)):
        (source / name).write_text(name)
        (source / name).chmod(mode)
        os.utime(source / name, (1_500_000_000, 1_500_000_000))
    (source / "deep").chmod(0o700)
    shown = program(
        "stage", "fen", f"{oak.name}:@group", *([] if modes == "shared area" else ["--modes", modes])
    ).stdout
    umask = os.umask(0)
    os.umask(umask)
    found = {
        str(path.relative_to(shared / "fen")): path.stat().st_mode & 0o7777 for path in (shared / "fen").rglob("*")
    }
    if modes == "keep":
        assert found == {"table": 0o600, "run.sh": 0o700, "deep": 0o2700, "deep/more": 0o604}
    else:
        assert "as the site makes them" in shown
        plain, run = 0o666 & ~umask, 0o777 & ~umask
        assert found == {"table": plain, "run.sh": run, "deep": 0o2000 | run, "deep/more": plain}
    assert (shared / "fen" / "table").stat().st_mtime == 1_500_000_000
    again = program.json("stage", "fen", f"{oak.name}:@group")["plan"]
    assert again["files"] == 0, "modes are no reason to send again"


def test_what_an_area_refuses(program: Program, heron: Far) -> None:
    archive, absolute = f"{heron.name}:@archive", f"{heron.name}:{heron.root}/archive"
    before = sorted(os.listdir(heron.root / "archive"))
    for words in (
        ("stage", "fen", archive),
        ("stage", "fen", f"{absolute}/deep"),
        ("mkdir", f"{archive}/x"),
        ("rename", f"{archive}/old", "older"),
        ("remove", f"{absolute}/old", "--yes"),
        ("checksums", archive),
        ("checksums", "fen", "--output", f"{archive}/fen.sums"),
    ):
        assert "is saved as read-only" in program(*words, expect=5).stderr, words
    assert sorted(os.listdir(heron.root / "archive")) == before
    assert "climbs out" in program("list", f"{heron.name}:@scratch/../archive", expect=5).stderr
    assert "an area" in program("remove", f"{heron.name}:@scratch", "--yes", expect=5).stderr
    assert "has @archive, @scratch" in program("list", f"{heron.name}:@nothing", expect=2).stderr
    assert "no name of its own" in program("stage", f"{heron.name}:@scratch", ".", expect=2).stderr


@pytest.mark.server
def test_areas_behind_links_and_below_the_destination(program: Program, oak: Far) -> None:
    """Sites give their disks by links; and an area may lie below what is staged to."""
    for name in ("disk/scratch", "disk/archive"):
        (oak.root / name).mkdir(parents=True)
    for name in ("scratch", "archive"):
        (oak.root / name).symlink_to(oak.root / "disk" / name)
    program("area", "add", oak.name, "scratch", str(oak.root / "scratch"), "--purged-after", "30d")
    program("area", "add", oak.name, "archive", str(oak.root / "archive"), "--read-only")
    (program.directory / "fen").write_text("new")
    for place in (f"{oak.name}:@scratch/not/there/yet", f"{oak.name}:{oak.root}/scratch/not/there/yet"):
        cautions = program.json("stage", "fen", place, "--plan-only")["plan"]["cautions"]
        assert [caution["about"] for caution in cautions] == ["area"], cautions
    for place in (f"{oak.name}:@archive/not/there/yet", f"{oak.name}:{oak.root}/archive/not/there/yet"):
        assert "read-only" in program("stage", "fen", place, expect=5).stderr
        assert "read-only" in program("mkdir", place, expect=5).stderr
    source = program.directory / "disk"
    (source / "archive").mkdir(parents=True)
    (source / "archive" / "new").write_text("new")
    assert "read-only" in program("stage", "disk", f"{oak.name}:", expect=5).stderr
    assert "read-only" in program("stage", "disk/archive", f"{oak.name}:disk", expect=5).stderr
    program("stage", "disk", f"{oak.name}:", "--skip", "archive")
    assert not list((oak.root / "disk" / "archive").iterdir())


def test_a_login_node_is_cautioned_against(program: Program, far: Far) -> None:
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_bytes(b"x" * 5000)
    dunlin = ["dunlin" if word == far.name else word for word in far.add]
    program(*dunlin, "--role", "login", "--cluster", "fens")
    program("node", "change", far.name, "--cluster", "fens")
    assert "made for logging in" not in program("stage", "fen", "dunlin:", "--plan-only").stdout
    with (program.home / "settings.toml").open("a") as stream:
        stream.write('[login-node]\nsize = "1kB"\n')
    shown = " ".join(program("stage", "fen", "dunlin:", "--plan-only").stdout.split())
    assert "dunlin is made for logging in" in shown and f"write {far.name}: for dunlin:" in shown
    assert "made for logging in" not in program("stage", "fen", f"{far.name}:", "--plan-only").stdout
    assert program.json("stage", "fen", "dunlin:")["plan"]["cautions"][0]["about"] == "login node"
    back = " ".join(program("stage", "dunlin:fen", "back", "--plan-only").stdout.split())
    assert "dunlin is made for logging in" in back


@pytest.mark.parametrize(
    ("settings", "says"),
    [
        ("[connection]\npatience = 1", ""),
        ("[login-node]\nsize = 2000000\ntime = '2m'", ""),
        ("[connection]\nprocesses = 2", ""),
        ("[connection]\nprocesses = '2'", ""),
        ("[connection]\nprocesses = '2MB'", "connection.processes: '2MB' is no whole number"),
        ("[connection]\nprocesses = '-1'", "connection.processes: '-1' is no whole number"),
        ("[connection]\nprocesses = -1", "connection.processes: -1 is less than nothing"),
        ("[connection]\npatience = -1.5", "connection.patience: -1.5 is less than nothing"),
        ("[login-node]\nsize = 'many'", "login-node.size: 'many' is no size; write 500kB, 20MB or 4096"),
        ("[connection]\npatience = 'long'", "connection.patience"),
        ("[connection]\nspeed = 'long'", "[connection] knows keepalive, patience, processes, shell, silence"),
        ("[lines]", "there are [connection], [login-node]"),
        ("connection = 3", "connection is no table"),
        ("[connection", "settings.toml"),
    ],
)
def test_settings(program: Program, settings: str, says: str) -> None:
    (program.home / "settings.toml").write_text(settings)
    (program.directory / "a").write_text("a")
    done = program("stage", "a", "there", expect=2 if says else 0)
    assert says in done.stderr
