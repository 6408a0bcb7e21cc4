"""Does one step of any kind, and settles it. Directories, links and facts are done here, files by `FileWorker`."""

from __future__ import annotations

import asyncio
import posixpath
from collections.abc import Awaitable, Callable

from yatagan.batches.states import StepState
from yatagan.batches.steps import MEMBERS_PHASE, Change, Setting, Step, StepKind, TopKnown
from yatagan.engine.bundle_worker import BundleWorker
from yatagan.engine.file_worker import FileWorker
from yatagan.engine.retry import STEP_RETRIES
from yatagan.engine.session import RetryStep, StepRefused
from yatagan.engine.source_files import Clock
from yatagan.engine.step_context import StepContext
from yatagan.engine.stored_bundle_worker import StoredBundleWorker
from yatagan.errors import FileTrouble, LineLost, StoreError
from yatagan.faults import STOPPING_FAULTS, Fault
from yatagan.stores.interface import Kind
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.stopping import Stopped
from yatagan.trees.name_clashes import is_everywhere

#: What a step meets that may have befallen the whole destination.
_MAY_BE_ALL = frozenset({Fault.IS_LINK, Fault.NOT_A_DIRECTORY, Fault.ABOVE_GONE})
#: The bit by which a directory gives its group to what is made in it.
_HANDED_DOWN = 0o2000


class StepWorker:
    """Does steps; many may be under way at once."""

    def __init__(self, context: StepContext, carrier: Carrier, clock: Clock, stop: asyncio.Event) -> None:
        self._context = context
        self._destination = context.destination
        self._commits = context.commits
        self._stop = stop
        self._files = files = FileWorker(context, carrier, clock, stop)
        self._archives = StoredBundleWorker(context, carrier, clock, stop)
        self._do: dict[StepKind, Callable[[Step], Awaitable[None]]] = {
            StepKind.DIRECTORY: self._directory,
            StepKind.FILE: files.do,
            StepKind.BUNDLE: BundleWorker(context, files, stop).do,
            StepKind.ARCHIVE: self._archives.archive,
            StepKind.INDEX: self._archives.carry_index,
            StepKind.LINK: self._link,
            StepKind.FACTS: self._facts,
        }

    async def do(self, step: Step) -> None:
        """Do a step until it is settled.

        Raises StoreError when the connection is lost, the batch cannot go on, or the fault may pass; RetryStep, or
        Stopped. The journal then says how far the step came. Every other fault settles it as failed.
        """
        try:
            await self._try(step)
        except RetryStep as again:
            await self._commits.note(Change.anew(step.number, again.fault))
            raise
        except StepRefused as refused:
            await self.clear(step)
            await self._context.settle(step, StepState.FAILED, fault=refused.fault, detail=refused.detail)
        except StoreError as error:
            if isinstance(error, LineLost) or error.fault in STOPPING_FAULTS:
                raise
            strange = error.fault is Fault.REFUSED and not is_everywhere(posixpath.basename(step.path))
            explained = error.fault is Fault.REFUSED and error.detail.lower() not in ("", "failure")
            if error.fault in STEP_RETRIES and not strange and not explained:
                raise
            await self.clear(step)
            fault = Fault.NAME_REFUSED if strange else error.fault
            await self._context.settle(step, StepState.FAILED, fault=fault, detail=error.detail)

    async def _try(self, step: Step) -> None:
        """Do a step. Raises StepRefused, having looked whether what refuses it has befallen the whole destination."""
        try:
            if self._stop.is_set():
                raise Stopped
            if step.kind is not StepKind.FACTS and self._context.above.is_closed(step.path):
                raise StepRefused(Fault.WITH_DIRECTORY)
            await (self._archives.member if step.phase == MEMBERS_PHASE else self._do[step.kind])(step)
        except StepRefused as refused:
            if refused.fault in _MAY_BE_ALL:
                await self._refuse_moved()
                if self._context.journal.directory_state(posixpath.dirname(step.path)) is StepState.FAILED:
                    raise StepRefused(Fault.WITH_DIRECTORY) from refused
            if refused.fault is Fault.ABOVE_GONE:
                raise await self._gone_above(step) from refused
            raise

    async def clear(self, step: Step) -> None:
        """Remove the part files of a step that has failed for good. Raises StoreError when the connection is lost."""
        await self._files.parts.remove(self._context.journal.step(step.number), with_present=True)

    async def _refuse_moved(self) -> None:
        """Raise StoreError, DESTINATION_MOVED, if another directory has the destination's name by now."""
        top = self._context.session.top
        if await self._destination.is_real(top, top):
            return
        try:
            gone = await self._destination.look(top) is None
        except FileTrouble:
            gone = False
        if not gone:
            raise StoreError(Fault.DESTINATION_MOVED, top, store=self._destination.name)

    async def _gone_above(self, step: Step) -> StepRefused:
        """Say why the directory above a step is missing.

        Raises StoreError, DESTINATION_GONE, if it was made before; RetryStep if it is there after all.
        """
        directory = step.path if step.kind is StepKind.FACTS else posixpath.dirname(step.path)
        found = await self._destination.look(directory)
        if found is not None and found.kind is Kind.DIRECTORY:
            if not is_everywhere(posixpath.basename(step.path)):
                return StepRefused(Fault.NAME_REFUSED)  # what cannot be made in it is this name
            raise RetryStep(Fault.ABOVE_GONE)
        if self._context.journal.directory_state(directory) is StepState.FAILED:
            self._context.above.close(directory, Fault.ABOVE_GONE)
            return StepRefused(Fault.WITH_DIRECTORY)
        raise StoreError(Fault.DESTINATION_GONE, directory, store=self._destination.name)

    async def _directory(self, step: Step) -> None:
        await self._context.above.check(step.path)
        tried_before = step.state is StepState.MOVING
        await self._commits.note(Change(step.number, state=StepState.MOVING))
        try:
            with self._context.above.making(step.path):
                await self._destination.make_directory(step.path, self._context.session.directory_mode(step.facts))
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
            found = await self._destination.look(step.path)
            if found is not None and found.kind is not Kind.DIRECTORY:
                raise StepRefused(Fault.KIND_IN_THE_WAY, found.kind.value) from error
            if found is None:
                raise StepRefused(Fault.APPEARED) from error
            await self._context.above.refuse_clash(step.path)
            # Made by our own earlier try, or by another program: then it keeps its facts.
            if tried_before:
                await self._context.sync_name(step.path)
            await self._context.settle(step, StepState.IN_PLACE if tried_before else StepState.LEFT)
            return
        # A directory that a power cut takes away would pass for one that was moved.
        await self._context.sync_name(step.path)
        if step.path == self._context.session.top:
            await self._note_top(step)
        await self._context.settle(step, StepState.IN_PLACE)

    async def _note_top(self, step: Step) -> None:
        """Note which directory the destination is, now that it is made."""
        found = await self._destination.look_closely(step.path)
        if found is not None and found.inode is not None:
            await self._commits.note(TopKnown(found.inode))

    async def _facts(self, step: Step) -> None:
        """Set mode and times: of a directory that this batch made, or of what was there already."""
        if step.setting is not Setting.MADE:
            await self._facts_there(step)
            return
        if self._context.journal.step(step.number - 1).state is not StepState.IN_PLACE:
            await self._context.settle(step, StepState.LEFT)
            return
        await self._context.above.check(posixpath.join(step.path, b"."))
        found = await self._destination.look(step.path)
        # A directory made in one whose group is handed down hands it down too: that bit is not ours to take.
        await self._context.set_directory_facts(step, also=found.mode & _HANDED_DOWN if found is not None else 0)
        await self._context.settle(step, StepState.IN_PLACE)

    async def _facts_there(self, step: Step) -> None:
        """Set what differs of a file or directory that was there. What is refused is a note, and left."""
        await self._context.above.check(step.path)
        found = await self._destination.look(step.path)
        if found is None:
            raise StepRefused(Fault.GONE_THERE)
        is_file = step.facts.kind is Kind.FILE
        if found.kind is not step.facts.kind or (is_file and step.seen is not None and found.size != step.seen.size):
            raise StepRefused(Fault.APPEARED)
        refused = await self._context.set_facts_there(step, found)
        if refused is not None and step.setting is Setting.DIFFER:
            await self._context.settle(step, StepState.LEFT, fault=refused)
        else:
            await self._context.settle(step, StepState.IN_PLACE)

    async def _link(self, step: Step) -> None:
        await self._context.above.check(step.path)
        assert step.target is not None
        await self._commits.note(Change(step.number, state=StepState.MOVING))
        found = await self._destination.look(step.path)
        seen_by_plan = found is not None and step.seen is not None and found.same_as(step.seen)
        if found is not None and seen_by_plan and not await self._points_to(step.path, step.target):
            await self._context.kept.keep(step, found)
            if await self._destination.look(step.path) is not None:
                await self._destination.remove(step.path)
        try:
            with self._context.above.making(step.path):
                await self._destination.make_link(step.path, step.target)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
            await self._context.above.refuse_clash(step.path)
            if not await self._points_to(step.path, step.target):
                raise StepRefused(Fault.APPEARED) from error
        if not self._destination.traits.names_last:
            self._context.unsynced.add(posixpath.dirname(step.path))
        await self._context.settle(step, StepState.IN_PLACE)

    async def _points_to(self, path: bytes, target: bytes) -> bool:
        found = await self._destination.look(path)
        return found is not None and found.kind is Kind.LINK and await self._destination.read_link(path) == target
