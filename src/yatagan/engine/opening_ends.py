"""Opens both ends of a batch, and checks that they are those that were meant before anything is written."""

from __future__ import annotations

import contextlib

from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header
from yatagan.batches.states import Evidence
from yatagan.batches.steps import token_path
from yatagan.bundles.see_through import SeeThrough
from yatagan.engine.destination import look_at_destination, make_again, set_facts_again
from yatagan.engine.run_trouble import RunTrouble
from yatagan.engine.session import Session, evidence_for
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Readable, Source, Store
from yatagan.transfer.extents import Extents


class Opening:
    """Opens the ends of one batch, as often as a connection is lost.

    `room_first`: after a full disk only where all that is left will fit, as far as the disk tells.
    """

    def __init__(self, journal: Journal, ends: tuple[Source, Source], trouble: RunTrouble, *, room_first: bool) -> None:
        self._journal = journal
        self._header: Header = journal.header()
        self._ends = ends
        self._trouble = trouble
        self._room_first = room_first

    async def open(self) -> tuple[Readable, Store, bool]:
        """Open both, and whether commands there see the disk that is written to.

        Raises CannotReach, and StoreError where they are not what was meant. Whatever goes wrong, nothing stays open.
        """
        async with contextlib.AsyncExitStack() as opened:
            left = self._journal.size_left()
            # What is to be carried may be in a bundle that stands for its directory.
            source = SeeThrough(await self._ends[0].open())
            opened.push_async_callback(close_quietly, source)
            destination = await self._ends[1].open()
            opened.push_async_callback(close_quietly, destination)
            limited = bool(self._header.max_rate or source.max_rate or destination.max_rate)
            source.expect(left, limited=limited)  # soon, because lanes take a while to open
            destination.expect(left, limited=limited)
            await self._look_at_destination(destination)  # before anything is written there
            await self._refuse_without_room(destination, left)
            hashes_there = await self._hashes_there(destination)
            self._keep_promise(source, destination, hashes_there)
            opened.pop_all()
        return source, destination, hashes_there

    def session(self, source: Readable, destination: Store, hashes_there: bool) -> Session:
        """Begin a session with open ends, in the journal too."""
        number = self._journal.new_session(destination.witness())
        pins = {name: address for end in self._ends for name, address in end.pins().items()}
        if pins and pins != self._journal.standing().pins:
            self._journal.pin(pins)
        header = self._header
        asked = header.prove, header.modes, header.times
        return Session(number, header.id, header.destination, *asked, source, destination, hashes_there)

    def max_rate(self, source: Readable, destination: Store) -> int | None:
        """The lowest limit of bytes a second, of the batch and of both ends."""
        return min((cap for cap in (self._header.max_rate, source.max_rate, destination.max_rate) if cap), default=None)

    async def _refuse_without_room(self, destination: Store, left: int) -> None:
        """Raise StoreError, NO_SPACE, where a disk that was full has no room for what is left."""
        if not (self._trouble.was_full and self._room_first):
            return
        await self._trouble.look_at_space(destination, self._header.destination)
        safe = sum(Extents.decode(step.durable).total for step in self._journal.begun())
        if self._trouble.free is not None and self._trouble.free < left - safe:
            raise StoreError(Fault.NO_SPACE, self._header.destination, store=destination.name)

    def _keep_promise(self, source: Readable, destination: Store, hashes_there: bool) -> None:
        """Raise StoreError if files can no longer be proven as the plan said."""
        promised = self._header.promised
        evidence = evidence_for(self._header.prove, source, destination, hashes_there)
        if promised is None or not promised.is_proof:
            return
        near = not self._header.destination_node
        if not evidence.is_proof or (promised is evidence is Evidence.ON_NODE and not (hashes_there or near)):
            fault = Fault.OTHER_DISK if destination.machine is not None else Fault.NO_PROOF
            raise StoreError(fault, self._header.destination, store=destination.name)

    async def _look_at_destination(self, destination: Store) -> None:
        """Check the destination, or make it again if that was asked for. Raises StoreError."""
        if self._journal.standing().make_again:
            await make_again(self._journal, destination, self._header.destination)
        await look_at_destination(self._journal, destination, self._header.destination)
        if self._trouble.was_elsewhere:
            set_facts_again(self._journal)
            self._trouble.was_elsewhere = False

    async def _hashes_there(self, destination: Store) -> bool:
        """Whether the destination's commands see the disk that its store writes to; checked once a session."""
        machine = destination.machine
        if machine is None:
            return False
        top = self._header.destination
        while (await destination.look(top)) is None and len(top) > 1:
            top = top.rpartition(b"/")[0] or b"/"
        try:
            # The name is the batch's own, so that one left behind by a killed process is found again.
            return await machine.same_disk(token_path(top, self._header.id))
        except FileTrouble as error:
            if error.fault is Fault.NO_SPACE:  # not even for a token: nothing is shown by that but a full disk
                await self._trouble.look_at_space(destination, top)
                raise
            if error.fault not in (Fault.DENIED, Fault.READ_ONLY):
                return False
            # Nothing can be written just there: then what both say of that directory must do.
            found = await destination.look_closely(top)
            return found is not None and found.inode is not None


async def close_quietly(store: Readable) -> None:
    """Close a store; a connection that is gone is closed already."""
    with contextlib.suppress(StoreError):
        await store.close()
