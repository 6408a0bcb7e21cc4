"""Text for people: names made safe for a terminal, sizes, times, counts, aligned lines."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import sys
import time
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from enum import IntEnum

from yatagan.cli.terminal import terminal
from yatagan.places import Place
from yatagan.spelling import count as count
from yatagan.spelling import duration as duration
from yatagan.spelling import is_unsafe
from yatagan.spelling import number as number
from yatagan.spelling import percent as percent
from yatagan.spelling import show as show
from yatagan.spelling import size as size
from yatagan.spelling import size_of as size_of

#: Below this many bytes a file, the rate is given in files.
_SMALL = 100_000


def directories(inside: int, above: int, new: str = "") -> str:
    """Directories of what arrives, and those above it: `35 new directories, 2 more above`."""
    found = count(inside or above, f"{new}directory", f"{new}directories")
    if not inside:
        return f"{found} above"
    return f"{found}, {number(above)} more above" if above else found


def size_and_time(step_ns: int) -> str:
    """The measure, with how finely times can be compared where that is a second or more."""
    seconds = step_ns // 10**9
    return "size and time" + (f" (to {'the second' if seconds == 1 else f'{seconds} seconds'})" if seconds else "")


def place(node: str, path: bytes) -> str:
    """A place as it would be typed, made harmless."""
    return f"{node}:{show(path)}" if node else show(path)


def quoted(word: bytes | str | Place) -> str:
    """One word of a command line, for pasting into a shell.

    What cannot be shown is written as bash, zsh and POSIX 2024 read it: `$'a\\nb'`. A local path that would be taken
    for an option or a node begins with `./`.
    """
    if isinstance(word, Place):
        raw = word.path or (b"" if word.node else b".")
        if not word.node and not raw.startswith((b"/", b".")) and (raw.startswith(b"-") or _NODE.match(raw)):
            raw = b"./" + raw
        raw = f"{word.node}:".encode() + raw if word.node else raw
    else:
        raw = word if isinstance(word, bytes) else word.encode("utf-8", "surrogateescape")
    text = raw.decode("utf-8", "surrogateescape")
    if not any(is_unsafe(char) for char in text):
        return shlex.quote(text)
    return "$'" + "".join(_dollar_escape(char) for char in text) + "'"


_NODE = re.compile(rb"[^/:]*:")


def _dollar_escape(char: str) -> str:
    if char in "'\\":
        return "\\" + char
    if not is_unsafe(char):
        return char
    return "".join(f"\\x{byte:02x}" for byte in char.encode("utf-8", "surrogateescape"))


def command(*words: bytes | str | Place) -> str:
    """A command of ours, for pasting: `yatagan batch resume 261127-k7qd`."""
    return " ".join(["yatagan", *map(quoted, words)])


def typed(words: Iterable[str]) -> str:
    """A command as it was typed, for pasting."""
    return " ".join(map(quoted, words))


class Tone(IntEnum):
    """The colours of verdicts and warnings, of the 256 that terminals have.

    All can be read on dark and on light backgrounds (contrast of 3.9 and more on black and on white).
    """

    GOOD = 28
    WARNING = 130
    TROUBLE = 160


def tinted(words: str, tone: Tone, *, bold: bool = False) -> str:
    """Words in the colour of a verdict or warning."""
    return terminal.style(words, fg=int(tone), bold=bold)


def rate(files: int, carried: int, seconds: float) -> str:
    """How fast it goes, or went: `12.3 MB/s`, or `336 files/s` where small files tell more than their bytes.

    "" when it was over too soon to say.
    """
    if seconds < 0.05 or (files < 100 and carried < 1_000_000):
        return ""
    if carried < files * _SMALL:
        return f"{number(round(files / seconds))} files/s"
    return f"{size(round(carried / seconds))}/s"


def about(seconds: float) -> str:
    """A duration that is not known exactly: `1 s`, `40 s`, `3 min`, `2 h 10 min`."""
    if seconds < 10:
        return f"{max(1, round(seconds))} s"
    if seconds < 60:
        return f"{round(seconds / 5) * 5} s"
    if seconds < 3600:
        return f"{round(seconds / 60)} min"
    whole = round(seconds / 600) * 600
    return f"{whole // 3600} h {whole % 3600 // 60:02d} min"


def moment(ns: int) -> str:
    """Local date and time to the minute."""
    try:
        return time.strftime("%Y-%m-%d %H:%M", time.localtime(ns // 1_000_000_000))
    except (OverflowError, ValueError, OSError):
        return "?"


def ago(when: str) -> str:
    """How long ago a timestamp was: `just now`, `3 min ago`, `5 h ago`, `2 d ago`, or its date."""
    try:
        seconds = time.time() - datetime.fromisoformat(when).timestamp()
    except (ValueError, OverflowError, OSError):
        return "?"
    if seconds < 60:
        return "just now"
    for unit, length, most in (("min", 60, 60), ("h", 3600, 24), ("d", 86400, 14)):
        if seconds < most * length:
            return f"{int(seconds // length)} {unit} ago"
    return when[:10]


def day_time(seconds: float) -> str:
    """When something is to happen, in local time: `at 23:40`, `on Sat at 02:30`, `on 2026-12-24 at 02:30`."""
    try:
        then, today = time.localtime(seconds), time.localtime()
    except (OverflowError, ValueError, OSError):
        return "?"
    at = time.strftime("at %H:%M", then)
    if then[:3] == today[:3]:
        return at
    return time.strftime("on %a " if abs(seconds - time.time()) < 6 * 86400 else "on %Y-%m-%d ", then) + at


def timestamp(ns: int) -> str:
    """A time for scripts, by RFC 3339, in UTC: `2026-11-27T16:30:00.123456789Z`; "" for one that no calendar has."""
    seconds, rest = divmod(ns, 1_000_000_000)
    try:
        whole = time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(seconds))
    except (OverflowError, ValueError, OSError):
        return ""
    return f"{whole}.{rest:09d}Z" if rest else f"{whole}Z"


def width() -> int:
    """The columns of the terminal, within limits."""
    try:
        return max(40, min(os.get_terminal_size(1).columns or 80, 200))
    except OSError:
        return 100


def shorten(text: str, room: int) -> str:
    """Shorten a long name in the middle."""
    if len(text) <= room:
        return text
    head = max(1, room // 3)
    return text[:head] + "…" + text[len(text) - (room - head - 1) :]


def facts(rows: Iterable[tuple[str, str]], indent: int = 2) -> None:
    """Print labels and texts in two columns, without empty ones; long texts are wrapped."""
    for line in fact_lines(rows, indent):
        terminal.say(line)


def fact_lines(rows: Iterable[tuple[str, str]], indent: int = 2, *, wide: int | None = None) -> Iterator[str]:
    """The lines of `facts`, for the terminal or so many columns."""
    room = wide or width()
    shown = [(label, text) for label, text in rows if text]
    first = max((len(label) for label, _ in shown), default=0)
    for label, text in shown:
        lines = _wrap(text, room - indent - first - 2)
        for at, line in enumerate(lines):
            head = label if at == 0 else ""
            yield " " * indent + terminal.style(head.ljust(first), dim=True) + "  " + line


def urgent(words: str) -> None:
    """Print a warning in full, wrapped."""
    for line in _wrap(words, width() - 2):
        terminal.say("  " + tinted(line, Tone.WARNING, bold=True))


def _wrap(text: str, room: int) -> list[str]:
    lines, line = [], ""
    for word in _words(text):
        if line and len(terminal.plain(line)) + 1 + len(terminal.plain(word)) > room:
            lines.append(line)
            line = word
        else:
            line = f"{line} {word}" if line else word
    return [*lines, line]


def _words(text: str) -> Iterator[str]:
    """The words of a text. A command in it, up to the end or a double space, is one, so that it can be pasted."""
    before, command, rest = text.partition("yatagan ")
    yield from before.rstrip(" ").split(" ") if before else ()
    if command:
        pasted, gap, after = rest.partition("  ")
        yield command + pasted
        yield from (gap + after).split(" ")[1:]


def table(
    head: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = (), *, squeeze: bool = False
) -> None:
    """Print aligned columns; `right` names the columns that are aligned to the right. The last is never padded.

    `squeeze`: on a terminal the last column is shortened so that a row is a line.
    """
    for line in table_lines(head, rows, right, squeeze=squeeze):
        terminal.say(line)


def table_lines(
    head: Sequence[str], rows: Sequence[Sequence[str]], right: Sequence[int] = (), *, squeeze: bool = False
) -> Iterator[str]:
    """The lines of `table`."""
    widths = [max(len(terminal.plain(row[at])) for row in [head, *rows]) for at in range(len(head))]
    if squeeze and sys.stdout.isatty():
        room = max(16, width() - sum(widths[:-1]) - 2 * len(widths[:-1]))
        rows = [[*row[:-1], shorten(row[-1], room)] for row in rows]
    for line, row in enumerate([head, *rows]):
        cells = [
            _padding(cell, widths[at]) + cell
            if at in right
            else cell + (_padding(cell, widths[at]) if at < len(head) - 1 else "")
            for at, cell in enumerate(row)
        ]
        text = "  ".join(cells).rstrip()
        yield terminal.style(text, dim=True) if line == 0 else text


def paged(lines: Iterable[str]) -> None:
    """Print lines; on a terminal that they do not fit on, through the pager that the environment names."""
    shown = list(lines)
    if sys.stdout.isatty() and sys.stdin.isatty() and len(shown) >= shutil.get_terminal_size().lines:
        terminal.page(shown)
    else:
        for line in shown:
            terminal.say(line)


def _padding(cell: str, wide: int) -> str:
    """Spaces that make a cell, which may be coloured, so wide."""
    return " " * (wide - len(terminal.plain(cell)))


def warn(text: str) -> None:
    """Print a warning to standard error."""
    terminal.say(tinted("! ", Tone.WARNING) + text, err=True)
