"""The one writer of what a person or a script reads: standard output and errors.

Whatever it is given goes out as one line of harmless text: what could move the cursor, colour or hide text, or begin
another line, appears as an escape. So no caller can forget to make a name harmless. Colours are marks in the text that
only `style` can make: they carry a number that is drawn anew in every run, which nobody who names a file can know.
"""

from __future__ import annotations

import json
import re
import secrets
import sys
from collections.abc import Iterable, Mapping
from typing import Any

import click

from yatagan.spelling import escape, is_unsafe

_NUMBER = secrets.token_hex(6)
_MARK = re.compile(rf"\ufdd0{_NUMBER}:([0-9;]*)\ufdd1")
#: What goes back to the beginning of the line, and wipes it.
_WIPE = "\r\x1b[2K"
#: What a spreadsheet takes for the beginning of a formula.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def style(words: str, *, fg: int | None = None, bold: bool = False, dim: bool = False) -> str:
    """Words with a colour, of the 256 that terminals have, or bold, or dim."""
    codes = [code for code, wanted in (("1", bold), ("2", dim)) if wanted]
    codes += [f"38;5;{fg}"] if fg is not None else []
    return f"{_mark(';'.join(codes))}{words}{_mark('0')}" if codes else words


def plain(words: str) -> str:
    """Words without colours, as wide as they are shown."""
    return _MARK.sub("", words)


def rendered(words: str) -> str:
    """Words as a terminal gets them, one line."""
    pieces = _MARK.split(words)
    return "".join(f"\x1b[{piece}m" if at % 2 else harmless(piece) for at, piece in enumerate(pieces))


def say(words: str = "", *, err: bool = False) -> None:
    """Write a line to standard output, or to standard error. Colours are left out where they are not wanted."""
    click.echo(rendered(words), err=err)


def say_over(words: str = "") -> None:
    """Write a line to standard error that the next one overwrites; without words it is wiped."""
    click.echo(_WIPE + rendered(words), nl=False, err=True)


def say_json(answer: Mapping[str, Any], *, indent: int | None = 2) -> None:
    """Write a JSON object to standard output, with `indent` None as one line."""
    separators = None if indent is not None else (",", ":")
    text = json.dumps(answer, ensure_ascii=False, indent=indent, separators=separators)
    click.echo("".join(char if char == "\n" or not is_unsafe(char) else _json_escape(char) for char in text))


def say_data(data: bytes) -> None:
    """Write the bytes of a file to standard output: as they are to a file or pipe, as harmless lines to a terminal."""
    if not sys.stdout.isatty():
        click.echo(data, nl=False)
        return
    for line in data.decode("utf-8", "surrogateescape").removesuffix("\n").split("\n") if data else ():
        say(line)


def page(lines: Iterable[str]) -> None:
    """Show lines through the pager that the environment names."""
    click.echo_via_pager("\n".join(map(rendered, lines)) + "\n")


def csv_cell(value: object) -> object:
    """A cell of a table for spreadsheets: text that would be a formula there begins with an apostrophe."""
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value


def _mark(codes: str) -> str:
    return f"\ufdd0{_NUMBER}:{codes}\ufdd1"


def harmless(words: str) -> str:
    """Words without anything that could do more than be read."""
    if words.isprintable():
        return words
    return "".join(char if char == "\t" or not is_unsafe(char) else escape(char) for char in words)


def _json_escape(char: str) -> str:
    """A character in a JSON string as RFC 8259 escapes it."""
    units = char.encode("utf-16-be", "surrogatepass")
    return "".join(f"\\u{units[at] << 8 | units[at + 1]:04x}" for at in range(0, len(units), 2))
