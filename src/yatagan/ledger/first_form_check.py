"""Checking records of the first form: each process had a file, and each record named the newest of all other files."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable
from typing import NamedTuple

from yatagan.digests.any_lists import own_list
from yatagan.errors import BadList
from yatagan.ledger import first_form
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.findings import LedgerFinding, Problem
from yatagan.ledger.records import digest_of


class FirstFormCheck:
    """A check of the files of the first form."""

    def __init__(self, directory: LedgerDirectory) -> None:
        self._directory = directory
        self.findings: list[LedgerFinding] = []
        self.records = 0
        self._unreadable: set[str] = set()
        #: The checksum lists of the records, and whose each is.
        self.lists: list[tuple[str, LedgerFinding]] = []
        #: When a record last named another file's record as the newest, by that file's name and the record's digest.
        self._named: dict[str, dict[str, str]] = {}
        self._files: dict[str, _OldFile] = {}
        for name in directory.old_files():
            try:
                self._files[name] = self._read(name)
            except OSError:
                self._unreadable.add(name)

    def run(self, earlier: Iterable[str]) -> None:
        """Check them. `earlier`: digests of the checksum lists of these files that later records carry."""
        for name, file in self._files.items():
            self._check(name, file)
        self.findings += [LedgerFinding(name, Problem.FILE_UNREADABLE) for name in sorted(self._unreadable)]
        missing, changed = set(self._named) - set(self._files) - self._unreadable, set[str]()
        for digest in earlier:
            for name, value in self._listed(digest).items():
                if name not in self._files:
                    missing |= {name} - self._unreadable
                elif self._files[name].value != value:
                    changed.add(name)
        self.findings += [LedgerFinding(name, Problem.FILE_MISSING) for name in sorted(missing)]
        told = {finding.file for finding in self.findings}
        self.findings += [LedgerFinding(name, Problem.CHANGED) for name in sorted(changed - told)]

    def _read(self, name: str) -> _OldFile:
        value, entries = hashlib.sha256(), list[_Entry]()
        for line in self._directory.old_lines(name):
            value.update(line + b"\n")
            entry = first_form.parse(line)
            if entry is None:
                entries.append(_Entry(digest_of(line)))
                continue
            for other, digest in entry["others"].items():
                named = self._named.setdefault(other, {})
                named[digest] = max(named.get(digest, ""), entry["time"])
            listed = str(entry["body"].get("list", ""))
            entries.append(_Entry(digest_of(line), entry["id"], entry["time"], entry["previous"], listed))
        return _OldFile(entries, value.hexdigest())

    def _check(self, name: str, file: _OldFile) -> None:
        named, digests = self._named.get(name, {}), {entry.digest for entry in file.entries}
        held = set(named) | {entry.previous for entry in file.entries}
        lost = max((when for digest, when in named.items() if digest not in digests), default="")
        for at, entry in enumerate(file.entries):
            self.records += 1
            problem = file.problem(at, held, lost)
            where = LedgerFinding(name, problem or Problem.LIST_CHANGED, at + 1, at + 1, at + 1, entry.id)
            if problem is not None:
                self.findings.append(where)
            if entry.list:
                self.lists.append((entry.list, where))

    def _listed(self, digest: str) -> dict[str, str]:
        """What a checksum list says of the files; empty where it cannot be read."""
        try:
            data = b"".join(self._directory.list_blocks(digest))
            return {os.fsdecode(line.path): line.digest for line in own_list(data, digest)}
        except (OSError, BadList):
            return {}


class _Entry(NamedTuple):
    """What a check needs of a record; only a digest of a line that is none."""

    digest: str
    id: str = ""
    time: str = ""
    previous: str = ""
    list: str = ""


class _OldFile(NamedTuple):
    """The records of one file, and the SHA-256 of all of it."""

    entries: list[_Entry]
    value: str

    def problem(self, at: int, held: set[str], lost: str) -> Problem | None:
        """What is wrong with one record.

        `held`: digests that other records carry. `lost`: when another file last named a record that is not here.
        """
        entry, is_last = self.entries[at], at + 1 == len(self.entries)
        if not entry.time:
            return Problem.NO_RECORD
        before = self.entries[at - 1].digest if at else ""
        if is_last and lost and entry.time <= lost:
            return Problem.CUT_OFF if entry.digest in held else Problem.CHANGED
        if entry.digest in held:
            return Problem.DOES_NOT_FOLLOW if at and entry.previous != before and before in held else None
        if not is_last and (after := self.entries[at + 1]).time and after.previous != entry.digest:
            return Problem.CHANGED if after.digest in held else Problem.ONE_OF_TWO_CHANGED
        if at and entry.previous != before and before in held:
            return Problem.CHANGED
        return Problem.CHANGED if not at and entry.previous else None
