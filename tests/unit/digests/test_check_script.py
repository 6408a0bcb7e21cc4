"""A checksum list as a shell script: right in every shell, with names of all kinds, and kind to its caller."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import ALL_NEEDED
from yatagan.digests.check_script import check_script

SHELLS = [["dash"], ["bash"], ["ksh"], ["busybox", "sh"], ["bash", "--posix", "-eu"]]


ODD = [b"a", b"-", b"-n", b" lead", b"trail ", b"*star", b"it's", b'"quoted"', b"back\\slash", b"new\nline", b"cr\r"]
ODD += [b"x: OK", b"$(touch x)", b"`touch x`", b"\xff\xfe", b"# no comment", b"f\xc3\xb6hn", b"tab\t", b"'; exit 0; '"]


def shells() -> list[list[str]]:
    found = [shell for shell in SHELLS if shutil.which(shell[0])]
    if ALL_NEEDED:
        assert found == SHELLS, "CI has all of them"
    return found


def made(directory: bytes, names: list[bytes]) -> list[tuple[bytes, str]]:
    os.makedirs(directory)
    files = []
    for name in names:
        with open(os.path.join(directory, name), "wb") as file:
            file.write(b"of " + name)
        files.append((name, hashlib.sha256(b"of " + name).hexdigest()))
    return files


def checked(shell: list[str], script: Path, directory: bytes) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run([*shell, script, directory], capture_output=True, check=False, timeout=60)


@pytest.mark.parametrize("shell", SHELLS, ids=" ".join)
def test_every_shell_says_the_same(shell: list[str], tmp_path: Path) -> None:
    if shell not in shells():
        pytest.skip(f"{shell[0]} is not here")
    directory = os.fsencode(tmp_path / "fen")
    script = tmp_path / "check.sh"
    script.write_bytes(check_script(b"check.sh", made(directory, ODD)))
    good = checked(shell, script, directory)
    assert (good.returncode, good.stdout) == (0, b"check.sh: good: 19 files\n"), good
    for broken in ODD:
        path = os.path.join(directory, broken)
        with open(path, "rb") as file:
            data = file.read()
        with open(path, "wb") as file:
            file.write(b"other")
        bad = checked(shell, script, directory)
        verdict = b"check.sh: NOT GOOD: 1 of 19 files are missing or different\n"
        assert (bad.returncode, bad.stdout) == (1, verdict), (broken, bad)
        os.unlink(path)
        assert checked(shell, script, directory).stdout == verdict, broken
        with open(path, "wb") as file:
            file.write(data)
    assert sorted(os.listdir(directory)) == sorted(ODD), "nothing was run, and nothing made"
    missing = checked(shell, script, directory + b"-not")
    assert missing.returncode == 2 and b"no such directory" in missing.stderr
    alone = subprocess.run(
        [shutil.which(shell[0]) or "", *shell[1:], script, directory],
        env={"PATH": "/nowhere"},
        capture_output=True,
        check=False,
    )
    if shell[0] != "busybox":  # which has the command in itself
        assert alone.returncode == 3 and b"could not look" in alone.stderr, alone


NAMES = st.binary(min_size=1, max_size=20).filter(lambda name: not set(name) & set(b"/\0") and name.strip(b"."))


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(names=st.lists(NAMES, unique=True, max_size=6), which=st.integers(0, 4))
def test_names_of_any_bytes(names: list[bytes], which: int, tmp_path_factory: pytest.TempPathFactory) -> None:
    place = tmp_path_factory.mktemp("script")
    directory = os.fsencode(place / "fen")
    files = made(directory, names)
    (place / "check").write_bytes(check_script(b"check", files))
    shell = shells()[which % len(shells())]
    assert checked(shell, place / "check", directory).returncode == 0
    (place / "check").write_bytes(check_script(b"check", [*files, (b"more", "0" * 64)]))
    assert checked(shell, place / "check", directory).returncode == 1


def test_it_leaves_its_caller_alone(tmp_path: Path) -> None:
    """Read in by a job script it ends nothing, and leaves no trace: options, directory, variables."""
    directory = os.fsencode(tmp_path / "fen")
    (tmp_path / "check.sh").write_bytes(check_script(b"check.sh", made(directory, [b"a", b"new\nline"])))
    job = tmp_path / "job"
    job.write_text(
        "good=mine; bad=mine; LC_ALL=POSIX\nset -- fen\nbefore=$(set +o; pwd)\n. ./check.sh\nstatus=$?\n"
        '[ "$before" = "$(set +o; pwd)" ] && [ "$good$bad$LC_ALL" = mineminePOSIX ] || exit 9\nexit $status\n'
    )
    for shell in shells()[:4]:
        done = subprocess.run([*shell, job], cwd=tmp_path, capture_output=True, check=False)
        assert (done.returncode, done.stdout) == (0, b"check.sh: good: 2 files\n"), (shell, done)


#: What a caller may have done to its shell, and to the environment.
HOSTILE = {
    "CDPATH": "CDPATH=$PWD/elsewhere:$PWD; export CDPATH",
    "IFS": "IFS='1 0:/'",
    "options": "set -eufC",
    "pipefail": "(set -o pipefail) 2>/dev/null && set -o pipefail; set -e",
    "functions": "; ".join(
        f"{name}() {{ echo $PWD: good; }}" for name in ("cd", "printf", "cat", "awk", "sha256sum", "shasum", "list")
    ),
    "aliases": "{ shopt -s expand_aliases; } 2>/dev/null\n"
    + "\n".join(f"alias {name}='echo good'" for name in ("cd", "printf", "cat", "awk", "exit", "command", "sha256sum")),
    "variables": "good=5 ones=7 many=9 yatagan_ones=3; unset OLDPWD",
    "readonly": "readonly good ones many",
    "a language": "LC_ALL=tr_TR.UTF-8; LANG=de_DE; export LC_ALL LANG",
    "no language": "LC_ALL=; unset LANG; export LC_ALL",
    "POSIX": "LC_ALL=POSIX; LANGUAGE=de; export LC_ALL LANGUAGE",
}


@pytest.mark.parametrize("name", HOSTILE)
def test_nothing_of_its_caller_changes_the_verdict(name: str, tmp_path: Path) -> None:
    """Read in and run; here a file is damaged, and in a directory of the same name elsewhere all is well."""
    names = [b"a", b"100", b"new\nline"]
    script = check_script(b"check.sh", made(os.fsencode(tmp_path / "fen"), names))
    made(os.fsencode(tmp_path / "elsewhere" / "fen"), names)
    made(os.fsencode(tmp_path / "-"), names)
    (tmp_path / "check.sh").write_bytes(script)
    verdicts = {
        "fen": (1, b"check.sh: NOT GOOD: 1 of 3 files are missing or different\n"),
        "elsewhere/fen": (0, b"check.sh: good: 3 files\n"),
        "-": (0, b"check.sh: good: 3 files\n"),
        "not": (2, b""),
    }
    (tmp_path / "fen" / "100").write_bytes(b"other")
    for shell in shells()[:4]:
        for directory, verdict in verdicts.items():
            job = tmp_path / "job"
            job.write_text(f"set -- {directory}\n{HOSTILE[name]}\n. ./check.sh\n")
            done = subprocess.run([*shell, job], cwd=tmp_path, capture_output=True, check=False)
            assert (done.returncode, done.stdout) == verdict, (shell, directory, done)
            job.write_text(f"{HOSTILE[name]}\n\\command {' '.join(shell)} ./check.sh {directory}\n")
            environment = {**os.environ, "ENV": str(job), "BASH_ENV": str(tmp_path / "prelude")}
            (tmp_path / "prelude").write_text(HOSTILE[name] + "\n")
            done = subprocess.run([*shell, job], cwd=tmp_path, capture_output=True, check=False, env=environment)
            assert (done.returncode, done.stdout) == verdict, (shell, directory, done)
