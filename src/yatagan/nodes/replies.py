"""What the helper on a node answers: a class for each answer, and one reader that checks every field of it.

A node may answer anything. A row arrives as a list.
"""

from __future__ import annotations

import functools
import reprlib
from base64 import b64decode
from collections.abc import Callable, Mapping, Sequence
from types import UnionType
from typing import Annotated, Any, NamedTuple, TypeVar, get_args, get_origin, get_type_hints

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.json_codec import of_kind


def _name(value: object) -> bytes:
    return of_kind(str, value).encode("latin-1")


def _bytes(value: object) -> bytes:
    return b64decode(of_kind(str, value), validate=True)


#: A name arrives as text of one character a byte (Latin-1), other bytes in base64.
Name = Annotated[bytes, _name]
Bytes = Annotated[bytes, _bytes]
#: Numbers as systems have them: errors and processes, modes, sizes, times in nanoseconds, inodes.
Small = Annotated[int, range(-(1 << 31), 1 << 32)]
Mode = Annotated[int, range(1 << 32)]
Size = Annotated[int, range(1 << 63)]
Time = Annotated[int, range(-(1 << 63), 1 << 63)]
Inode = Annotated[int, range(1 << 64)]
#: Whatever the header of an archive's member can say, in nanoseconds.
HeaderTime = Annotated[int, range(-(1 << 128), 1 << 128)]

#: What a helper answers, as JSON carries it: values by name, each of them still anything.
Reply = dict[str, object]
R = TypeVar("R", bound=NamedTuple)


class FactsRow(NamedTuple):
    """Facts of a name, as `lstat` gives them."""

    mode: Mode
    size: Size
    mtime_ns: Time
    changed_ns: Time
    inode: Inode


class Process(NamedTuple):
    """A process, by its number and the time of its start."""

    number: Small
    start: Time


class GreetingReply(NamedTuple):
    """Who the node is. `session`: the processes of this login; `login`: the one that started the helper."""

    host: str
    boot: str
    python: str
    algorithms: tuple[str, ...]
    session: tuple[Process, ...]
    login: Small


class LoginsReply(NamedTuple):
    """The processes of some logins."""

    session: tuple[Process, ...]


class AliveReply(NamedTuple):
    """Which processes still live. `sure`: whether the node can know."""

    alive: tuple[Process, ...]
    sure: bool


class ClockReply(NamedTuple):
    """The time of the node's clock."""

    clock_ns: Time


class LookReply(NamedTuple):
    """Facts of one name."""

    facts: FactsRow


class LookInReply(NamedTuple):
    """Facts of names in a directory; empty for what is not there."""

    facts: tuple[tuple[()] | FactsRow, ...]


class SetReply(NamedTuple):
    """The error number with which facts stayed unset; 0 for none."""

    unset: Small


class DigestRow(NamedTuple):
    """What became of hashing a file: an outcome of `small_files`, the digest, and the facts of what was read."""

    outcome: Small
    digest: str
    facts: tuple[()] | FactsRow


class DigestStartReply(NamedTuple):
    """The digest of the first bytes of a file."""

    made: DigestRow


class DigestsReply(NamedTuple):
    """Digests of files."""

    files: tuple[DigestRow, ...]


class BlockSumsReply(NamedTuple):
    """Checksums of a file's blocks, each all in one, and its facts before and after."""

    rolling: Bytes
    other: Bytes
    before: FactsRow
    facts: FactsRow


class MatchesReply(NamedTuple):
    """Which matches were what they should be."""

    good: tuple[bool, ...]


class SmallFileRow(NamedTuple):
    """What became of reading a small file: an outcome of `small_files`, its bytes, and its facts."""

    outcome: Small
    contents: Bytes
    facts: tuple[()] | FactsRow


class SmallFilesReply(NamedTuple):
    """Small files."""

    files: tuple[SmallFileRow, ...]


class PlacedRow(NamedTuple):
    """An outcome, or an error number; and the error number with which facts stayed unset. 0 for none."""

    outcome: Small
    unset: Small


class PlacingReply(NamedTuple):
    """What became of files that were to get their names."""

    outcomes: tuple[PlacedRow, ...]


class TextReply(NamedTuple):
    """The start of a small file."""

    text: str


class DiskReply(NamedTuple):
    """The name of a disk; empty where it is not known."""

    disk: str


class AccessListsReply(NamedTuple):
    """Paths that have an access list of their own."""

    paths: tuple[str, ...]


class NotKeptReply(NamedTuple):
    """How many have further names, access lists, extended attributes."""

    counts: tuple[Size, Size, Size]


class BundleReply(NamedTuple):
    """Members, files, their size, that of the bundle, and its SHA-256."""

    totals: tuple[Size, Size, Size, Size, str]


class ChangedReply(NamedTuple):
    """What changed while a bundle of it was made."""

    changed: Name


class TooMuchReply(NamedTuple):
    """An archive holds more than may be unpacked: how many bytes may."""

    too_much: Size


class UnpackReply(NamedTuple):
    """What became of the members of an archive. `reported`: name, outcome, why; `damage`: where, and why."""

    counts: Mapping[str, Size]
    files: Size
    size: Size
    proven: Size
    bits: Size
    strays: bool
    reported: tuple[tuple[Name, str, str], ...]
    damage: tuple[tuple[Size, str], ...]


class ContentsReply(NamedTuple):
    """Digests of members, by name; empty at the end."""

    found: tuple[tuple[Name, str], ...]


class MemberRow(NamedTuple):
    """A member of an archive."""

    name: Name
    kind: str
    size: Size
    mode: Mode
    mtime_ns: HeaderTime
    target: Name


class MembersReply(NamedTuple):
    """Members of an archive; empty at the end. `damaged`: why it could not be read to its end."""

    found: tuple[MemberRow, ...]
    damaged: str = ""


#: Makes a value of what JSON has for it. Raises ValueError.
Check = Callable[[object], Any]


def read_reply(kind: type[R], reply: object, store: str = "") -> R:
    """What a node's helper answers as what it should be; the rest of it is left. Raises StoreError, NONSENSE."""
    made: Callable[..., R] = kind
    try:
        given = _object(reply)
        values = {name: _field(name, check, given[name]) for name, check in _checks(kind).items() if name in given}
        if missing := [name for name in kind._fields if name not in values and name not in kind._field_defaults]:
            raise ValueError(f"no {missing[0]}")
        return made(**values)
    except ValueError as error:
        raise StoreError(Fault.NONSENSE, store=store, detail=f"the helper's: {error}") from error


def _field(name: str, check: Check, value: object) -> Any:
    try:
        return check(value)
    except ValueError as error:
        raise ValueError(f"{name}: {error}") from None


@functools.cache
def _checks(kind: type[NamedTuple]) -> dict[str, Check]:
    hints = get_type_hints(kind, include_extras=True)
    return {name: _check_of(hints[name]) for name in kind._fields}


def _check_of(kind: Any) -> Check:
    of, args = get_origin(kind), get_args(kind)
    if of is Annotated:
        made: Check = functools.partial(_number, args[1]) if isinstance(args[1], range) else args[1]
        return made
    if of is UnionType:
        return functools.partial(_either, *map(_check_of, args))
    if of is Mapping:
        return functools.partial(_mapping, _check_of(args[1]))
    if of is tuple and args[-1:] == (...,):
        return functools.partial(_list, _check_of(args[0]))
    if of is tuple:
        return functools.partial(_row, tuple, tuple(map(_check_of, args)))
    if hasattr(kind, "_make"):
        return functools.partial(_row, kind._make, tuple(_checks(kind).values()))
    return functools.partial(of_kind, kind)


def _number(within: range, value: object) -> int:
    if type(value) is not int or value not in within:
        raise ValueError(f"{reprlib.repr(value)} is no such number")
    return value


def _row(make: Callable[[Any], Any], checks: Sequence[Check], value: object) -> Any:
    row = _items(value)
    if len(row) != len(checks):
        raise ValueError(f"{len(row)} values, not {len(checks)}")
    return make([check(each) for check, each in zip(checks, row, strict=True)])


def _list(check: Check, value: object) -> tuple[Any, ...]:
    return tuple([check(each) for each in _items(value)])


def _items(value: object) -> Sequence[object]:
    """Of a list; it is a tuple where it came over a keeper."""
    return value if isinstance(value, tuple) else of_kind(list, value)


def _object(value: object) -> dict[str, object]:
    return of_kind(dict, value)


def _mapping(check: Check, value: object) -> dict[str, Any]:
    return {name: check(each) for name, each in _object(value).items()}


def _either(first: Check, second: Check, value: object) -> Any:
    try:
        return first(value)
    except ValueError:
        return second(value)
