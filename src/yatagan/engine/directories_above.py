"""The directories above what a step writes: still real, not closed to us, and each looked at once for many steps."""

from __future__ import annotations

import asyncio
import posixpath
from collections.abc import Iterator
from contextlib import contextmanager

from yatagan.engine.session import StepRefused
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.places import holds
from yatagan.stores.coalescing import Shared
from yatagan.stores.interface import Kind, Store
from yatagan.trees.name_clashes import spelled_there

#: Faults of giving a name in a directory that all else in that directory would meet as well, and of making something.
_NAMING_FAULTS = frozenset({Fault.IS_LINK, Fault.NOT_A_DIRECTORY})
_MAKING_FAULTS = _NAMING_FAULTS | {Fault.DENIED, Fault.READ_ONLY}
#: Seconds for which a look at a directory is recent.
_RECENT = 1.0


class DirectoriesAbove:
    """Directories of one session's destination. Raises StepRefused for what makes a step impossible."""

    def __init__(self, destination: Store, top: bytes) -> None:
        self._destination = destination
        self._top = top
        self._above = Shared(self._look_above)
        #: When directories were last found to be real ones.
        self._looked: dict[bytes, float] = {}
        #: Directories into which nothing can be written, and why.
        self._closed: dict[bytes, Fault] = {}

    async def check(self, path: bytes, *, recently: bool = False) -> None:
        """Check that the directories from the top down to this path are real, and none has become a link.

        Raises StepRefused. A store that never follows a link refuses by itself. `recently`: a look within the last
        second will do, as before a part file is created: its directory is looked at again when it gets its name.
        """
        if self._destination.traits.walks:
            return
        directory, now = posixpath.dirname(path), asyncio.get_running_loop().time()
        if not (recently and now - self._looked.get(directory, -_RECENT) < _RECENT):
            await self._above.ask(directory)
            self._looked[directory] = now

    def is_closed(self, path: bytes) -> bool:
        """Whether nothing can be written in a directory above a path, as an earlier step found."""
        while self._closed and (above := posixpath.dirname(path)) != path:
            if above in self._closed:
                return True
            path = above
        return False

    async def refuse_clash(self, path: bytes) -> None:
        """Raise StepRefused if what has the name is spelled differently, on a disk that ignores case."""
        other = await spelled_there(self._destination, path)
        if other is not None:
            self._closed[path] = Fault.NAME_CLASH
            raise StepRefused(Fault.NAME_CLASH, other.decode("utf-8", "surrogateescape"))

    def close(self, directory: bytes, fault: Fault) -> StepRefused:
        """Note that nothing can be written in a directory. Returns what to raise; the first step gives the reason."""
        if self.is_closed(posixpath.join(directory, b"any")):
            return StepRefused(Fault.WITH_DIRECTORY)
        self._closed[directory] = fault
        return StepRefused(fault, f"in {directory.decode('utf-8', 'surrogateescape')}")

    @contextmanager
    def making(self, path: bytes, *, named_only: bool = False) -> Iterator[None]:
        """While something is made at a path, or with `named_only` gets its name there.

        Raises StepRefused for errors that come from the directory above, which is closed to other steps then.
        """
        try:
            yield
        except StoreError as error:
            if error.fault in (_NAMING_FAULTS if named_only else _MAKING_FAULTS):
                raise self.close(posixpath.dirname(path), error.fault) from error
            if error.fault is Fault.MISSING:
                raise StepRefused(Fault.ABOVE_GONE) from error
            raise

    async def _look_above(self, directory: bytes) -> None:
        # Directories that are made above the destination itself are only looked at one by one.
        top = self._top if holds(self._top, directory) else directory
        if await self._destination.is_real(directory, top):
            return
        for above in _down_to(top, directory):
            found = await self._destination.look(above)
            if found is None:
                raise StepRefused(Fault.ABOVE_GONE)
            if found.kind is not Kind.DIRECTORY:
                fault = Fault.IS_LINK if found.kind is Kind.LINK else Fault.NOT_A_DIRECTORY
                raise self.close(above, fault)
        raise self.close(directory, Fault.IS_LINK)


def _down_to(top: bytes, directory: bytes) -> list[bytes]:
    """The directories from the top to one below it."""
    found = [directory]
    while found[-1] != top and len(found[-1]) > 1:
        found.append(posixpath.dirname(found[-1]))
    return found[::-1]
