"""Files and links that are replaced are kept under `.yatagan-kept/BATCH/` of the destination."""

from __future__ import annotations

import posixpath

from yatagan.batches.steps import Step
from yatagan.engine.directories_above import DirectoriesAbove
from yatagan.engine.session import Session, StepRefused
from yatagan.errors import Fault, StoreError
from yatagan.places import KEPT_DIRECTORY
from yatagan.stores.interface import Facts


class KeptFiles:
    """What this session's steps replace."""

    def __init__(self, session: Session, above: DirectoriesAbove) -> None:
        self._session = session
        self._destination = session.destination
        self._above = above
        #: Directories for kept files that exist.
        self._made: set[bytes] = set()

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

    async def name_for(self, step: Step) -> bytes:
        """The path under which what a step replaces is kept. Makes the directories for it."""
        kept = posixpath.join(self._session.top, KEPT_DIRECTORY, self._session.batch.encode(), step.label)
        await self._make_directories(posixpath.dirname(kept))
        return kept

    async def _make_directories(self, path: bytes) -> None:
        if path == self._session.top or path in self._made:
            return
        await self._make_directories(posixpath.dirname(path))
        await self._above.check(path)
        try:
            await self._destination.make_directory(path, 0o700)
        except StoreError as error:
            if error.fault is not Fault.EXISTS:
                raise
        self._made.add(path)
