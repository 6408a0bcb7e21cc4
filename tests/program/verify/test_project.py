"""Datasets that a project file declares: staged, verified and shown by name; what a file of others may not do."""

from __future__ import annotations

import os
import shutil
from pathlib import Path
from typing import Any

import pytest

from conftest import Far, Program, first_run, snapshot, wait_for
from projects import GOOD, declare
from yatagan.config.project import load_project


def chambers(program: Program) -> Path:
    """An input with what trees have: files, an empty directory, a link, a name with a newline, one to be skipped."""
    root = program.directory / "chambers"
    (root / "week 1").mkdir(parents=True)
    (root / "empty").mkdir()
    for name in ("a.csv", "week 1/b\n.csv", "week 1/c.csv", "draft.tmp"):
        (root / name).write_text(f"{name}: 1958.2\n" * 40)
    (root / "newest").symlink_to("week 1/c.csv")
    return root


@pytest.mark.kept("openssh")
def test_each_dataset_goes_the_way_of_its_use(program: Program, far: Far) -> None:
    declare(program, far.name)
    root = chambers(program)
    (far.root / "fen" / "fluxes").mkdir(parents=True)
    (far.root / "fen" / "fluxes" / "july.csv").write_text("1.2\n")
    answers = program.json("stage", "--all")["datasets"]
    assert [(each["dataset"], each["towards"], each["batch"]["state"]) for each in answers] == [
        ("chambers", "there", "finished"),
        ("fluxes", "here", "finished"),
    ]
    (root / "draft.tmp").unlink()
    there = far.root / "fen" / "chambers-2026"
    assert snapshot(root) == snapshot(there), "root to root, under its name there"
    assert (program.directory / "results" / "fluxes" / "july.csv").read_text() == "1.2\n"
    # The other way, when that is said; and nothing moves twice.
    (there / "back.csv").write_text("2\n")
    answer = program.json("stage", "--dataset", "chambers", "--towards", "here")
    assert answer["plan"]["files"] == 1 and (root / "back.csv").exists()
    assert program.json("stage", "--dataset", "chambers")["batch"] is None
    # The group's ledger has it all, with the dataset's name.
    records = program.json("ledger", "show")["records"]
    assert {record["dataset"] for record in records} == {"chambers", "fluxes"} and len(records) == 3
    assert sorted(path.name for path in (program.directory / "records").iterdir()) == ["lists", "writers"]
    # From a directory of the project it is the same project.
    below = Program(program.home, program.directory / "chambers")
    assert below.json("project", "show")["name"] == "fen-flux"


def test_a_job_script_verifies_its_input_by_name(program: Program, oak: Far) -> None:
    declare(program, "oak")
    root = chambers(program)
    said = program("verify", "--dataset", "chambers", expect=2).stderr
    assert "nothing is on record of it" in said and "yatagan stage --dataset chambers" in said
    program("stage", "--dataset", "chambers")
    verify = ("verify", "--dataset", "chambers", "--side", "here", "--no-questions")
    good = program(*verify).stdout
    assert good.count("\n") == 1 and good.startswith("chambers, here: good against the record of")
    there = program.json("verify", "--dataset", "chambers")
    assert there["good"] and there["files"] == 3 and there["evidence"] == {"on-node": 3}
    assert there["against_dataset"] == "chambers" and there["facts_checked"]
    (root / "a.csv").write_text("other\n")
    (root / "newest").unlink()
    answer = program.json(*verify, expect=1)
    assert {(each["path"], each["verdict"]) for each in answer["entries"]} == {
        ("a.csv", "different"),
        ("newest", "missing"),
    }
    program("verify", "--dataset", "chambers", "--side", "here", "--by", "size-and-time", expect=1)
    assert program.json("verify", "--dataset", "chambers")["good"], "there nothing has changed"
    shutil.rmtree(root)
    assert program.json(*verify, expect=1)["counts"]["missing"] == 7, "three of them are directories"


def test_what_was_taken_away_before_it_was_staged_again_is_not_missed(program: Program, oak: Far) -> None:
    declare(program, "oak")
    root = chambers(program)
    program("stage", "--dataset", "chambers")
    before = root.stat().st_mtime_ns
    (root / "a.csv").unlink()
    (root / "newest").unlink()
    os.utime(root, ns=(before, before))
    verify = ("verify", "--dataset", "chambers", "--side", "here")
    assert program.json(*verify, expect=1)["counts"]["missing"] == 2
    assert program.json("stage", "--dataset", "chambers")["batch"] is None, "there is nothing to carry"
    good = program.json(*verify)
    assert good["good"] and good["files"] == 2
    assert program.json("verify", "--dataset", "chambers")["counts"]["not_listed"] == 2
    assert program.json("restore", "--dataset", "chambers")["restored"][0]["lost"] == []
    # It comes back, and counts again; something else goes, with a batch this time.
    (root / "a.csv").write_text("again\n")
    (root / "week 1" / "c.csv").unlink()
    assert program.json("stage", "--dataset", "chambers", "--if-newer-there", "replace")["batch"]["state"] == "finished"
    again = program.json(*verify)
    assert again["good"] and again["files"] == 2
    program("stage", "--dataset", "chambers")
    assert len(program.json("ledger", "show", "--command", "staged")["records"]) == 3


def test_the_project_shows_how_its_datasets_stand(program: Program, oak: Far) -> None:
    declare(program, "oak", GOOD.replace("{node}:fen/fluxes", "{node}:@scratch/fluxes"))
    root = chambers(program)
    program("area", "add", "oak", "scratch", str(oak.root / "scratch"), "--not-backed-up", "--purged-after", "30d")
    program("area", "add", "oak", "home", str(oak.root / "fen"), "--backed-up")
    (oak.root / "scratch" / "fluxes").mkdir(parents=True)
    (oak.root / "scratch" / "fluxes" / "july.csv").write_text("1.2\n")

    def shown(expect: int, *more: str) -> dict[str, Any]:
        return {each["dataset"]: each for each in program.json("project", "show", *more, expect=expect)["datasets"]}

    assert shown(1)["chambers"]["staged_at"] is None
    told = program("stage", "--all").stderr
    assert "the results of fluxes stay in oak:@scratch, which is not backed up" in told and "oak:@home" in told
    program("verify", "--dataset", "chambers")
    now = shown(0)
    assert now["chambers"]["settled"] and now["chambers"]["verified_end"] == "there"
    assert now["chambers"]["verified_evidence"] == {"on-node": 3} and now["fluxes"]["backed_up"] is False
    os.utime(root / "a.csv", (4e9, 4e9))
    (root / "newest").unlink()
    (root / "new.csv").write_text("new\n")
    (oak.root / "fen" / "chambers-2026" / "a.csv").unlink()
    now = shown(1, "--there")
    assert now["chambers"]["changed_here"] == {"same": 2, "newer": 1, "other": 0, "missing": 1, "new": 1}
    assert now["chambers"]["changed_there"] == {"same": 3, "newer": 0, "other": 0, "missing": 1, "new": 0}
    said = program("project", "show", expect=1)
    assert "1 newer, 1 missing, 1 new" in said.stdout and "nothing backs up @scratch" in said.stderr


#: What a file may not say: the lines of a dataset or of the project, and what is said of it.
MISTAKES = [
    ('use = "inputs"', "'inputs' is none of input, result", 'write use = "input"'),
    ('here = "../secret"', "leads out of the project", "yatagan.local.toml"),
    ('here = "/etc"', "is a path of one machine", "yatagan.local.toml"),
    ('here = "link"', "leads out of the project", "yatagan.local.toml"),
    ('here = "."', "the project itself is in it", "name a directory in the project"),
    ('there = "heron"', "is no place on a node", "heron:fen/chambers"),
    ('there = "heron:"', "has no name of its own", "heron:fen/chambers"),
    ('there = "heron:@scratch"', "has no name of its own", "heron:fen/chambers"),
    ('there = "heron:fen/../.."', "climbs up", "heron:fen/chambers"),
    ("only = 3", "no list of patterns", 'only = ["*.csv"]'),
    ('stored = "bundel"', "is none of", 'write stored = "bundle"'),
    ('ther = "heron:fen"', "this means nothing", "did you mean there?"),
]


def test_every_mistake_is_told_at_once_with_its_line(program: Program, tmp_path: Path) -> None:
    (program.directory / "link").symlink_to(tmp_path)
    lines, expected = (
        ["[project]", 'name = "fen"', 'ledger = "/srv/ledger"'],
        [("line 3", "is a path of one machine", "")],
    )
    for number, (line, why, remedy) in enumerate(MISTAKES):
        given = {"use": 'use = "input"', "here": f'here = "d{number}"', "there": f'there = "heron:fen/d{number}"'}
        given[line.split(" ")[0]] = line
        lines += [f"[dataset.d{number}]", *given.values()]
        expected.append((f"line {lines.index(line, len(lines) - len(given)) + 1}", why, remedy))
    (program.directory / "yatagan.toml").write_text("\n".join(lines))
    told = program("project", "show", expect=2).stderr
    assert f"the project file has {len(expected)} mistakes" in told
    for line, (where, why, remedy) in zip(told.splitlines()[1:], expected, strict=True):
        assert f"{where}," in line and why in line and remedy in line
    one = "[dataset.x]\nuse = 1\n"
    (program.directory / "yatagan.toml").write_text(
        one.replace("use = 1", 'use = "input"\nhere = "x"\nthere = "heron:x/y"') + "colour = 1\n"
    )
    said = program("project", "show", expect=2).stderr.splitlines()
    assert "line 5, dataset.x.colour: this means nothing" in said[0] and len(said) == 2
    (program.directory / "yatagan.toml").write_text("[dataset.x\n")
    assert "line 1" in program("stage", "--all", expect=2).stderr


@pytest.mark.parametrize("where", ["main", "local"])
def test_a_cloned_project_cannot_reach_out_of_itself(program: Program, oak: Far, tmp_path: Path, where: str) -> None:
    secret = tmp_path / "secret"
    secret.mkdir()
    (secret / "key").write_text("private\n")
    declare(program, "oak")
    chambers(program)
    if where == "main":  # whatever the text: a link in the clone leads there
        shutil.rmtree(program.directory / "chambers")
        (program.directory / "chambers").symlink_to(secret)
        assert "leads out of the project" in program("stage", "--dataset", "chambers", expect=2).stderr
    else:  # a personal file that came with the clone
        (program.directory / "yatagan.local.toml").write_text(f'[dataset.chambers]\nhere = "{secret}"\n')
        told = program("stage", "--dataset", "chambers", expect=5).stderr
        assert str(secret) in told and "yatagan project accept" in told
        assert not (oak.root / "fen").exists()
        program("project", "accept")
        program("stage", "--dataset", "chambers")
        assert (oak.root / "fen" / "chambers-2026" / "key").read_text() == "private\n"
        # What was accepted is that path, not the file.
        (program.directory / "yatagan.local.toml").write_text(f'[dataset.chambers]\nhere = "{tmp_path / "home"}"\n')
        program("stage", "--dataset", "chambers", expect=5)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files away")
def test_a_file_of_another_account_is_asked_about_once(program: Program) -> None:
    declare(program, "heron")
    os.chown(program.directory / "yatagan.toml", 12345, -1)
    assert "belongs to another account, number 12345" in program("project", "show", expect=5).stderr
    (program.directory / "x").write_text("x")
    assert "the project's ledger is not used" in program("checksums", "x").stderr
    assert not (program.directory / "records").exists()
    assert "Accepted: " in program("project", "accept").stdout
    program("project", "show", expect=1)
    os.chown(program.directory / "yatagan.toml", 12346, -1)
    program("project", "show", expect=5)


def test_a_new_file_says_itself_what_can_be_declared(program: Program) -> None:
    program("project", "new", "Moor (peat), 2026")
    text = (program.directory / "yatagan.toml").read_text()
    assert load_project(program.directory).name == "Moor (peat), 2026"
    assert program("project", "show").stdout.count("\n") == 2
    uncommented = "\n".join(
        line[2:]
        if line.startswith(("# [", "# use", "# here", "# there", "# only", "# skip", "# stored", "# by", "# led"))
        else line
        for line in text.splitlines()
    )
    (program.directory / "yatagan.toml").write_text(uncommented)
    dataset = load_project(program.directory).dataset("chambers")
    assert (dataset.only, dataset.skip, dataset.there.node) == (("*.csv",), ("*.tmp",), "heron")
    assert "there is a project file already" in program("project", "new", expect=2).stderr


def test_a_dataset_that_is_a_bag_is_verified_as_one(program: Program, oak: Far) -> None:
    (chambers(program) / "newest").unlink()
    (program.directory / "chambers" / "empty").rmdir()
    (program.directory / "chambers" / "week 1" / "b\n.csv").unlink()
    program("bag", "make", "chambers", "--output", "chambers-bag")
    declare(
        program,
        "oak",
        '[dataset.bag]\nuse = "input"\nhere = "chambers-bag"\nthere = "{node}:bags/chambers"\nstored = "bag"\n',
    )
    program("stage", "--dataset", "bag")
    assert program.json("verify", "--dataset", "bag")["valid"]
    program("routine", "add", "check", "--command", "verify", "--dataset", "bag", "--at", "02:30")
    assert first_run(program, "check")["outcome"] == "good"
    (oak.root / "bags" / "chambers" / "data" / "a.csv").write_text("other\n")
    assert any("a.csv" in each["path"] for each in program.json("verify", "--dataset", "bag", expect=1)["problems"])
    run = program.json("routine", "run", "check", expect=1)
    assert (run["outcome"], run["detail"]) == ("not good", "no valid bag, 2 problems")
    program("routine", "remove", "check")


def test_a_routine_stages_a_dataset(program: Program, oak: Far) -> None:
    declare(program, "oak")
    chambers(program)
    program("routine", "add", "nightly", "--dataset", "chambers", "--every", "1h", "--unchanged-for", "0s")
    wait_for(lambda: [each["outcome"] for each in program.json("routine", "show", "nightly")["runs"]] == ["moved"])
    assert (oak.root / "fen" / "chambers-2026" / "a.csv").exists()
    program("routine", "remove", "nightly")


def test_a_ledger_that_came_with_a_clone_is_reached_through_no_link(program: Program, tmp_path: Path) -> None:
    """Its links are this account's own, which made the clone. The record waits; nothing is written where they lead."""
    start_up = tmp_path / "start-up"
    start_up.mkdir()
    (program.directory / "fen").mkdir()
    (program.directory / "fen" / "a").write_text("1")
    (program.directory / "yatagan.toml").write_text('[project]\nname = "fen"\nledger = "led"\n')
    (program.directory / "led").mkdir()
    for part in ("writers", "lists"):
        link = program.directory / "led" / part
        link.symlink_to(start_up)
        said = program("stage", "fen", f"there-{part}", "--no-questions")
        assert f"led/{part}: it is a link, which no ledger has" in said.stderr
        assert not list(start_up.iterdir())
        assert f"{part}: a link, which no ledger has" in program("ledger", "check", expect=1).stdout
        link.unlink()
    program("stage", "fen", "there", "--no-questions")
    assert len(program.json("ledger", "show")["records"]) == 3, "what waited is written once it can be"
