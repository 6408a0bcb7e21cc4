"""Everything that can go wrong, as types.

One small tree. An error carries *facts* (a fault, the path, what the other side said); turning
them into sentences is the business of `yatagan.cli.words.messages` alone. No exception of another library
climbs past `stores/` or `nodes/`: they are translated there into these.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from yatagan.faults import CONNECTION_FAULTS, Fault


class YataganError(Exception):
    """The root of all our errors."""


class StoreError(YataganError):
    """An operation on a file or directory was not done.

    `fault` says why, `path` to what (absolute, as the store spells it), `store` names the node
    ("" for this machine) and `detail` is what the system or the server said, if anything. As OSError does by its
    number, this makes one of its two kinds by the fault: the line is lost, or something is wrong with the file.
    """

    def __new__(cls, fault: Fault, *more: object, **named: object) -> StoreError:
        """One of the kind that the fault is of."""
        kind = cls if cls is not StoreError else LineLost if fault in CONNECTION_FAULTS else FileTrouble
        return super().__new__(kind, fault, *more)

    def __init__(self, fault: Fault, path: bytes = b"", *, store: str = "", detail: str = "") -> None:
        super().__init__(f"{fault.value}: {path!r} {detail}".rstrip())
        self.fault = fault
        self.path = path
        self.store = store
        self.detail = detail


class LineLost(StoreError):
    """The connection was lost, or nothing answers any more: it says nothing of the file."""


class FileTrouble(StoreError):
    """Something is wrong with what was asked for, or with the disk that it is on."""


class PlaceFault(StrEnum):
    """What is wrong with a place as it was typed."""

    EMPTY = "nothing"
    NUL = "a NUL byte"
    NO_NODE_NAME = "a colon behind what cannot be a node's name"
    RELATIVE = "relative to no directory"
    NOTHING_BELOW = "a list's part of which the list names nothing"


class NoPlace(YataganError):
    """What was typed as a place, `text`, is none, or none that fits what it is named for."""

    def __init__(self, text: str, fault: PlaceFault) -> None:
        super().__init__(f"{text}: {fault.value}")
        self.text = text
        self.fault = fault


class BadPlace(YataganError):
    """A place does not fit the command. `why` is a full clause."""

    def __init__(self, text: str, why: str, remedy: str = "") -> None:
        super().__init__(f"{text}: {why}")
        self.text = text
        self.why = why
        self.remedy = remedy


class NoSuchArea(YataganError):
    """The node has no area of this name. `known` are the names of those that it has."""

    def __init__(self, node: str, name: str, known: tuple[str, ...]) -> None:
        super().__init__(f"{node}: {name}")
        self.node = node
        self.name = name
        self.known = known


class NoSuchDataset(YataganError):
    """The project, whose file is `file`, declares no dataset of this name. `known` are those that it declares."""

    def __init__(self, name: str, known: tuple[str, ...], file: str) -> None:
        super().__init__(name)
        self.name = name
        self.known = known
        self.file = file


class BadConfig(YataganError):
    """A configuration file or an entry in it is not what it should be."""

    def __init__(self, file: str, why: str, remedy: str = "") -> None:
        super().__init__(f"{file}: {why}")
        self.file = file
        self.why = why
        self.remedy = remedy


@dataclass(frozen=True, slots=True)
class Mistake:
    """One mistake in a project file: the file's name, the line (0 if unknown), the key, what is wrong, what to do."""

    file: str
    line: int
    key: str
    why: str
    remedy: str


class BadProject(YataganError):
    """A project file has mistakes; all of them."""

    def __init__(self, mistakes: Sequence[Mistake]) -> None:
        super().__init__("; ".join(f"{each.file}, line {each.line}: {each.key}: {each.why}" for each in mistakes))
        self.mistakes = tuple(mistakes)


class NodeMeant(YataganError):
    """A node's name was typed as a place, without its colon."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.name = name


class UnknownNode(YataganError):
    """No node is saved under this name. `known` lists those that are."""

    def __init__(self, name: str, known: tuple[str, ...]) -> None:
        super().__init__(name)
        self.name = name
        self.known = known


class Refused(YataganError):
    """Something was not done because it would be dangerous (exit status 5)."""

    def __init__(self, why: str, remedy: str = "") -> None:
        super().__init__(why)
        self.why = why
        self.remedy = remedy


class ReadOnlyArea(YataganError):
    """Something would be written into an area that is saved as read-only."""

    def __init__(self, node: str, area: str) -> None:
        super().__init__(f"{node}: {area}")
        self.node = node
        self.area = area


class NoRoom(YataganError):
    """What is to be carried does not fit: a shared disk must not be filled to the last byte.

    In bytes: `needed` for the files, `reserve` to be left free, `free` there now.
    """

    def __init__(self, node: str, needed: int, reserve: int, free: int) -> None:
        super().__init__(f"{node}: {needed} + {reserve} > {free}")
        self.node = node
        self.needed = needed
        self.reserve = reserve
        self.free = free


class NoProject(YataganError):
    """A project is needed, and neither the directory nor one above it has a project file."""


@dataclass(frozen=True, slots=True)
class Concern:
    """Something that a person must have accepted before a project is gone by.

    `key` is equal as long as it is the same thing; `owner`: of a file or directory of another account; `paths`: where
    the personal file leads out of the project; `writable`: who else may change what is in the directory.
    """

    file: str
    key: str
    owner: int | None = None
    paths: tuple[str, ...] = ()
    writable: str = ""


class NotAccepted(YataganError):
    """Something about a project is strange, and its user has not accepted it."""

    def __init__(self, concerns: Sequence[Concern]) -> None:
        super().__init__(", ".join(concern.key for concern in concerns))
        self.concerns = tuple(concerns)


class LedgerUnread(YataganError):
    """The ledger that is kept in a directory cannot be read."""

    def __init__(self, directory: str, why: str) -> None:
        super().__init__(f"{directory}: {why}")
        self.directory = directory
        self.why = why


class OutOfArea(Refused):
    """A place that is named by an area climbs out of it by `..`. `rest`: what was typed behind the area's name."""

    def __init__(self, node: str, area: str, rest: str) -> None:
        super().__init__(f"{node}: {area}: {rest}")
        self.node = node
        self.area = area
        self.rest = rest


class KeeperFault(StrEnum):
    """Why a keeper does not do what it is asked for, or cannot be one."""

    OTHER_VERSION = "another version"
    NODE_CHANGED = "a node that was changed since"
    UNKNOWN_REQUEST = "a request that it does not know"
    NO_DIRECTORY = "no directory for its socket"
    OPEN_DIRECTORY = "a directory that others may use"
    OPENED_TWICE = "a node that is open, or is being opened"


class KeeperRefuses(Refused):
    """The keeper of a node does not do what it is asked for, or cannot be one.

    `what`: the node, the directory or the request; `detail`: what the system said.
    """

    def __init__(self, fault: KeeperFault, what: str, detail: str = "") -> None:
        super().__init__(f"{fault.value}: {what} {detail}".rstrip())
        self.fault = fault
        self.what = what
        self.detail = detail


class NotBelieved(Refused):
    """A file is not read, or a directory not used: another account could have made it what it is.

    `what` continues a sentence that begins with `file`, an absolute path.
    """

    def __init__(self, file: str, what: str, remedy: str = "") -> None:
        super().__init__(f"{file} {what}", remedy)
        self.file = file


class CannotReach(YataganError):
    """A node could not be reached or refused the login.

    `step` is how far we came: look-up, connect, key-exchange, host-key, login, sftp; or keeper, where it was one that
    had a login open.
    `passing` tells whether waiting may help.
    """

    def __init__(self, node: str, step: str, detail: str, *, remedy: str = "", passing: bool = True) -> None:
        super().__init__(f"{node}: {step}: {detail}")
        self.node = node
        self.step = step
        self.detail = detail
        self.remedy = remedy
        self.passing = passing


class UnknownHostKey(CannotReach):
    """A node showed a key that was not accepted yet."""

    def __init__(self, node: str, host: str, fingerprint: str, algorithm: str, known_line: str) -> None:
        super().__init__(node, "host-key", f"unknown key {fingerprint}", passing=False)
        self.host = host
        self.fingerprint = fingerprint
        self.algorithm = algorithm
        self.known_line = known_line


class ChangedHostKey(CannotReach):
    """A node showed another key than the known one. Always a stop. `where` names a line with a known key."""

    def __init__(self, node: str, host: str, fingerprint: str, expected: tuple[str, ...], where: str) -> None:
        super().__init__(node, "host-key", f"key changed to {fingerprint}", passing=False)
        self.host = host
        self.fingerprint = fingerprint
        self.expected = expected
        self.where = where


class UnpinnedHostKey(CannotReach):
    """A node showed a key that is not among those pinned with `--trust`. Always a stop.

    `where` names the known_hosts line in which the key stands, "" when no file knows it.
    """

    def __init__(self, node: str, host: str, fingerprint: str, pins: tuple[str, ...], where: str) -> None:
        super().__init__(node, "host-key", f"key {fingerprint} is not pinned", passing=False)
        self.host = host
        self.fingerprint = fingerprint
        self.pins = pins
        self.where = where


class RevokedHostKey(CannotReach):
    """A node showed a key that a known_hosts line revokes. Always a stop. `where` names the line."""

    def __init__(self, node: str, host: str, fingerprint: str, where: str) -> None:
        super().__init__(node, "host-key", f"key {fingerprint} is revoked", passing=False)
        self.host = host
        self.fingerprint = fingerprint
        self.where = where


class NeedsAnswer(CannotReach):
    """The server asked something and there is no terminal. `prompt` is what it asked."""

    def __init__(self, node: str, prompt: str) -> None:
        super().__init__(node, "login", f"asked {prompt!r}", passing=False)
        self.prompt = prompt


class GivenUp(NeedsAnswer):
    """The user pressed Ctrl-C instead of answering."""


class JournalError(YataganError):
    """The journal of a batch or its log cannot be written or read: the disk is full, or has failed.

    `damaged`: what is there makes no sense, so that neither room nor another try will help. `batch`: the one that was
    accepted and can be gone on with; "" where there is none.
    """

    def __init__(self, file: str, detail: str, *, damaged: bool = False, batch: str = "") -> None:
        super().__init__(f"{file}: {detail}")
        self.file = file
        self.detail = detail
        self.damaged = damaged
        self.batch = batch


class OtherVersion(JournalError):
    """The journal of a batch is whole, but has a form that this version does not know."""

    def __init__(self, file: str, form: int) -> None:
        super().__init__(file, f"it was written by another version (format {form})")


class BatchInUse(YataganError):
    """Another process carries this batch now.

    `elsewhere`: no process here does, but one of another machine that shares the disk has its name in the lock. Only a
    person can tell whether that one has ended.
    """

    def __init__(self, batch: str, holder: str, *, elsewhere: bool = False) -> None:
        super().__init__(f"{batch}: {holder}")
        self.batch = batch
        self.holder = holder
        self.elsewhere = elsewhere


class BatchStopped(YataganError):
    """A batch was stopped by a person, and only a person says that it goes on."""

    def __init__(self, batch: str) -> None:
        super().__init__(batch)
        self.batch = batch


class BatchCancelled(YataganError):
    """A batch was given up. `successor`: the one that took its place; "" where a person has cancelled it."""

    def __init__(self, batch: str, successor: str = "") -> None:
        super().__init__(batch)
        self.batch = batch
        self.successor = successor


class NoLocks(YataganError):
    """The disk that a directory of ours is on has no locks, so that two processes could carry one batch."""

    def __init__(self, directory: str) -> None:
        super().__init__(directory)
        self.directory = directory


class NoSuchBatch(YataganError):
    """No batch has this name, or it is part of several names, the `candidates`. `known` are all names."""

    def __init__(self, name: str, candidates: tuple[str, ...] = (), known: tuple[str, ...] = ()) -> None:
        super().__init__(name)
        self.name = name
        self.candidates = candidates
        self.known = known


class NoSuchRoutine(YataganError):
    """No routine has this name. `known` are all names."""

    def __init__(self, name: str, known: tuple[str, ...] = ()) -> None:
        super().__init__(name)
        self.name = name
        self.known = known


class BadList(YataganError):
    """A checksum list cannot be understood. `line` counts from 1; 0 stands for the whole."""

    def __init__(self, name: str, line: int, why: str) -> None:
        super().__init__(f"{name}:{line}: {why}")
        self.name = name
        self.line = line
        self.why = why


class BadArchive(YataganError):
    """A file is no archive of a known format, or its index makes no sense. `why` is a full clause."""

    def __init__(self, path: bytes, why: str, remedy: str = "", *, store: str = "") -> None:
        super().__init__(f"{path!r}: {why}")
        self.path = path
        self.why = why
        self.remedy = remedy
        self.store = store


class ArchiveTooLarge(YataganError):
    """More would come out of an archive than was allowed: in all (`most` bytes), or for each byte of it (`ratio`)."""

    def __init__(self, path: bytes, *, most: int = 0, ratio: int = 0, store: str = "") -> None:
        super().__init__(f"{path!r}: most {most}, ratio {ratio}")
        self.path = path
        self.most = most
        self.ratio = ratio
        self.store = store


#: Why a batch is not carried on: its node cannot be reached, or what has the node open does not take it.
Trouble = CannotReach | KeeperRefuses
