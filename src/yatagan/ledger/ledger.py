"""The ledger as commands and batches use it: put something on record, find a record again, look at all."""

from __future__ import annotations

import heapq
import os
import platform
import re
import secrets
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yatagan.config.home import Home
from yatagan.config.settings import LedgerSettings
from yatagan.digests.checksum_lists import format_list
from yatagan.errors import NotBelieved
from yatagan.ledger.appending import Appended, Appender, Signer
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.lists import write_list
from yatagan.ledger.memory import LedgerMemory, user
from yatagan.ledger.merging import Merged, merge
from yatagan.ledger.records import Record, RecordKind, Statement, parse, time_text
from yatagan.ledger.waiting import Lists, WaitingRecord, WaitingRecords
from yatagan.stores.interface import Facts
from yatagan.trees.checksum_record import format_facts
from yatagan.version import __version__

#: The (path, digest) lines that a record speaks of, to be read as often as needed.
Contents = Callable[[], Iterable[tuple[bytes, str]]]
#: The (path, facts, link target) that a record speaks of, likewise; without facts: what was gone.
EntryFacts = Callable[[], Iterable[tuple[bytes, Facts | None, bytes | None]]]
#: Seconds after which a ledger on another disk is too slow, and a record waits.
_PATIENCE = 10.0


@dataclass(frozen=True, slots=True)
class OnRecord:
    """What became of a record.

    `digest`: of the record, if it is in the ledger. `waits`: why it could not be written yet. `unsigned`: why it has no
    signature, though one was asked for. `lost`: why it is not on record and never will be.
    """

    id: str
    digest: str = ""
    waits: str = ""
    unsigned: str = ""
    lost: str = ""


def record_id(kind: RecordKind) -> str:
    """A name for a record that is not a batch's."""
    return f"{kind.value.replace(' ', '-')}-{time.strftime('%y%m%d-%H%M%S')}-{secrets.token_hex(2)}"


class Ledger:
    """The ledger in one directory.

    `state`: where this machine keeps what it remembers of ledgers. `signer`: signs records; None: they are not signed.
    `links`: whether links of this account or root may lead to it. A ledger that is not in the state directory itself
    may be on a disk that hangs: an append gives up after `patience` seconds.
    """

    def __init__(
        self, path: Path, state: Path, signer: Signer | None = None, patience: float = _PATIENCE, *, links: bool = True
    ) -> None:
        self._elsewhere = os.path.realpath(path.parent) != os.path.realpath(state.parent)
        # What stands in for a disk that is not mounted must not get records.
        self.directory = LedgerDirectory(path, may_be_made=not self._elsewhere, links=links)
        self.memory = LedgerMemory(state, path)
        self._appender = Appender(self.directory, self.memory, signer)
        self._waiting = WaitingRecords(self.memory.waiting)
        self._patience = patience
        #: Hears of a file of the ledger that is there and cannot be read: its name, and why. Nothing it says is known.
        self.unread: Callable[[str, str], object] = lambda name, why: None

    @classmethod
    def of(cls, home: Home, settings: LedgerSettings, agent: str, directory: str = "") -> Ledger:
        """The ledger in a directory, or without one that which the settings name.

        `agent`: where the user's SSH agent listens; "" without one.
        """
        signer = None
        if settings.sign_with:
            from yatagan.ledger.signing import KeySigner  # with the library for SSH

            signer = KeySigner(Path(settings.sign_with), agent)
        named = directory or settings.directory
        path = Path(named) if named else home.ledger
        # A project's was resolved when the project was accepted: what has become a link since was put there.
        return cls(path, home.ledger_memory, signer, links=not directory)

    def append(self, statement: Statement, contents: Contents = tuple, facts: EntryFacts = tuple) -> OnRecord:
        """Put something on record, with the digests and the facts of what it is about. Durable on return.

        Never raises for a disk that is full, slow or not writable: the record waits then, and is written before the
        next one. Raises ValueError for what no record can hold.
        """
        fields = {**statement.fields(), **_now()}
        lists: Lists = {"list": lambda: format_list(contents()), "facts": lambda: format_facts(facts())}
        try:
            if self._elsewhere:
                return self._append_in_time(fields, lists)
            return self._append(fields, lists)
        except (OSError, NotBelieved) as error:
            return self._wait(fields, lists, _reason(error))

    def _append(self, fields: dict[str, Any], lists: Lists) -> OnRecord:
        """Append at once, and what waits before it. Raises OSError."""
        self.directory.make()
        for key, lines in lists.items():
            if listed := write_list(self.directory, lines()):
                fields = {**fields, key: listed}
        with self._locked() as lock:
            self._append_waiting(lock)
            (appended,) = self._appender.append(lock, [fields])
        return OnRecord(appended.id, appended.head.digest, "", appended.unsigned)

    def _locked(self) -> AbstractContextManager[int]:
        """Hold the lock of our writer. Raises OSError, after some patience."""
        return self.memory.locked(time.monotonic() + self._patience)

    def _append_in_time(self, fields: dict[str, Any], lists: Lists) -> OnRecord:
        """Let a record wait, and append all that waits in a thread that may be left behind. Raises OSError."""
        self._waiting.put(fields, lists)
        ended: list[OnRecord] = []

        def work() -> None:
            try:
                self.directory.make()
                with self._locked() as lock:
                    done = {each.id: each for each in self._append_waiting(lock)}
            except (OSError, NotBelieved) as error:
                ended.append(OnRecord(fields["id"], waits=_reason(error)))
                return
            if (own := done.get(fields["id"])) is not None:
                ended.append(OnRecord(own.id, own.head.digest, "", own.unsigned))
            elif (found := self.state_of(fields["id"])) is not None:
                ended.append(found)  # another process has appended all that waited

        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        thread.join(self._patience)
        late = OnRecord(fields["id"], waits=f"its disk did not answer within {self._patience:.0f} s")
        found = ended[0] if ended else late
        if found.waits:
            self._waiting.say_why(found.waits)
        return found

    def _append_waiting(self, lock: int) -> list[Appended]:
        """Append the records that wait. The lock is held. Raises OSError."""
        records = self._waiting.records()
        missing = [each for each in records if not (each.tried and self.find(each.fields["id"]) is not None)]
        for record in missing:
            record.try_now()
            record.bring_lists(self.directory)
        appended = self._appender.append(lock, [record.fields for record in missing]) if missing else []
        for record in records:
            record.remove()
        return appended

    def _wait(self, fields: dict[str, Any], lists: Lists, why: str) -> OnRecord:
        try:
            self._waiting.put(fields, lists)
            self._waiting.say_why(why)
        except OSError as error:
            return OnRecord(fields["id"], lost=f"{why}, and it cannot wait: {_reason(error)}")
        return OnRecord(fields["id"], waits=why)

    def merge(self, theirs: LedgerDirectory) -> Merged:
        """Bring in the records of another copy. Raises OSError.

        If that has more of our own file than we do, this machine was restored from a backup: a new writer begins.
        """
        with self._locked() as lock:
            own = self.memory.writer()
            merged = merge(self.directory, theirs, own)
            if any(name.startswith(f"{own}.fork-") for name in merged.forks):
                self.memory.new_writer(lock)
        return merged

    def waiting(self) -> list[WaitingRecord]:
        """The records that this machine could not write yet, the oldest first."""
        return self._waiting.records()

    @property
    def why_waiting(self) -> str:
        """What keeps records from the ledger."""
        return self._waiting.why or "it was not tried yet"

    def find(self, id: str) -> Record | None:
        """The record of this name; None where there is none."""
        own, mark = self.memory.writer(), b'"id":"%b"' % id.encode()
        names = sorted(self.directory.writer_files(), key=lambda name: name != f"{own}.jsonl")
        found = (record for name in names for record in self._of_file(name, lambda lines: mark in lines))
        return next((record for record in found if record.id == id), None)

    def state_of(self, id: str) -> OnRecord | None:
        """What became of the record of this name; None where there is none."""
        if (found := self.find(id)) is not None:
            return OnRecord(id, found.digest, "", str(found.fields.get("unsigned", "")))
        return next((OnRecord(id, waits=self.why_waiting) for each in self.waiting() if each.fields["id"] == id), None)

    def records(self, since: str = "") -> Iterator[Record]:
        """All records, the newest first, from the time `since` on (RFC 3339 in UTC). Lines that are none are left out.

        Nothing is checked: that is `checking.Check`. Only as much is held in memory as is being looked at.
        """
        names = self.directory.writer_files()
        # Two continuations of a file begin alike.
        twice = {name.partition(".")[0] for name in names if ".fork-" in name}
        seen: set[str] = set()
        files = (self._of_file(name, lambda lines: _reaches(lines, since)) for name in names)
        for record in heapq.merge(*files, key=_order, reverse=True):
            if record.fields.get("writer") in twice:
                if record.digest in seen:
                    continue
                seen.add(record.digest)
            yield record

    def _of_file(self, name: str, wanted: Callable[[bytes], bool]) -> Iterator[Record]:
        """The records of a file, the last one first. `wanted`: whether such a one is among these lines."""
        try:
            for line in self.directory.lines_backwards(name, wanted):
                if wanted(line) and (record := parse(line, name)) is not None:
                    yield record
        except OSError as error:
            self.unread(f"writers/{name}", error.strerror or str(error))


_TIME = re.compile(rb'"recorded_at":"([0-9TZ:.-]+)"')


def _reaches(lines: bytes, since: str) -> bool:
    """Whether a record among these lines was written at a time or later."""
    return not since or max(_TIME.findall(lines), default=b"").decode("ascii") >= since


def _order(record: Record) -> tuple[str, str, int]:
    return record.recorded_at, record.file, record.number


def _reason(error: OSError | NotBelieved) -> str:
    if isinstance(error, NotBelieved):
        return error.why
    why = error.strerror or str(error)
    return f"{os.fsdecode(error.filename)}: {why}" if error.filename else why


def _now() -> dict[str, str]:
    return {
        # As fine as the clock: commands that follow each other in one second stay in their order.
        "recorded_at": time_text(time.time_ns()),
        "who": f"{user()}@{platform.node()}",
        "version": __version__,
    }
