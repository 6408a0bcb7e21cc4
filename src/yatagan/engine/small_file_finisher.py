"""Finishing many small files at once: what is left to do for part files that are whole, by one message for hundreds.

Every file would else cost three answers and a sync of its own. The machine that they are on does it, with the same
outcome for each: proven, its facts set, and named without replacing anything.
"""

from __future__ import annotations

from collections.abc import Sequence

from yatagan.batches.states import Evidence
from yatagan.batches.steps import Step
from yatagan.engine.step_context import StepContext
from yatagan.portable.small_files import BundledFile
from yatagan.stores.coalescing import Coalesced
from yatagan.stores.interface import Extracted, machine_of

#: The largest file that is finished together with others: its contents are read in one go.
LARGEST_FINISHED = 1 << 20
#: Files in one message, and messages that are being worked on at once.
_FILES_PER_MESSAGE, _MESSAGES = 200, 2


class SmallFileFinisher:
    """Finishes many small part files by one message to the destination's machine."""

    def __init__(self, context: StepContext) -> None:
        self._session = context.session
        self._destination = context.destination
        self._requests = Coalesced(self._finish_many, _FILES_PER_MESSAGE, _MESSAGES)

    def takes(self, step: Step) -> bool:
        """Whether a step's file is small and new, and will be proven on its node."""
        able = self._session.hashes_there and not self._destination.traits.here
        proven = self._session.evidence is Evidence.ON_NODE
        return able and proven and step.seen is None and step.facts.size <= LARGEST_FINISHED

    async def finish(self, step: Step) -> Extracted:
        """Finish one part file, together with others. Raises StoreError when the connection is lost."""
        return await self._requests.ask(self._session.bundled_file(step, step.digest, step.generation))

    async def _finish_many(self, files: Sequence[BundledFile]) -> list[Extracted]:
        return await machine_of(self._destination).finish(files)
