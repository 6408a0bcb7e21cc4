"""Names, sizes, counts and durations as text: harmless to a terminal or a page, and the same everywhere."""

from __future__ import annotations

_UNITS = ("B", "kB", "MB", "GB", "TB", "PB", "EB")


def show(name: bytes | str) -> str:
    """A name that may come from anywhere, as one harmless line of text.

    Control characters, line and direction marks, odd spaces and bytes that are not UTF-8 appear as escapes; a
    backslash is doubled when there are any, so that nothing can pass for what it is not.
    """
    text = name.decode("utf-8", "surrogateescape") if isinstance(name, bytes) else name
    if not any(is_unsafe(char) for char in text):
        return text
    return "".join(escape(char) for char in text)


def is_unsafe(char: str) -> bool:
    """Whether a character is shown as an escape."""
    return not char.isprintable()


def escape(char: str) -> str:
    """A character that is shown as an escape, as that; a backslash twice, any other as it is."""
    if char == "\\":
        return "\\\\"
    if not is_unsafe(char):
        return char
    code = ord(char)
    if 0xDC80 <= code <= 0xDCFF:
        return f"\\x{code - 0xDC00:02x}"
    named = {"\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(char)
    return named or (f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}" if code < 65536 else f"\\U{code:08x}")


def percent(part: int, whole: int) -> str:
    """A share of something that is not empty, rounded down: 100 only when all of it is there."""
    return f"{part * 100 // whole} %"


def size(count: int) -> str:
    """Bytes in decimal units, three digits: `812 B`, `58.3 MB`."""
    unit = _unit(count)
    if unit == 0:
        return f"{count} B"
    value = count / 1000**unit
    return f"{value:.{_digits(value)}f} {_UNITS[unit]}"


def _unit(count: int) -> int:
    """Which unit a number of bytes is shown in."""
    value, unit = float(count), 0
    while value >= 999.5 and unit < len(_UNITS) - 1:
        value, unit = value / 1000, unit + 1
    return unit


def _digits(value: float) -> int:
    """Digits behind the point of a number that is shown with three in all."""
    return 2 if value < 9.995 else 1 if value < 99.95 else 0


def size_of(part: int, whole: int) -> str:
    """A part of so many bytes, in the unit of the whole and always as wide: ` 5.1 of 58.3 MB`."""
    unit = _unit(whole)
    amount = f"{part / 1000**unit:.{_digits(whole / 1000**unit) if unit else 0}f}"
    shown = size(whole)
    return f"{amount:>{len(shown) - len(_UNITS[unit]) - 1}} of {shown}"


def number(count: int) -> str:
    """With separators: `1,496`."""
    return f"{count:,}"


def count(many: int, one: str, more: str = "") -> str:
    """`1 file`, `1,496 files`."""
    return f"{number(many)} {one if many == 1 else more or one + 's'}"


def duration(seconds: float) -> str:
    """`0.4 s`, `42 s`, `3 min 10 s`, `2 h 05 min`."""
    if seconds < 9.95:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02d} s"
    return f"{whole // 3600} h {whole % 3600 // 60:02d} min"
