"""Reading tar, in any dialect: header blocks back to members, and their contents.

Read are pax, ustar, the format of seventh edition Unix, and GNU's (long names, numbers in base 256, sparse files), and
sparse files as pax 0.0, 0.1 and 1.0 have them. Whatever makes no sense is `Damaged`, with where.
"""

from typing import Callable, Dict, Iterator, List, Optional, Tuple

from yatagan.portable.tar import (
    BLOCK,
    DEVICE,
    DIRECTORY,
    FIFO,
    FILE,
    HARD_LINK,
    LINK,
    Damaged,
    Member,
    NoHeader,
    Regions,
    is_header,
    padding,
)

_ZEROS = bytes(BLOCK)
#: What extended headers may hold; a larger one is not a header but an attack on memory.
_LARGEST_HEADER = 1 << 20
#: Data regions of one sparse file.
_MOST_REGIONS = 1 << 16
#: Contents are handed out in pieces of this size.
_PIECE = 1 << 20
#: Bytes behind the end mark that are looked through for more members: what is written at once has fewer zeros.
_LOOKED_BEHIND = 256 << 10
Records = Dict[bytes, bytes]


class TarReader:
    """Reads a tar stream from front to back.

    `read(size)` gives at most so many bytes and none at the end; `skip(size)`, where there is one, passes over bytes
    more cheaply, and raises EOFError when there are not as many.
    """

    def __init__(self, read: Callable[[int], bytes], skip: Optional[Callable[[int], None]] = None) -> None:
        self._read = read
        self._skip = skip
        self._at = 0
        self._left = 0  # of the present member's contents, its padding included
        self._global: Records = {}
        self._sparse: Optional[Regions] = None
        self._member: Optional[Member] = None

    @property
    def at(self) -> int:
        """The offset in the tar stream."""
        return self._at

    def members(self) -> Iterator[Member]:
        """The members, in order. Contents that are not read are skipped. Raises Damaged."""
        while True:
            self._pass_over()
            member = self._next()
            if member is None:
                return
            self._member = member
            yield member

    def contents(self) -> Iterator[Tuple[int, bytes]]:
        """The contents of the present member, as (offset in the file, bytes), with holes between. Raises Damaged."""
        member = self._member
        assert member is not None
        for offset, size in member.regions if member.regions is not None else ((0, member.stored),):
            while size:
                piece = self._exactly(min(size, _PIECE), "a member's contents should go on")
                self._left -= len(piece)
                yield offset, piece
                offset, size = offset + len(piece), size - len(piece)

    def resume(self) -> bool:
        """After Damaged: go on at the next block that is a header. Returns False if none comes."""
        self._left = 0
        self._member = None
        if self._pending:
            return True
        missing = padding(self._at)
        while True:
            try:
                block = self._exactly(missing or BLOCK, "")
            except Damaged:
                if self._skip is None:
                    return False
                try:
                    self._skip(padding(self._at) or BLOCK)
                except EOFError:
                    return False
                self._at += padding(self._at) or BLOCK
                continue
            missing = 0
            if len(block) == BLOCK and block != _ZEROS and is_header(block):
                self._pending = block
                return True

    # -- what they are made of ------------------------------------------------------------------------------

    _pending = b""

    def _some(self, size: int) -> bytes:
        """`size` bytes, or what is left."""
        pieces, missing = [], size
        while missing:
            piece = self._read(missing)
            if not piece:
                break
            pieces.append(piece)
            missing -= len(piece)
        self._at += size - missing
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def _exactly(self, size: int, what: str) -> bytes:
        data = self._some(size)
        if len(data) < size:
            raise Damaged(self._at, "the archive ends where %s" % (what or "more should come"))
        return data

    def _pass_over(self) -> None:
        left, self._left, self._member = self._left, 0, None
        if left and self._skip is not None:
            try:
                self._skip(left)
            except EOFError:
                raise Damaged(self._at, "the archive ends where a member's contents should be") from None
            self._at += left
            return
        while left:
            left -= len(self._exactly(min(left, _PIECE), "a member's contents should be"))

    def _next_block(self) -> Optional[bytes]:
        """The next header block; None at the end."""
        if self._pending:
            block, self._pending = self._pending, b""
            return block
        block = self._some(BLOCK)
        if not block and self._at:
            raise Damaged(self._at, "the archive ends without its end mark")
        if block == _ZEROS[: len(block)] and block:
            self._look_behind()
            return None
        if len(block) < BLOCK:
            raise NoHeader(self._at - len(block), "the archive ends where a header should be")
        if not is_header(block):
            raise NoHeader(self._at - BLOCK, "there is no header where one should be")
        return block

    def _look_behind(self) -> None:
        """Raise Damaged where more members follow the end mark: archives that were joined look like one."""
        for _ in range(_LOOKED_BEHIND // BLOCK):
            block = self._some(BLOCK)
            if len(block) < BLOCK:
                return
            if block != _ZEROS:
                if is_header(block):
                    self._pending = block
                    raise Damaged(self._at - BLOCK, "more follows its end mark, as where archives were joined")
                return

    def _next(self) -> Optional[Member]:
        records: Records = dict(self._global)
        long_name: Optional[bytes] = None
        long_target: Optional[bytes] = None
        while True:
            block = self._next_block()
            if block is None:
                return None
            kind = block[156:157]
            if kind in (b"x", b"X"):
                records.update(self._records(block))
            elif kind == b"g":
                self._global.update(self._records(block))
                records.update(self._global)
            elif kind == b"L":
                long_name = self._body(block).rstrip(b"\0")
            elif kind == b"K":
                long_target = self._body(block).rstrip(b"\0")
            elif kind == b"V":
                continue  # a volume's label
            elif kind == b"M":
                raise Damaged(self._at - BLOCK, "the archive goes on from another volume, which is not here")
            else:
                return self._take(block, records, long_name, long_target)

    def _body(self, block: bytes) -> bytes:
        size = self._number(block, 124, 136)
        if not 0 <= size <= _LARGEST_HEADER:
            raise Damaged(self._at - BLOCK, "an extended header says that it has %d bytes" % size)
        return self._exactly(size + padding(size), "an extended header should go on")[:size]

    def _records(self, block: bytes) -> Records:
        """The records of a pax header; numbers of sparse regions, which repeat, are joined by commas."""
        body, records, at = self._body(block), {}, 0  # type: Tuple[bytes, Records, int]
        while at < len(body) and body[at : at + 1] != b"\0":
            space = body.find(b" ", at, at + 20)
            try:
                length = int(body[at:space]) if space > 0 and body[at:space].isdigit() else 0
            except ValueError:
                length = 0
            record = body[space + 1 : at + length]
            key, equals, value = record.partition(b"=")
            if length <= space - at + 1 or not equals or not value.endswith(b"\n") or at + length > len(body):
                raise Damaged(self._at - len(body), "an extended header's records cannot be read")
            value = value[:-1]
            if key in (b"GNU.sparse.offset", b"GNU.sparse.numbytes"):
                key = b"GNU.sparse.map"
                value = records[key] + b"," + value if key in records else value
            records[key] = value
            at += length
        return records

    def _number(self, block: bytes, start: int, end: int) -> int:
        field = block[start:end]
        if field[0] & 0x80:  # base 256, two's complement but for the topmost bit
            value = int.from_bytes(field, "big", signed=True) if field[0] == 0xFF else 0
            return value if field[0] == 0xFF else int.from_bytes(bytes([field[0] & 0x7F]) + field[1:], "big")
        digits = field.partition(b"\0")[0].strip(b" \0")
        try:
            return int(digits, 8) if digits else 0
        except ValueError:
            raise Damaged(self._at - BLOCK, "a number in a header cannot be read") from None

    def _decimal_in(self, records: Records, key: bytes) -> Optional[int]:
        value = records.get(key)
        if not value:
            return None
        if not value.isdigit() or len(value) > 20:
            raise Damaged(self._at - BLOCK, "a number in an extended header cannot be read")
        return int(value)

    def _take(self, block: bytes, records: Records, long_name: Optional[bytes], long_target: Optional[bytes]) -> Member:
        letter = block[156:157]
        name = long_name if long_name is not None else _name(block)
        name = records.get(b"GNU.sparse.name") or records.get(b"path") or name
        target = records.get(b"linkpath") or (long_target if long_target is not None else _field(block, 157, 257))
        kind = _KINDS.get(letter, FILE)
        if kind == FILE and letter in (b"\0", b"0") and name.endswith(b"/"):
            kind = DIRECTORY  # as seventh edition Unix wrote them
        stored = self._decimal_in(records, b"size")
        if stored is None:
            stored = self._number(block, 124, 136)
        if stored < 0:
            raise Damaged(self._at - BLOCK, "a member says that it has %d bytes" % stored)
        if kind != FILE and letter != b"D":  # others may state a size, but no contents follow
            stored = 0
        self._left = stored + padding(stored)
        size, regions, mapped = stored if kind == FILE else 0, None, 0  # type: int, Optional[Regions], int
        if kind == FILE:
            size, regions, mapped = self._sparse_of(block, records, stored)
        mtime = records.get(b"mtime")
        return Member(
            name=name.rstrip(b"/") or name[:1],
            kind=kind,
            size=size,
            mode=self._number(block, 100, 108) & 0o7777,
            mtime_ns=self._time(mtime) if mtime else self._number(block, 136, 148) * 1_000_000_000,
            target=target if kind in (LINK, HARD_LINK) else b"",
            uid=self._decimal_in(records, b"uid") or self._number(block, 108, 116),
            gid=self._decimal_in(records, b"gid") or self._number(block, 116, 124),
            owner=records.get(b"uname") or _field(block, 265, 297),
            group=records.get(b"gname") or _field(block, 297, 329),
            regions=regions,
            stored=stored - mapped if kind == FILE else 0,
            offset=self._at if kind == FILE else None,
        )

    def _time(self, value: bytes) -> int:
        """Decimal seconds as nanoseconds."""
        sign, digits = (-1, value[1:]) if value.startswith(b"-") else (1, value)
        whole, _, fraction = digits.partition(b".")
        if not (whole + fraction).isdigit() or len(whole) > 18:
            raise Damaged(self._at - BLOCK, "a time in an extended header cannot be read")
        return sign * (int(whole or b"0") * 1_000_000_000 + int(fraction[:9].ljust(9, b"0")))

    # -- sparse files ---------------------------------------------------------------------------------------

    def _sparse_of(self, block: bytes, records: Records, stored: int) -> Tuple[int, Optional[Regions], int]:
        """A file's real size, its regions of data if it is sparse, and how much of what is stored is their map."""
        numbers: List[int]
        mapped = 0
        if block[156:157] == b"S":
            size = self._number(block, 483, 495)
            numbers = self._old_map(block)
        elif records.get(b"GNU.sparse.major") == b"1":
            size = self._decimal_in(records, b"GNU.sparse.realsize") or 0
            numbers, mapped = self._map_in_front(stored)
        elif b"GNU.sparse.map" in records:
            size = self._decimal_in(records, b"GNU.sparse.size") or 0
            text = records[b"GNU.sparse.map"]
            if not text.replace(b",", b"").isdigit() and text:
                raise Damaged(self._at, "the map of a sparse file cannot be read")
            numbers = [int(number) for number in text.split(b",") if 0 < len(number) <= 20]
        else:
            return stored, None, 0
        if len(numbers) % 2 or len(numbers) > 2 * _MOST_REGIONS:
            raise Damaged(self._at, "the map of a sparse file cannot be read")
        regions = tuple(zip(numbers[::2], numbers[1::2]))
        end = 0
        for offset, length in regions:
            if offset < end or length < 0:
                raise Damaged(self._at, "the map of a sparse file cannot be true")
            end = offset + length
        if end > size or sum(numbers[1::2]) != stored - mapped:
            raise Damaged(self._at, "the map of a sparse file cannot be true")
        return size, tuple(region for region in regions if region[1]), mapped

    def _old_map(self, block: bytes) -> List[int]:
        numbers: List[int] = []
        fields, more = block[386:482], block[482]
        while True:
            for at in range(0, len(fields) - 23, 24):
                if fields[at] == 0:
                    break
                numbers += [self._number(fields, at, at + 12), self._number(fields, at + 12, at + 24)]
            if not more:
                return numbers
            if len(numbers) > 2 * _MOST_REGIONS:
                raise Damaged(self._at, "the map of a sparse file cannot be read")
            extension = self._exactly(BLOCK, "the map of a sparse file should go on")
            fields, more = extension[:504], extension[504]

    def _map_in_front(self, stored: int) -> Tuple[List[int], int]:
        """The map that precedes the data, as lines of decimal numbers in whole blocks."""
        text, wanted = b"", 1
        while True:
            lines = text.split(b"\n")
            if len(lines) > 1:
                if not lines[0].isdigit() or len(lines[0]) > 9 or int(lines[0]) > _MOST_REGIONS:
                    raise Damaged(self._at, "the map of a sparse file cannot be read")
                wanted = 1 + 2 * int(lines[0])
                if len(lines) > wanted:
                    break
            if len(text) + BLOCK > stored:
                raise Damaged(self._at, "the map of a sparse file cannot be read")
            text += self._exactly(BLOCK, "the map of a sparse file should be")
            self._left -= BLOCK
        numbers = lines[1:wanted]
        if not all(number.isdigit() and len(number) <= 20 for number in numbers):
            raise Damaged(self._at, "the map of a sparse file cannot be read")
        return [int(number) for number in numbers], len(text)


_KINDS = {
    b"1": HARD_LINK,
    b"2": LINK,
    b"3": DEVICE,
    b"4": DEVICE,
    b"5": DIRECTORY,
    b"6": FIFO,
    b"D": DIRECTORY,
}


def _field(block: bytes, start: int, end: int) -> bytes:
    return block[start:end].partition(b"\0")[0]


def _name(block: bytes) -> bytes:
    """A name from the header alone. Only ustar has a prefix; GNU keeps other things in its place."""
    name = _field(block, 0, 100)
    if block[257:263] == b"ustar\0":
        prefix = _field(block, 345, 476 if block[508:512] == b"tar\0" else 500)
        return prefix + b"/" + name if prefix else name
    return name
