"""Files and links that are replaced are kept under `.yatagan-kept/BATCH/` of the destination."""

from __future__ import annotations

import posixpath
from collections.abc import Collection

from yatagan.batches.steps import Step
from yatagan.engine.directories_above import DirectoriesAbove
from yatagan.engine.session import Session, StepRefused
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Facts
from yatagan.trees.kept_directories import KeptDirectories


class KeptFiles:
    """What this session's steps replace."""

    def __init__(self, session: Session, above: DirectoriesAbove) -> None:
        self._destination = session.destination
        self._directories = KeptDirectories(session.destination, session.top, session.batch.encode(), above.check)

    async def keep(self, step: Step, found: Facts) -> None:
        """Keep the link that a step is about to replace. Raises StepRefused when another one is kept already."""
        kept = await self.name_for(step)
        try:
            await self._destination.keep(step.path, kept)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
            earlier = await self._destination.look(kept)
            if earlier is None or not earlier.named_again(found):
                raise StepRefused(Fault.KEPT_TAKEN) from error
        await self._destination.sync_directory(posixpath.dirname(kept))  # before its first name goes

    def path_of(self, step: Step) -> bytes:
        """The path under which what a step has replaced is kept."""
        return self._directories.path_of(step.label)

    async def remove_empty(self, directories: Collection[bytes]) -> None:
        """Remove these directories of kept files, and those above them, as far as they are empty."""
        await self._directories.remove_empty(directories)

    async def name_for(self, step: Step) -> bytes:
        """The path under which what a step replaces is kept. Makes the directories for it."""
        return await self._directories.path_for(step.label)
