"""The worker for directories that are stored as bundles: they are made here, then carried like any file.

A bundle waits in the batch's own directory until it is in place. So what has arrived of it need not be made or sent
again, and its contents are of one moment however often the connection is lost. Making it while it is sent would save
the disk space, but part of it would then depend on a directory that may change. Its entries keep steps of their own,
which are settled with it.
"""

from __future__ import annotations

import asyncio
import os
import posixpath
from collections.abc import Coroutine, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yatagan.batches.events import BundleMade, StepSettled
from yatagan.batches.states import SETTLED, Evidence, StepState
from yatagan.batches.steps import Change, Step, StepKind
from yatagan.bundles.stored_bundle import ENDING
from yatagan.engine.file_worker import FileWorker
from yatagan.engine.session import RetryStep, StepRefused
from yatagan.engine.source_files import Clock
from yatagan.engine.step_context import StepContext
from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.portable import index
from yatagan.stores.interface import Kind
from yatagan.stores.local import LocalStore
from yatagan.stores.system_errors import SYSTEM_FAULTS, facts_of, fault_of
from yatagan.transfer.carrier import Carrier
from yatagan.transfer.stopping import Stopped

if TYPE_CHECKING:  # what makes archives is imported when one is made
    from yatagan.bundles.make import BundleContents

#: Members that are settled together.
_STEPS_PER_COMMIT = 500


class _Spool(LocalStore):
    """Bundles that wait here: only we write them, so none is ever too new to be read."""

    async def clock_ns(self) -> int | None:
        return None


class StoredBundleWorker:
    """Makes bundles, carries them and their indexes, and settles their entries."""

    def __init__(self, context: StepContext, carrier: Carrier, clock: Clock, stop: asyncio.Event) -> None:
        self._context = context
        self._commits = context.commits
        self._stop = stop
        self._spool = _Spool(b"/")
        self._settling = asyncio.Lock()
        self._settled: set[int] = set()
        session = replace(context.session, source=self._spool)
        self._files = FileWorker(
            StepContext(session, context.journal, context.commits, context.tell), carrier, clock, stop
        )

    async def archive(self, step: Step) -> None:
        """Make a bundle of a directory and carry it. Raises as `StepWorker.do` does."""
        bundle = self._spooled(step)
        members = self._context.journal.members(step.number)
        size = sum(each.facts.size for each in members if each.kind is StepKind.FILE)
        if not (bundle.exists() and _index_of(bundle).exists()):
            await self._make(step, bundle, members, size)
        self._context.tell(BundleMade(step.number, step.label, size, size))
        await self._files.do(replace(step, source=os.fsencode(bundle)))
        try:
            async with self._settling:
                await self._settle_members(self._context.journal.step(step.number))
            bundle.unlink(missing_ok=True)
            # At once, since without it the bundle stands for nothing.
            await self.carry_index(self._context.journal.step(step.number + 1))
        except (StepRefused, RetryStep):
            pass  # what has not come with the bundle has a turn of its own, which will tell
        except FileTrouble:
            pass

    async def carry_index(self, step: Step) -> None:
        """Carry the index of a bundle that is in place."""
        step = self._context.journal.step(step.number)
        if step.state in SETTLED:
            return
        archive = self._context.journal.step(step.number - 1)
        if archive.state not in (StepState.IN_PLACE, StepState.LEFT):
            await self._context.settle(step, StepState.LEFT)
            return
        await self._files.do(replace(step, source=os.fsencode(_index_of(self._spooled(archive)))))

    async def member(self, step: Step) -> None:
        """Settle an entry whose bundle failed or was left out."""
        archive = self._context.journal.step(step.bundle)
        async with self._settling:  # the first to come does it for all
            if archive.number not in self._settled:
                await self._settle_members(archive)
        if self._context.journal.step(step.number).state is StepState.WAITING:
            raise StepRefused(Fault.NOT_IN_BUNDLE)

    def _spooled(self, archive: Step) -> Path:
        # The store of this machine enters no link, and the way to a home may well be one.
        return Path(os.path.realpath(self._context.journal.spool)) / f"{archive.number}{ENDING.decode()}"

    # -- making --------------------------------------------------------------------------------------------

    async def _make(self, step: Step, bundle: Path, members: Sequence[Step], size: int) -> None:
        """Make the bundle and its index from what is still there of the planned entries."""
        from yatagan.archives.compression import LEVELS, Form
        from yatagan.bundles.make import Recipe, make
        from yatagan.portable.tar_input import HeaderOptions

        try:
            bundle.parent.mkdir(exist_ok=True, mode=0o700)
            parts = bundle.parent.glob(f".*{self._run(step)}-*")
            for left in (bundle, _index_of(bundle), *parts):  # of a process that was killed
                left.unlink(missing_ok=True)
        except OSError as error:
            raise fault_of(error, os.fsencode(bundle)) from error
        contents, missing = await asyncio.to_thread(self._contents, step, members)
        if missing and step.seen is not None:
            raise StepRefused(Fault.WOULD_LOSE, missing[0][0].label.decode("utf-8", "surrogateescape"))
        for member, fault in missing:
            if member.state is StepState.WAITING:
                await self._context.settle(member, StepState.FAILED, fault=fault)
        loop, done = asyncio.get_running_loop(), 0

        def progress(files: int, more: int) -> None:
            nonlocal done
            done += more
            loop.call_soon_threadsafe(self._context.tell, BundleMade(step.number, step.label, done, size))

        recipe = Recipe(Form.ZSTD, LEVELS[Form.ZSTD][1], HeaderOptions(), os.cpu_count() or 1, self._run(step))
        stands_for = posixpath.basename(step.path).removesuffix(ENDING)
        making = make(self._spool, os.fsencode(bundle), contents, recipe, progress, stands_for)
        try:
            await self._unless_stopped(making)
        except StoreError as error:
            if error.fault is Fault.SOURCE_CHANGED:
                raise RetryStep(Fault.SOURCE_CHANGED) from error
            if error.fault is Fault.NO_SPACE:
                raise StoreError(Fault.NO_SPACE_HERE, os.fsencode(bundle)) from error
            raise

    def _run(self, step: Step) -> str:
        return f"{self._context.session.batch}-{step.number}"

    async def _unless_stopped(self, making: Coroutine[Any, Any, object]) -> None:
        """Run work in a thread; raise Stopped when a stop is asked for."""
        task, stopping = asyncio.ensure_future(making), asyncio.ensure_future(self._stop.wait())
        try:
            await asyncio.wait((task, stopping), return_when=asyncio.FIRST_COMPLETED)
            if not task.done():
                raise Stopped
            task.result()
        finally:
            stopping.cancel()
            if not task.done():
                task.cancel()
                await asyncio.wait((task,))

    @staticmethod
    def _contents(step: Step, members: Sequence[Step]) -> tuple[BundleContents, list[tuple[Step, Fault]]]:
        """What goes into the bundle, and the entries that are no longer there."""
        from yatagan.bundles.make import BundleContents

        contents, missing = BundleContents(), []
        for member in members:
            try:
                facts = facts_of(os.lstat(member.source))
            except OSError as error:
                missing.append((member, SYSTEM_FAULTS.get(error.errno or 0, Fault.REFUSED)))
                continue
            if facts.kind is not member.facts.kind:
                missing.append((member, Fault.SOURCE_CHANGED))
            elif facts.kind is Kind.FILE and not os.access(member.source, os.R_OK):
                missing.append((member, Fault.DENIED))
            else:
                contents.add_one(_inside(step, member), member.source, facts)
        return contents, missing

    # -- settling ------------------------------------------------------------------------------------------

    async def _settle_members(self, archive: Step) -> None:
        """Settle the entries of a bundle with it: in place, or failed."""
        waiting = [each for each in self._context.journal.members(archive.number) if each.state is StepState.WAITING]
        if archive.state is StepState.FAILED:
            await self._settle(
                [Change(each.number, state=StepState.FAILED, fault=Fault.WITH_BUNDLE) for each in waiting], waiting
            )
            self._settled.add(archive.number)
            return
        digests = await asyncio.to_thread(_digests, _index_of(self._spooled(archive)))
        held = [(each, digests[inside]) for each in waiting if (inside := _inside(archive, each)) in digests]
        await self._settle(
            [
                Change(each.number, state=archive.state, evidence=_evidence(archive, each), digest=digest)
                for each, digest in held
            ],
            [each for each, _ in held],
        )
        self._settled.add(archive.number)

    async def _settle(self, changes: Sequence[Change], members: Sequence[Step]) -> None:
        """Journal the outcomes of many entries, then tell them."""
        for at in range(0, len(changes), _STEPS_PER_COMMIT):
            some = changes[at : at + _STEPS_PER_COMMIT]
            await self._commits.note(*some)
            for change, each in zip(some, members[at : at + _STEPS_PER_COMMIT], strict=True):
                assert change.state is not None
                size = each.facts.size if each.kind is StepKind.FILE else 0
                told = each.number, each.kind, each.label, size, change.state, change.evidence, change.fault, ""
                self._context.tell(StepSettled(*told))


def _index_of(bundle: Path) -> Path:
    return bundle.with_name(bundle.name + index.SUFFIX.decode())


def _inside(archive: Step, member: Step) -> bytes:
    """An entry's name in a bundle: it begins with that of the directory."""
    above = posixpath.dirname(archive.label)
    return member.label[len(above) + 1 :] if above else member.label


def _evidence(archive: Step, member: Step) -> Evidence | None:
    """How an entry is proven: a file as its bundle is; links and directories have no contents."""
    return archive.evidence if member.kind is StepKind.FILE else None


def _digests(index_file: Path) -> dict[bytes, str]:
    """The members of a bundle that we made, with the digests of its files; empty once the batch is done with it."""
    if not index_file.exists():
        return {}
    try:
        stream = index_file.open("rb")
    except OSError as error:
        raise fault_of(error, os.fsencode(index_file)) from error
    with stream:
        return {line.member.name: line.digest for line in index.read_lines(each.rstrip(b"\n") for each in stream)}
