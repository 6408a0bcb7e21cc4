"""What a dataset has on record and its source has no more: absence is not taken for intent."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Far, Program, first_run, wait_for
from projects import PROJECT

FILES = 40


@pytest.fixture
def chambers(program: Program, oak: Far) -> Path:
    """A dataset of forty files, staged."""
    (program.directory / "yatagan.toml").write_text(PROJECT.format(node=oak.name))
    root = program.directory / "chambers"
    root.mkdir()
    for number in range(FILES):
        (root / f"{number:02}.csv").write_text(f"{number}: 1958.2\n" * 9)
    program("stage", "--dataset", "chambers")
    return root


def take(many: int) -> Callable[[Path], None]:
    def harm(root: Path) -> None:
        status = root.stat()
        for file in sorted(root.iterdir())[:many]:
            file.unlink()
        os.utime(root, ns=(status.st_atime_ns, status.st_mtime_ns))  # else that would be carried

    return harm


def empty_with_directories(root: Path) -> None:
    take(FILES)(root)


def mount_another(root: Path) -> None:
    """Another disk is mounted there, which lacks one file."""
    kept = {file.name: (file.read_bytes(), file.stat().st_mtime_ns) for file in root.iterdir()}
    subprocess.run(["mount", "-t", "ramfs", "none", str(root)], check=True)
    for name, (data, mtime_ns) in list(kept.items())[1:]:
        (root / name).write_bytes(data)
        os.utime(root / name, ns=(mtime_ns, mtime_ns))


#: A harm, how many files are gone then, and whether a person is asked about that.
HARMS: dict[str, tuple[Callable[[Path], None], int, bool]] = {
    "a few": (take(4), 4, False),
    "more than a tenth": (take(5), 5, True),
    "emptied": (empty_with_directories, FILES, True),
    "another disk": (mount_another, 1, True),
}


@pytest.mark.parametrize("name", HARMS)
def test_absence_is_not_taken_for_intent(name: str, program: Program, chambers: Path) -> None:
    harm, gone, asked = HARMS[name]
    if name == "another disk" and os.geteuid():
        pytest.skip("mounting needs root")
    harm(chambers)
    try:
        for _ in range(2):  # and the second time no less
            answer = program.json("stage", "--dataset", "chambers", "--no-questions", expect=int(asked))
            told = answer["plan"]["gone"]
            if not asked:
                assert told is None or told["files"] == gone
                continue
            assert (told["files"], told["on_record"]) == (gone, False)
            words = program("stage", "--dataset", "chambers", "--no-questions", expect=1)
            many = f"{gone} file" + ("s" if gone > 1 else "")
            assert many in words.stdout + words.stderr and "no longer here" in words.stdout
            assert "everything is there already" not in words.stdout
        missing = 0 if not asked else gone
        verdict = program.json("verify", "--dataset", "chambers", "--side", "here", expect=int(asked))
        assert verdict["counts"]["missing"] == missing
        restored = program.json("restore", "--dataset", "chambers", "--plan-only")["restored"][0]
        assert len(restored["lost"]) == missing
        assert program("project", "show", expect=int(asked)).returncode == int(asked)
        if asked:
            accepted = program.json("stage", "--dataset", "chambers", "--accept-gone")
            assert accepted["plan"]["gone"]["on_record"]
            assert program.json("stage", "--dataset", "chambers")["plan"]["gone"] is None
    finally:
        if os.path.ismount(chambers):
            subprocess.run(["umount", str(chambers)], check=True)


def test_a_record_that_was_emptied_is_never_good(program: Program, chambers: Path) -> None:
    take(FILES)(chambers)
    program("stage", "--dataset", "chambers", "--accept-gone")
    for end in ("here", "there"):
        verdict = program("verify", "--dataset", "chambers", "--side", end, expect=1)
        assert "NOT GOOD" in verdict.stdout and "gone when it was last staged" in verdict.stdout
    assert "all is gone" in program("project", "show", expect=1).stdout
    told = program("restore", "--dataset", "chambers", "--plan-only", expect=5).stderr
    batch = program.json("batch", "list")["batches"][0]["batch"]
    assert "was gone when it was last staged" in told and f"yatagan restore --batch {batch}" in told
    assert len(program.json("restore", "--batch", batch)["restored"][0]["lost"]) == FILES
    assert len(list(chambers.iterdir())) == FILES


def test_a_tree_without_files_is_nothing_to_verify(program: Program, chambers: Path) -> None:
    shutil.rmtree(chambers)
    (program.directory / "yatagan.toml").write_text(PROJECT.format(node="oak").replace("chambers", "bare"))
    (program.directory / "bare" / "below").mkdir(parents=True)
    program("stage", "--dataset", "bare")
    assert "nothing to verify" in program("verify", "--dataset", "bare", "--side", "here").stdout


def test_a_run_of_a_routine_says_so(program: Program, chambers: Path) -> None:
    program("routine", "add", "nightly", "--at", "02:30", "--unchanged-for", "0s", "--dataset", "chambers")
    assert first_run(program, "nightly")["outcome"] == "nothing new"
    take(FILES)(chambers)
    assert f"{FILES} files staged on" in program.json("routine", "run", "nightly")["detail"]
    (chambers / "new.csv").write_text("new")
    program("routine", "run", "nightly")
    wait_for(lambda: program.json("routine", "show", "nightly")["runs"][-1]["outcome"] == "moved")
    assert "gone from the source" in program("routine", "show", "nightly").stdout
    program("routine", "remove", "nightly")
