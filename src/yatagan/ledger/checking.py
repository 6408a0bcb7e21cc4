"""Checking a ledger: which records are not what was written, and what confirms the others.

No record is trusted by itself. It is confirmed by the digest that the next record of its file carries, by digests that
other writers' records name, by what this machine remembers, and by its signature. Where two of these contradict each
other, the finding names the record that nothing confirms, and the other one as its witness.

What no check can find: a change to the last record of a file, or records cut off from its end, before anything else has
seen them; a file that was rewritten before another one named its records; a whole file of a writer whom no other file
names; and a file that was removed with all that named it.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from yatagan.errors import NotBelieved
from yatagan.ledger.chain import Chain, Line
from yatagan.ledger.directory import KEY_FILES, WRITER_FILE, LedgerDirectory
from yatagan.ledger.findings import Checked, FileEnd, Fork, LedgerFinding, Problem, Witness
from yatagan.ledger.forks import fork_between, fork_of
from yatagan.ledger.records import DIGEST, Head, Record, RecordKind, parse, read
from yatagan.ledger.waiting import LIST_FIELDS

if TYPE_CHECKING:
    from yatagan.ledger.signature_check import SignatureCheck
    from yatagan.ledger.signers import Signers

#: The records that were seen of a file, and by whom.
_Seen = list[tuple[Head, Witness]]


class _Naming(NamedTuple):
    """That a record, the witness with the digest `by`, names the digest of another file's record."""

    digest: str
    witness: Witness
    by: str


def _says_more(naming: _Naming, known: Sequence[_Naming]) -> bool:
    """Whether to keep a witness besides those that are known: two in different files are enough."""
    alike = [each for each in known if each.digest == naming.digest]
    return len(alike) < 2 and all(each.witness.file != naming.witness.file for each in alike)


class Check:
    """One check of a ledger.

    `remembered`: the newest records that this machine has seen, by writer. `expected`: the writers that this machine
    knows to be in this very ledger. `allowed_signers`: what a file of trusted keys says; None for the ledger's own.
    """

    def __init__(
        self,
        directory: LedgerDirectory,
        remembered: Mapping[str, Head],
        expected: Collection[str] = (),
        allowed_signers: bytes | None = None,
    ) -> None:
        self._directory = directory
        self._allowed_signers = allowed_signers
        self._remembered = remembered
        self._expected = expected
        self._found = Checked()
        self._chains: dict[str, Chain] = {}
        #: The files of each writer: its own, and other continuations of it.
        self._histories: dict[str, list[Chain]] = {}
        #: By whom records of other files were named, by their writer and number.
        self._named: dict[str, dict[int, list[_Naming]]] = {}
        self._lists: dict[str, list[LedgerFinding]] = {}
        self._accepted: dict[Fork, str] = {}
        #: Numbers of records that other files or this machine have seen as they are, by the file's name.
        self._anchored: dict[str, set[int]] = {}
        self._signatures: SignatureCheck | None = None
        self._keys_unknown = False
        self._unreadable: set[str] = set()

    def run(self, last: str = "") -> Checked:
        """Check all of it. `last`: the digest of a record that must be there, or its beginning.

        Raises OSError where a file cannot be read.
        """
        found = self._found
        for name, size in self._directory.sizes().items():
            if size is None:
                self._unreadable.add(name)
                found.findings.append(LedgerFinding(name, Problem.FILE_UNREADABLE))
            else:
                self._chains[name] = self._read(name, size)
        for chain in self._chains.values():
            chain.settle()
        self._find_anchors()
        for name, chain in self._chains.items():
            chain.follow(self._anchored.get(name, frozenset()))
        self._compare_with_witnesses()
        self._compare_forks()
        for chain in self._chains.values():
            found.findings += chain.findings
        self._check_lists()
        found.ends = [self._end(chain) for chain in self._chains.values()]
        if last and not self._holds(last.lower()):
            found.findings.append(LedgerFinding("", Problem.NOT_FOUND, detail=last))
        strange = self._directory.strange()
        found.strange = [each for each in strange if not each.in_place]
        found.findings += [
            LedgerFinding(each.name, Problem.NOT_PLAIN, detail=each.what) for each in strange if each.in_place
        ]
        found.odd_lines = self._signatures.odd_lines if self._signatures is not None else []
        found.findings.sort(key=lambda finding: (finding.file, finding.first, finding.line, finding.problem))
        return found

    def heads(self) -> dict[str, Head]:
        """The newest record of each writer of whose file nothing is wrong; after `run`."""
        whole = (chain for name, chain in self._chains.items() if name == f"{chain.writer}.jsonl" and chain.lines)
        wrong = {finding.file for finding in self._found.findings}
        return {chain.writer: Head(chain.last, chain.lines[-1].digest) for chain in whole if chain.file not in wrong}

    def _read(self, name: str, size: int) -> Chain:
        match = WRITER_FILE.fullmatch(name)
        assert match is not None
        chain, before = Chain(name, match[1]), ""
        for position, (data, is_last) in enumerate(_with_last(self._directory.lines(name, size)), 1):
            self._found.records += 1
            record = parse(data, name) if is_last else read(data, name)
            if record is None or record.fields["writer"] != chain.writer:
                chain.add_bad(position, Problem.NO_RECORD if record is None else Problem.OF_ANOTHER_FILE)
                continue
            held = self._is_signed(chain, record, position)
            # The same text twice would take the memory twice.
            previous = before if record.previous == before else record.previous
            chain.add(Line(position, record.number, record.digest, previous, record.id, held))
            before = record.digest
            self._found.newest = max(self._found.newest, (record.recorded_at, record.digest))
            self._note(record, position)
        return chain

    def _is_signed(self, chain: Chain, record: Record, position: int) -> bool:
        """Whether a record has a signature by a trusted key."""
        if "signature" not in record.fields:
            self._found.unsigned += 1
            return False
        # The library for SSH takes longer to import than a ledger without signatures to check.
        from yatagan.ledger.signature_check import SignatureCheck
        from yatagan.ledger.signatures import BadSignature

        if self._signatures is None:
            if (signers := self._signers()) is None:
                return False
            self._signatures = SignatureCheck(signers)
        try:
            name, fingerprint = self._signatures.signer(record)
        except BadSignature as error:
            chain.find(Problem.BAD_SIGNATURE, record.number, line=position, id=record.id, detail=error.why.value)
            return False
        counts, key = (self._found.signers, name) if name else (self._found.unknown, fingerprint)
        counts[key] = counts.get(key, 0) + 1
        return bool(name)

    def _signers(self) -> Signers | None:
        """The keys that count; None where that cannot be known: a finding, for a revoked key could be among them."""
        from yatagan.ledger.signers import Signers

        if self._keys_unknown:
            return None
        given = [self._allowed_signers, None]
        for at, name in enumerate(KEY_FILES):
            if given[at] is None:
                try:
                    given[at] = self._directory.keys(name)
                except (OSError, NotBelieved):
                    self._keys_unknown = True
                    self._found.findings.append(LedgerFinding(name, Problem.KEYS_UNREADABLE))
        return None if self._keys_unknown else Signers(given[0] or b"", given[1] or b"")

    def _note(self, record: Record, position: int) -> None:
        """Keep what a record says of other files, of checksum lists, and of forks."""
        for writer, head in record.others.items():
            numbers = self._named.setdefault(writer, {})
            known = numbers.get(head.number)
            naming = _Naming(head.digest, Witness(record.file, record.number), record.digest)
            if known is None:
                numbers[head.number] = [naming]
            elif _says_more(naming, known):
                known.append(naming)
        for key in LIST_FIELDS:
            if name := record.fields.get(key):
                number = record.number
                where = LedgerFinding(record.file, Problem.LIST_CHANGED, number, number, position, record.id)
                self._lists.setdefault(str(name), []).append(where)
        if record.kind == RecordKind.FORK_ACCEPTED and (fork := fork_of(record)) is not None:
            self._accepted.setdefault(fork, f"{record.who}, {record.recorded_at[:10]}")

    def _find_anchors(self) -> None:
        """Find the records that other files or this machine have seen, and that are still the same."""
        for chain in self._chains.values():
            self._histories.setdefault(chain.writer, []).append(chain)
        for writer, head in self._remembered.items():
            self._anchor(writer, head.number, head.digest)
        for writer, numbers in self._named.items():
            for number, namings in numbers.items():
                for naming in namings:
                    self._anchor(writer, number, naming.digest)

    def _anchor(self, writer: str, number: int, digest: str) -> None:
        for chain in self._histories.get(writer, ()):
            if chain.digests.get(number) == digest:
                self._anchored.setdefault(chain.file, set()).add(number)

    def _compare_with_witnesses(self) -> None:
        """Name the records that other files or this machine have seen, and that are not there."""
        unseen: dict[str, _Seen] = {}
        for writer, head in self._remembered.items():
            # This machine may remember writers of other ledgers too.
            if f"{writer}.jsonl" in self._chains or writer in self._expected:
                self._look_for(writer, head, Witness("", 0), unseen)
        for writer, numbers in self._named.items():
            for number, namings in numbers.items():
                for naming in namings:
                    if self._is_sound(naming):
                        self._look_for(writer, Head(number, naming.digest), naming.witness, unseen)
        for name, seen in sorted(unseen.items()):
            self._tell_unseen(name, seen)

    def _is_sound(self, naming: _Naming) -> bool:
        """Whether nothing is wrong with the record that names another."""
        chain, number = self._chains[naming.witness.file], naming.witness.number
        return chain.digests.get(number) == naming.by and number not in chain.wrong

    def _look_for(self, writer: str, head: Head, witness: Witness, unseen: dict[str, _Seen]) -> None:
        if not any(chain.digests.get(head.number) == head.digest for chain in self._histories.get(writer, ())):
            unseen.setdefault(f"{writer}.jsonl", []).append((head, witness))

    def _tell_unseen(self, name: str, seen: _Seen) -> None:
        """Name what is missing from a file, or was rewritten."""
        # What this machine has seen itself is believed first.
        head, witness = max(seen, key=lambda each: (each[0].number, not each[1].file, each[1]))
        chain = self._chains.get(name)
        if chain is None and name in self._unreadable:
            return  # that is said already
        if chain is None:
            self._found.findings.append(LedgerFinding(name, Problem.FILE_MISSING, 1, head.number, witness=witness))
            return
        if head.number > chain.last:
            self._found.findings.append(
                LedgerFinding(name, Problem.CUT_OFF, chain.last + 1, head.number, witness=witness)
            )
        other = [each for each in seen if each[0].number <= chain.last and each[0].number not in chain.wrong]
        if not other:
            return
        anchored = self._anchored.get(name, set())
        head, witness = min(other, key=lambda each: (each[0].number, bool(each[1].file), each[1]))
        if witness.file and not self._is_confirmed(witness) and max(anchored, default=0) >= head.number:
            # Others have seen the file as it is, and nothing confirms the record that says otherwise.
            accused = self._chains[witness.file]
            accused.find(Problem.CHANGED, witness.number, witness=Witness(name, head.number))
            return
        first = max((number for number in anchored if number < head.number), default=0) + 1
        chain.find(Problem.REWRITTEN, first, max(each[0].number for each in other), witness=witness)

    def _is_confirmed(self, witness: Witness) -> bool:
        return self._chains[witness.file].confirms(witness.number, self._anchored.get(witness.file, frozenset()))

    def _compare_forks(self) -> None:
        """Name the files of which there are two continuations that were not accepted."""
        for chain in self._chains.values():
            main = self._chains.get(f"{chain.writer}.jsonl")
            if main is None or main is chain:
                continue
            fork = fork_between(chain.writer, main.digests, chain.digests)
            if fork in self._accepted:
                self._found.forks[fork] = self._accepted[fork]
            elif fork is not None:
                number = fork.number
                self._found.findings.append(LedgerFinding(main.file, Problem.FORK, number, number, detail=chain.file))

    def _check_lists(self) -> None:
        """Check that every list is there and has its digest."""
        for name, findings in self._lists.items():
            self._found.lists += 1
            value = self._directory.list_digest(name) if DIGEST.fullmatch(name) else None
            if value != name:
                problem = Problem.LIST_MISSING if value is None else Problem.LIST_CHANGED
                self._found.findings += [
                    LedgerFinding(each.file, problem, each.first, each.last, each.line, each.id, detail=name)
                    for each in findings
                ]

    def _end(self, chain: Chain) -> FileEnd:
        """Up to which record a file is confirmed by others, and by signatures."""
        whole = chain.wrong.first - 1 if chain.wrong else chain.last
        anchored = (number for number in self._anchored.get(chain.file, ()) if number <= whole)
        signed = (line.number for line in chain.lines if line.held and line.number <= whole)
        return FileEnd(chain.file, len(chain.lines), max(anchored, default=0), max(signed, default=0))

    def _holds(self, last: str) -> bool:
        return any(digest.startswith(last) for chain in self._chains.values() for digest in chain.digests.values())


def _with_last(lines: Iterable[bytes]) -> Iterator[tuple[bytes, bool]]:
    """Each line, and whether it is the last one."""
    before: bytes | None = None
    for line in lines:
        if before is not None:
            yield before, False
        before = line
    if before is not None:
        yield before, True
