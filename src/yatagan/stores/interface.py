"""What a store is: the one narrow interface to files anywhere.

Paths are absolute bytes. Every operation raises `StoreError` and nothing else. Users ask a store what it can do
(`Traits`, `machine`), never which kind it is.
"""

from __future__ import annotations

from collections.abc import AsyncGenerator, Awaitable, Callable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any, Protocol, overload

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.portable.block_sums import Blocks, Match
from yatagan.portable.small_files import BundledFile
from yatagan.stores.in_flight import InFlight

#: Requests never reach over a multiple of this many bytes, and what lies between two of them goes one way: disks that
#: are shared by many machines lock a file piece by piece.
STRIPE = 2 << 20

_SECOND = 1_000_000_000

#: What a handler on a node takes and returns, as JSON: values by name.
Values = dict[str, Any]
#: Bytes of a file, perhaps a view of more of them.
Piece = bytes | memoryview


class Kind(StrEnum):
    """What a name in a directory stands for."""

    FILE = "file"
    DIRECTORY = "directory"
    LINK = "link"
    FIFO = "fifo"
    SOCKET = "socket"
    DEVICE = "device"
    UNKNOWN = "unknown"

    @property
    def carried(self) -> bool:
        """Whether this kind can be staged. The others are never even opened."""
        return self in (Kind.FILE, Kind.DIRECTORY, Kind.LINK)


def same_time(one_ns: int, other_ns: int, step_ns: int) -> bool:
    """Whether two times, in nanoseconds, are equal at a step.

    In whole seconds only the lower 32 bits count: SFTP version 3 has no more.
    """
    if step_ns < _SECOND:
        return one_ns // step_ns == other_ns // step_ns
    one, other = (time // _SECOND & 0xFFFFFFFF for time in (one_ns, other_ns))
    return one // (step_ns // _SECOND) == other // (step_ns // _SECOND)


@dataclass(frozen=True, slots=True)
class Facts:
    """What a store knows of one name, links not followed.

    `size` in bytes; times in nanoseconds since the epoch, as exact as the store keeps them; `mode`: the twelve
    permission bits; `changed_ns` and `inode` only where the store has them.
    """

    kind: Kind
    size: int
    mtime_ns: int
    mode: int
    changed_ns: int | None = None
    inode: int | None = None

    def same_as(self, other: Facts) -> bool:
        """Whether nothing has changed, as far as both know. A file that is read must stay so."""
        if (self.kind, self.size) != (other.kind, other.size):
            return False
        exact = self.changed_ns is not None and other.changed_ns is not None
        if not same_time(self.mtime_ns, other.mtime_ns, 1 if exact else _SECOND):
            return False
        return not exact or (self.changed_ns == other.changed_ns and self.inode == other.inode)

    def grown_from(self, other: Facts) -> bool:
        """Whether this can be the file with `other`'s facts after more was appended: the same one, and no shorter."""
        same = None in (self.inode, other.inode) or self.inode == other.inode
        return Kind.FILE is self.kind is other.kind and same and self.size >= other.size

    def named_again(self, other: Facts) -> bool:
        """Whether this is `other` under a second or a new name, by size and time."""
        return self.same_as(replace(other, changed_ns=None, inode=None))

    def right_for(self, other: Facts, step_ns: int) -> bool:
        """Whether a file with these facts counts as one with `other`'s, by size and time at this step."""
        same = (self.kind, self.size) == (other.kind, other.size)
        return same and same_time(self.mtime_ns, other.mtime_ns, step_ns)


@dataclass(frozen=True, slots=True)
class Traits:
    """What a store can do. Sizes in bytes.

    `here`: its files are on this machine. `time_step_ns`: how finely it keeps times. `syncs`: it can sync a file
    to its disk. `read_size` and `write_size`: the largest single request. `walks`: it enters one directory after
    the other and never follows a link. `names_last`: a name that it has given a file outlasts a power cut at once.
    `shell_seconds`: how long its shell took to start a command; `shell_too_slow`: so long that it is done without.
    """

    here: bool
    time_step_ns: int
    syncs: bool
    read_size: int
    write_size: int
    walks: bool = False
    names_last: bool = False
    shell_seconds: float = 0.0
    shell_too_slow: bool = False


@dataclass(frozen=True, slots=True)
class SmallFile:
    """A small file, read whole and without a change meanwhile; or the fault that prevented it."""

    contents: bytes
    facts: Facts | None
    fault: Fault | None = None


@dataclass(frozen=True, slots=True)
class Placement:
    """How a part file becomes the file that it was carried for.

    `size` is what it must have. `top` is the directory below which no link may be on the way. `known` are the facts by
    which it was proven, None where it was not looked at. `mode` and `mtime_ns` are set on it, None leaves them. `seen`
    are the facts of the file that it replaces, which is kept as `kept` (in a directory that is there); None where the
    name must be free.
    """

    part: bytes
    path: bytes
    size: int
    top: bytes
    known: Facts | None = None
    mode: int | None = None
    mtime_ns: int | None = None
    seen: Facts | None = None
    kept: bytes = b""


@dataclass(frozen=True, slots=True)
class Extracted:
    """The outcome of a bundled file: in place, or `there` already with the same contents, or a fault.

    `unset`: why its mode or times could not be set, which is no failure.
    """

    there: bool = False
    fault: Fault | None = None
    unset: Fault | None = None


@dataclass(frozen=True, slots=True)
class NodeDigest:
    """A digest made by the file's own machine, and the facts that the file had then."""

    digest: str
    facts: Facts


@dataclass(frozen=True, slots=True)
class NodeBlocks:
    """The checksums of a file's blocks, made by its own machine, and the facts that the file had then."""

    blocks: Blocks
    facts: Facts


@dataclass(frozen=True, slots=True)
class Digested:
    """One of many digests: "" where the facts are those by which it is known already; or why there is none."""

    digest: str
    facts: Facts | None
    fault: Fault | None = None


class Reader(Protocol):
    """An open regular file."""

    @property
    def flow(self) -> InFlight:
        """Bytes in flight: take them before a request, release them when it is answered."""

    @property
    def read_here(self) -> Callable[[int, int], bytes] | None:
        """`read` for any thread, for a file of this machine; else None."""

    async def facts(self) -> Facts:
        """The facts of the open file, whatever its name stands for now."""

    async def read(self, offset: int, size: int) -> bytes:
        """At most `size` bytes; fewer only at the end of the file."""

    async def close(self) -> None:
        """Close the file."""


class Writer(Protocol):
    """An open part file."""

    @property
    def flow(self) -> InFlight:
        """Bytes in flight: take them before a request, release them when it is answered."""

    @property
    def write_here(self) -> Callable[[int, Piece], None] | None:
        """A `write` that any thread may call, for a file of this machine; else None."""

    def copy_here(self, source: Reader, offset: int, size: int) -> bool:
        """Copy bytes of another open file by the disk, in any thread. Returns False where it cannot."""

    async def write(self, offset: int, data: Piece) -> None:
        """Write. Returns when the store has acknowledged all of it."""

    async def keep_others_out(self) -> None:
        """Keep others, and this process, from opening a part file of this machine until `is_untouched` is asked."""

    async def is_untouched(self, size: int) -> bool:
        """Whether nothing else can have written to a part file since others were kept out; False where unknown."""

    async def sync(self) -> bool:
        """Sync everything acknowledged before the call. Returns False where there is no such request."""

    async def close(self) -> None:
        """Close the file. A failure is a failure of the step."""


class SourceMachine(Protocol):
    """What the machine that holds files can do with them itself, so that their bytes need not come here.

    Its commands may see another disk than the store does. Whether a file that was hashed is the one that the store
    shows is for the caller to check, by the facts. Raises StoreError.
    """

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        """Sync and hash a regular file. UNSUPPORTED for an algorithm that it lacks, OTHER_DISK for another file.

        `seen` are facts that the store gave of the file; they save a look.
        """

    async def digest_start(self, path: bytes, size: int, algorithm: str) -> NodeDigest:
        """Hash the first `size` bytes of a file, to which more may be appended meanwhile.

        SOURCE_CHANGED for a shorter one, UNSUPPORTED where that cannot be had.
        """

    async def digests(
        self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
    ) -> list[Digested]:
        """Hash many files. With each path go the facts by which its digest is known already, or None.

        `processes`: how many processors may work on such requests at once; 0 for what is usual.
        """

    async def block_sums(self, path: bytes, block: int) -> NodeBlocks:
        """The checksums of a file's blocks of `block` bytes. UNSUPPORTED where files are open to everybody anyway."""

    async def read_small(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        """Read small files, each of at most `most` bytes, in one go."""


class Machine(SourceMachine, Protocol):
    """What the machine of a destination can do besides."""

    async def extract(self, bundle: bytes, files: Sequence[BundledFile]) -> list[Extracted]:
        """Take files out of a bundle that has arrived: each is synced, read again, compared with its digest, and named.

        Nothing is ever replaced; doing it again does no harm.
        """

    async def finish(self, files: Sequence[BundledFile]) -> list[Extracted]:
        """Finish part files: each gets its facts, is synced, read again, compared with its digest, and named.

        Nothing is ever replaced; doing it again does no harm.
        """

    async def copy_matches(self, old: bytes, part: bytes, matches: Sequence[Match]) -> list[bool]:
        """Copy what an old file has of a new one into its part file, and sync it.

        Returns for each match whether its bytes were there, and have its digest if it has one. If not, that range of
        the part file has to be sent.
        """

    async def run(self, modules: tuple[str, ...], what: str, path: bytes, values: Values) -> Values:
        """Run a handler of our own modules (`portable/`) there."""

    async def same_disk(self, token: bytes) -> bool:
        """Whether commands see the same disk as the store, proved by a file of this name for a moment."""


class Readable(Protocol):
    """Files on one machine, for reading, through one session.

    A lost connection ends the session; a `Source` opens another one.
    """

    name: str
    traits: Traits

    @property
    def machine(self) -> SourceMachine | None:
        """What its machine can do itself; None where it runs no commands."""

    @property
    def max_rate(self) -> int | None:
        """The rate limit of its node, in bytes a second; None without one."""

    @property
    def quiet_seconds(self) -> float:
        """Seconds since the machine has answered anything, while answers are waited for; else 0."""

    async def resolve(self, path: bytes, *, follow: bool = False) -> bytes:
        """The absolute path of one as typed; it need not exist. Links above it are followed; `follow` adds itself."""

    async def look(self, path: bytes) -> Facts | None:
        """Facts of a name, links not followed; None where there is nothing."""

    async def look_closely(self, path: bytes) -> Facts | None:
        """As `look`, with the finest facts that can be had."""

    def entries(self, path: bytes) -> AsyncGenerator[list[tuple[bytes, Facts]], None]:
        """The entries of a directory, some at a time, in no order."""

    async def read_link(self, path: bytes) -> bytes:
        """The target of a symbolic link, as it is."""

    async def free_space(self, path: bytes) -> int | None:
        """Free bytes for us on the disk of `path`; None where the store does not say."""

    async def clock_ns(self) -> int | None:
        """The clock of the store's machine, in nanoseconds since the epoch; None where it cannot be read."""

    async def open(self, path: bytes) -> Reader:
        """Open a regular file for reading, never through a link."""

    def expect(self, size: int, *, limited: bool) -> None:
        """Announce that so many bytes will be read or written, so that lanes can be opened.

        `limited`: no faster than a rate limit, so that what is reached says nothing of the connection.
        """

    async def recorded(self, path: bytes) -> str:
        """The SHA-256 of a file by a record of the store itself, such as a bundle's index; "" without one."""

    async def close(self) -> None:
        """End the session."""


class Store(Readable, Protocol):
    """Files on one machine, for reading and writing."""

    @property
    def machine(self) -> Machine | None:
        """What its machine can do itself; None where it runs no commands."""

    @property
    def lone_round_trip(self) -> float | None:
        """Seconds of a round trip, if a person has logged in and so no further login is possible; else None."""

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        """Create a part file, with what the umask leaves of the mode. EXISTS when the name is taken."""

    async def reopen_part(self, path: bytes) -> Writer:
        """Reopen a part file that we made, never through a link."""

    async def copy_part(self, old: bytes, new: bytes, size: int, mode: int = 0o600) -> None:
        """Create a part file with the first `size` bytes of another, copied on its machine. Or UNSUPPORTED."""

    async def make_directory(self, path: bytes, mode: int) -> None:
        """Make a directory. EXISTS when the name is taken."""

    async def sync_directory(self, path: bytes) -> bool:
        """Sync a directory, so that the names in it outlast a power cut. False where the store cannot."""

    async def make_link(self, path: bytes, target: bytes) -> None:
        """Make a symbolic link. EXISTS when the name is taken."""

    async def set_facts(self, path: bytes, *, mode: int | None, mtime_ns: int | None) -> None:
        """Set mode and modification time of a file or directory (None leaves them); its access time becomes now."""

    async def is_real(self, directory: bytes, top: bytes) -> bool:
        """Whether a directory at or below `top` exists and is reached without any link, as far as the store can see."""

    async def place(self, part: Writer, wanted: Placement) -> Fault | None:
        """Give an open part file its facts and final name, and close it. Returns why facts could not be set, or None.

        Raises StoreError, with nothing done: EXISTS when something else than `seen` has the name, PART_CHANGED when the
        part file is no longer the open one or was changed, KEPT_TAKEN when another file is kept already.
        """

    async def keep(self, path: bytes, kept: bytes) -> None:
        """Give a file that is about to be replaced a second name. EXISTS when `kept` is taken."""

    async def owner(self, path: bytes) -> str:
        """The account that owns a name, or its number; "" where the store does not say."""

    async def group(self, path: bytes) -> int | None:
        """The number of the group that owns a name; None where the store does not say."""

    async def rename(self, path: bytes, new: bytes) -> None:
        """Rename on the same disk. EXISTS, with nothing done, when the name is taken."""

    async def remove(self, path: bytes) -> None:
        """Remove a file, a link, or anything else but a directory."""

    async def remove_directory(self, path: bytes) -> None:
        """Remove an empty directory. EXISTS when something is in it."""

    def witness(self) -> str:
        """Names this session's writers, so that a later session can ask whether they have ended; "" when unknown."""

    def note_writers(self, noted: Callable[[str], Awaitable[None]]) -> None:
        """`noted` is called with a new witness before any further writer of this session writes."""

    async def writers_gone(self, witness: str) -> bool:
        """Whether every writer of an earlier session is shown to have ended."""


class Source(Protocol):
    """Opens a store as often as needed: again after each lost connection."""

    async def open(self) -> Store:
        """Open a new session. Raises CannotReach."""

    def pins(self) -> dict[str, tuple[str, int]]:
        """The addresses that it is pinned to, by node, once it has been reached."""


@overload
def machine_of(store: Store) -> Machine: ...
@overload
def machine_of(store: Readable) -> SourceMachine: ...
def machine_of(store: Readable) -> SourceMachine:
    """The machine of a store. Raises StoreError, UNSUPPORTED, where it runs no commands."""
    if store.machine is None:
        raise StoreError(Fault.UNSUPPORTED, store=store.name)
    return store.machine
