"""Text for people: commands that can be pasted, lines that break where they may, numbers that hold still."""

from __future__ import annotations

import subprocess

import click
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yatagan.cli.terminal import text
from yatagan.near_names import nearest

NAMES = st.lists(
    st.one_of(
        st.binary(min_size=1, max_size=12),
        st.text(alphabet=" '\"\\$`!*?[](){}<>|&;#~=äöü\n\t\x1b\u202e-:@", min_size=1, max_size=12).map(str.encode),
    ).map(lambda name: name.replace(b"\0", b"").replace(b"/", b"") or b"x"),
    min_size=1,
    max_size=20,
)


@settings(max_examples=40, deadline=None)
@given(names=NAMES)
def test_what_is_quoted_can_be_pasted_into_a_shell(names: list[bytes]) -> None:
    script = "printf '%s\\0' " + " ".join(text.quoted(name) for name in names)
    assert "\x1b" not in script and "\n" not in script and script.isprintable()
    done = subprocess.run(["bash", "-c", script.encode("utf-8", "surrogateescape")], capture_output=True, check=True)
    assert done.stdout.split(b"\0")[:-1] == names


@given(words=st.lists(st.text(alphabet="abc", min_size=1, max_size=9), max_size=30), room=st.integers(12, 60))
def test_a_command_in_a_text_stays_in_one_piece(words: list[str], room: int) -> None:
    pasted = text.command("batch", "resume", "261127-k7qd", *words)
    lines: list[str] = []
    for before in ("", "Go on with: ", " ".join(["so"] * 20) + ": "):
        lines = text._wrap(before + pasted, room)
        assert any(pasted in line for line in lines)
        assert " ".join(lines).replace("  ", " ") == (before + pasted).replace("  ", " ")
        assert all(len(line) <= room for line in lines if "yatagan" not in line and " " in line)


@given(whole=st.integers(0, 10**18), share=st.floats(0, 1))
def test_bytes_of_bytes_hold_still(whole: int, share: float) -> None:
    shown = text.size_of(int(whole * share), whole)
    assert len(shown) == len(text.size_of(0, whole)) == len(text.size_of(whole, whole))
    assert shown.endswith(f" of {text.size(whole)}")


def test_columns_that_are_coloured_stay_in_line(capsys: pytest.CaptureFixture[str]) -> None:
    with click.Context(click.Command("any"), color=True):
        text.table(("a", "b"), [(text.tinted("good", text.Tone.GOOD), "1"), ("not good", "2")])
    lines = click.unstyle(capsys.readouterr().out).splitlines()
    assert [line.index(line.split()[-1]) for line in lines] == [10, 10, 10]


@pytest.mark.parametrize(
    ("typed", "known", "meant"),
    [
        ("hern", ["heron", "bittern"], "heron"),
        ("HERON", ["heron"], "heron"),
        ("heron", ["heron"], ""),
        ("zzz", ["heron"], ""),
        ("stgae", ["stage", "list"], "stage"),
        ("x", [], ""),
    ],
)
def test_the_nearest_name(typed: str, known: list[str], meant: str) -> None:
    assert nearest(typed, known) == meant
