"""What every command must have: help with an example, options that take any value, no import that is not needed."""

from __future__ import annotations

import contextlib
import subprocess
import sys
from pathlib import Path
from typing import Any

import click
import pytest

from conftest import YATAGAN
from yatagan.cli.main import program as root_command
from yatagan.errors import YataganError


def every_command(group: click.Group, path: tuple[str, ...] = ()) -> list[tuple[str, ...]]:
    found = []
    for name in group.list_commands(click.Context(group)):
        command = group.get_command(click.Context(group), name)
        found += every_command(command, (*path, name)) if isinstance(command, click.Group) else [(*path, name)]
    return found


@pytest.mark.parametrize("words", every_command(root_command), ids=" ".join)
def test_every_command_has_help_with_an_example(words: tuple[str, ...]) -> None:
    command: click.Command = root_command
    for word in words:
        assert isinstance(command, click.Group)
        command = command.get_command(click.Context(command), word)  # type: ignore[assignment]
    assert command.help and command.epilog and f"yatagan {' '.join(words)}" in command.epilog
    options = {name for parameter in command.params for name in parameter.opts}
    assert "--json" in options or words in (("demo",), ("completion",))


def test_no_value_of_an_option_is_too_strange(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Each is taken, or refused in words: in this process, where any other error would come through."""
    monkeypatch.setenv("YATAGAN_HOME", str(tmp_path / "home"))
    monkeypatch.chdir(tmp_path)
    tried = 0
    for words in every_command(root_command):
        command: Any = root_command
        for word in words:
            command = command.get_command(click.Context(command), word)
        needed = ["nowhere"] * sum(each.required for each in command.params if isinstance(each, click.Argument))
        texts = [each for each in command.params if isinstance(each, click.Option) and not each.is_flag]
        for option in texts if words != ("practice",) else ():
            for strange in ("", "foo", "inf", "nan", "-1", "9" * 400, "1e999", "a\nb", "/"):
                with contextlib.suppress(YataganError, click.ClickException, click.exceptions.Exit):
                    root_command.main([*words, *needed, option.opts[0], strange], "yatagan", standalone_mode=False)
                tried += 1
    assert tried > 300 and "Traceback" not in capsys.readouterr().err


def test_version_and_help_without_a_home(tmp_path: Path) -> None:
    done = subprocess.run([YATAGAN, "--version"], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("yatagan ")
    assert "Exit statuses" in subprocess.run([YATAGAN, "--help"], capture_output=True, text=True, check=True).stdout


def test_the_program_does_not_load_what_it_does_not_need() -> None:
    heavy = {"asyncssh", "rich", "sqlite3", "tomlkit", "asyncio"}
    code = f"import sys, yatagan.cli.main; print(sorted({heavy} & set(sys.modules)))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
