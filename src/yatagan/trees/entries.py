"""The facts of many entries, kept small: a tree may have millions, and a plan holds two."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, MutableMapping
from struct import Struct
from struct import error as StructError

from yatagan.stores.interface import Facts, Kind

#: Kind, permission bits, size, modification time; then, where the store has them, change time and inode.
_PLAIN, _CLOSE = Struct("<BHqq"), Struct("<BHqqqQ")
_SIZE = Struct("<3xq")
_KINDS = tuple(Kind)
_NUMBERS = {kind: number for number, kind in enumerate(_KINDS)}


class Entries(MutableMapping[bytes, Facts]):
    """A dictionary from path to facts that needs a quarter of the memory.

    `plain`: change times and inodes are left out. `like`: other entries that are probably much the same, with which
    equal facts are shared.
    """

    __slots__ = ("_like", "_packed", "_plain")

    def __init__(
        self, entries: Mapping[bytes, Facts] | None = None, *, plain: bool = False, like: Entries | None = None
    ) -> None:
        self._packed: dict[bytes, bytes | Facts] = {}
        self._plain = plain
        self._like = like._packed if like is not None else {}
        self.update(entries or {})

    def __getitem__(self, path: bytes) -> Facts:
        return _unpack(self._packed[path])

    def get(self, path: bytes, default: Facts | None = None) -> Facts | None:  # type: ignore[override]
        """The facts of a path, or the default. Fast for paths that are not there."""
        packed = self._packed.get(path)
        return default if packed is None else _unpack(packed)

    def __setitem__(self, path: bytes, facts: Facts) -> None:
        packed = _pack(facts, plain=self._plain)
        other = self._like.get(path)
        self._packed[path] = other if other == packed and other is not None else packed

    def __delitem__(self, path: bytes) -> None:
        del self._packed[path]

    def __contains__(self, path: object) -> bool:
        return path in self._packed

    def __iter__(self) -> Iterator[bytes]:
        return iter(self._packed)

    def __len__(self) -> int:
        return len(self._packed)

    def of_kind(self, kind: Kind) -> Iterator[bytes]:
        """The paths of one kind."""
        number = _NUMBERS[kind]
        for path, packed in self._packed.items():
            if (packed[0] == number) if isinstance(packed, bytes) else (packed.kind is kind):
                yield path

    def file_sizes(self, paths: Iterable[bytes]) -> Iterator[int]:
        """The sizes of those paths that are files."""
        number = _NUMBERS[Kind.FILE]
        for path in paths:
            packed = self._packed[path]
            if not isinstance(packed, bytes):
                if packed.kind is Kind.FILE:
                    yield packed.size
            elif packed[0] == number:
                yield _SIZE.unpack_from(packed)[0]

    def in_order(self) -> list[bytes]:
        """All paths, parents before children, those of one directory together."""
        below: dict[bytes, list[bytes]] = {}
        for path in self._packed:
            if path:
                above = path.rpartition(b"/")[0]
                if above and above not in self._packed:
                    return sorted(self._packed, key=lambda path: path.replace(b"/", b"\0"))  # NUL is in no name
                below.setdefault(above, []).append(path)
        # Directory by directory: a key for each of a million paths would be memory for a million more.
        found = [b""] if b"" in self._packed else []
        left = [iter(sorted(below.pop(b"", ())))]
        while left:
            if (each := next(left[-1], None)) is None:
                left.pop()
                continue
            found.append(each)
            if each in below:
                left.append(iter(sorted(below.pop(each))))
        return found


def _pack(facts: Facts, *, plain: bool) -> bytes | Facts:
    """Facts packed into bytes; as they are if a machine reports numbers that do not fit."""
    number = _NUMBERS[facts.kind]
    try:
        if plain or facts.changed_ns is None or facts.inode is None:
            return _PLAIN.pack(number, facts.mode, facts.size, facts.mtime_ns)
        return _CLOSE.pack(number, facts.mode, facts.size, facts.mtime_ns, facts.changed_ns, facts.inode)
    except StructError:
        return facts


def _unpack(packed: bytes | Facts) -> Facts:
    if isinstance(packed, Facts):
        return packed
    if len(packed) == _PLAIN.size:
        number, mode, size, mtime_ns = _PLAIN.unpack(packed)
        return Facts(_KINDS[number], size, mtime_ns, mode)
    number, mode, size, mtime_ns, changed_ns, inode = _CLOSE.unpack(packed)
    return Facts(_KINDS[number], size, mtime_ns, mode, changed_ns, inode)
