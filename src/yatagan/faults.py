"""Why something was not done, as one table: every fault, and whether it passes by itself. No I/O.

The words for them are the business of `yatagan.cli.words.fault_words`, how often and after which waits something is
tried again that of `yatagan.engine.retry`. docs/guide/trying-again.md is printed from all three.
"""

from __future__ import annotations

from enum import StrEnum


class Fault(StrEnum):
    """Why an operation on files was not done. The values are what the journal keeps."""

    CONNECTION_LOST = "connection-lost"
    SILENT = "silent"
    NO_SPACE = "no-space"
    READ_ONLY = "read-only"
    DENIED = "denied"
    MISSING = "missing"
    EXISTS = "exists"
    IS_LINK = "is-link"
    IS_DIRECTORY = "is-directory"
    NOT_A_DIRECTORY = "not-a-directory"
    BITS_DROPPED = "bits-dropped"
    TIME_RANGE = "time-range"
    NAME_TOO_LONG = "name-too-long"
    NAME_CLASH = "name-clash"
    NAME_REFUSED = "name-refused"
    UNSUPPORTED = "unsupported"
    DISK = "disk"
    REFUSED = "refused"
    SOURCE_CHANGED = "source-changed"
    SOURCE_KIND = "source-kind"
    DIGEST_DIFFERS = "digest-differs"
    APPEARED = "appeared"
    KIND_IN_THE_WAY = "kind-in-the-way"
    SPECIAL = "special"
    UNREADABLE = "unreadable"
    PART_TAKEN = "part-taken"
    PART_CHANGED = "part-changed"
    KEPT_TAKEN = "kept-taken"
    ABOVE_GONE = "above-gone"
    NONSENSE = "nonsense"
    HELPER_BROKEN = "helper-broken"
    LISTING = "listing"
    WITH_DIRECTORY = "with-directory"
    OTHER_DISK = "other-disk"
    NO_PROOF = "no-proof"
    DESTINATION_GONE = "destination-gone"
    DESTINATION_MOVED = "destination-moved"
    LEADS_OUT = "leads-out"
    FOREIGN_LINK = "foreign-link"
    DAMAGED = "damaged"
    NO_SPACE_HERE = "no-space-here"
    NOT_IN_BUNDLE = "not-in-bundle"
    WOULD_LOSE = "would-lose"
    NEWER_THERE = "newer-there"
    NOT_KEPT = "not-kept"
    WITH_BUNDLE = "with-bundle"
    ONLY_READ = "only-read"
    LEADS_ELSEWHERE = "leads-elsewhere"
    NO_SUCH_NODE = "no-such-node"
    NO_PROGRESS = "no-progress"
    GONE_THERE = "gone-there"
    CHANGED_THERE = "changed-there"
    BUSY = "busy"
    STALE = "stale"


class FaultKind(StrEnum):
    """What helps against a fault."""

    #: To wait.
    PASSES = "passes by itself"
    #: That a person does something; then it goes on where it stopped.
    PERSON = "needs a person"
    #: Nothing: for this file it is over, until something else is staged.
    FINAL = "final for this file"


_F, _K = Fault, FaultKind
KIND_OF_FAULT: dict[Fault, FaultKind] = {
    **dict.fromkeys((_F.CONNECTION_LOST, _F.SILENT, _F.BUSY, _F.STALE, _F.REFUSED), _K.PASSES),
    **dict.fromkeys(
        (
            _F.NO_SPACE,
            _F.NO_SPACE_HERE,
            _F.READ_ONLY,
            _F.DENIED,
            _F.UNREADABLE,
            _F.DISK,
            _F.DESTINATION_GONE,
            _F.DESTINATION_MOVED,
            _F.OTHER_DISK,
            _F.NO_PROOF,
            _F.LEADS_ELSEWHERE,
            _F.LEADS_OUT,
            _F.FOREIGN_LINK,
            _F.ONLY_READ,
            _F.NO_SUCH_NODE,
            _F.NO_PROGRESS,
            _F.KIND_IN_THE_WAY,
            _F.APPEARED,
            _F.EXISTS,
            _F.IS_LINK,
            _F.IS_DIRECTORY,
            _F.NOT_A_DIRECTORY,
            _F.ABOVE_GONE,
            _F.NEWER_THERE,
            _F.GONE_THERE,
            _F.CHANGED_THERE,
            _F.PART_TAKEN,
            _F.PART_CHANGED,
            _F.KEPT_TAKEN,
            _F.NOT_KEPT,
            _F.WOULD_LOSE,
            _F.NOT_IN_BUNDLE,
            _F.DAMAGED,
            _F.LISTING,
            _F.NONSENSE,
            _F.HELPER_BROKEN,
            _F.UNSUPPORTED,
            _F.WITH_DIRECTORY,
            _F.WITH_BUNDLE,
        ),
        _K.PERSON,
    ),
    **dict.fromkeys(
        (
            _F.MISSING,
            _F.SOURCE_CHANGED,
            _F.SOURCE_KIND,
            _F.DIGEST_DIFFERS,
            _F.SPECIAL,
            _F.NAME_TOO_LONG,
            _F.NAME_REFUSED,
            _F.NAME_CLASH,
            _F.BITS_DROPPED,
            _F.TIME_RANGE,
        ),
        _K.FINAL,
    ),
}

#: After these the same step may well succeed on a fresh connection.
CONNECTION_FAULTS = frozenset({Fault.CONNECTION_LOST, Fault.SILENT})
#: With these it is the connection or the disk that fails, not the one thing that was asked for: no mode or time is
#: taken for one that is refused for good.
MACHINE_FAULTS = CONNECTION_FAULTS | {Fault.NO_SPACE, Fault.READ_ONLY, Fault.DISK, Fault.STALE, Fault.BUSY}
#: These stop everything until there is free space.
SPACE_FAULTS = frozenset({Fault.NO_SPACE, Fault.NO_SPACE_HERE})
#: These stop everything until a person has looked at the destination.
DESTINATION_FAULTS = frozenset({Fault.DESTINATION_GONE, Fault.DESTINATION_MOVED})
#: Of steps that failed only because another one did: they are counted and never listed.
CONSEQUENCES = frozenset({Fault.WITH_BUNDLE, Fault.WITH_DIRECTORY})
#: With these going on makes no sense for now.
STOPPING_FAULTS = SPACE_FAULTS | DESTINATION_FAULTS | {Fault.NO_PROOF, Fault.OTHER_DISK}
#: Facts that could not be set: a note, and no failure.
NOTES = frozenset({Fault.BITS_DROPPED, Fault.TIME_RANGE})
