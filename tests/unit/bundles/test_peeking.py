"""The beginning or the end of a file or a member."""

from __future__ import annotations

import asyncio

from hypothesis import given
from hypothesis import strategies as st

from yatagan.bundles.peeking import MOST, Peeked, PeekWish, _peek_start, peek_end
from yatagan.cli.commands.peek import hex_lines, is_text
from yatagan.stores.in_flight import InFlight
from yatagan.stores.interface import Facts, Kind


class Counted:
    """An open file that counts what is read of it; before `data` it has zeros up to its size."""

    read_here = None

    def __init__(self, data: bytes, size: int | None = None) -> None:
        self._data, self.size = data, size or len(data)
        self.flow = InFlight(1)
        self.fetched = 0

    async def facts(self) -> Facts:
        return Facts(Kind.FILE, self.size, 0, 0o644)

    async def read(self, offset: int, size: int) -> bytes:
        begins = self.size - len(self._data)
        zeros = bytes(max(0, min(offset + size, begins) - offset))
        found = zeros + self._data[max(0, offset - begins) : max(0, offset + size - begins)]
        self.fetched += len(found)
        return found

    async def close(self) -> None:
        """Nothing is held."""


def looked(file: Counted, wish: PeekWish) -> Peeked:
    return asyncio.run((peek_end if wish.end else _peek_start)(file, file.size, wish))


@given(st.lists(st.binary(max_size=6)).map(b"\n".join), st.integers(1, 8), st.booleans(), st.booleans())
def test_it_is_what_one_would_cut_out(data: bytes, count: int, by_bytes: bool, end: bool) -> None:
    found = looked(Counted(data), PeekWish(count, by_bytes, end))
    lines = data.splitlines(keepends=True) if b"\r" not in data else [part + b"\n" for part in data.split(b"\n")]
    if by_bytes:
        assert found.data == (data[-count:] if end else data[:count])
    elif not set(data) & set(b"\r\x0b\x0c\x1c\x1d\x1e\x85"):
        assert found.data == b"".join(lines[-count:] if end else lines[:count])
    assert found.whole == (found.data == data) and not found.cut
    assert data[found.begins or 0 :].startswith(found.data)


def test_the_end_of_a_huge_log_costs_little() -> None:
    log = Counted(b"\n".join(b"line %d" % number for number in range(10_000)) + b"\n", 20 << 30)
    found = looked(log, PeekWish(20, end=True))
    assert found.data.splitlines() == [b"line %d" % number for number in range(9_980, 10_000)]
    assert log.fetched <= 128 << 10
    endless = Counted(b"", 20 << 30)
    assert looked(endless, PeekWish(20, end=True)).cut and endless.fetched <= MOST


@given(st.text(max_size=30), st.integers(0, 3), st.integers(0, 3))
def test_text_is_known_by_its_bytes(text: str, front: int, back: int) -> None:
    """Also where a character is cut at either end."""
    data = text.encode("utf-8", "surrogatepass") if not any(0xD800 <= ord(char) < 0xE000 for char in text) else b"a"
    plain = not any(byte < 32 and byte not in b"\t\n\r\f\x1b\x08" for byte in data)
    assert is_text(data) == plain
    whole = "föhn über dem Moor".encode()
    assert is_text(whole[front : len(whole) - back])
    assert not is_text(b"\x00") and not is_text(b"a\xff\xffb" * 3)


def test_the_hex_view() -> None:
    assert hex_lines(b"fen\x00\xff" + bytes(range(65, 78)), 256) == [
        "00000100  66 65 6e 00 ff 41 42 43 44 45 46 47 48 49 4a 4b  fen··ABCDEFGHIJK",
        "00000110  4c 4d                                            LM",
    ]
