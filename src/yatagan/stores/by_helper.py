"""What the helper does for a store of a node: what SFTP cannot tell, or not of hundreds of files at once."""

from __future__ import annotations

import functools
from base64 import b64decode
from collections.abc import Callable, Coroutine, Sequence
from typing import Any, Concatenate, ParamSpec, TypeVar

from yatagan.errors import LINE_FAULTS, Fault, StoreError
from yatagan.nodes.helper import Helper
from yatagan.portable.block_sums import Blocks, Match
from yatagan.portable.small_files import BundledFile
from yatagan.stores.interface import Digested, Extracted, Facts, NodeBlocks, Placement, SmallFile
from yatagan.stores.sftp_file import Ask
from yatagan.stores.system_errors import (
    digested,
    facts_from_list,
    facts_to_list,
    gathered,
    known_facts,
    placing_fault,
    unloaded,
)

#: What it learns to find what a file has of another.
_CHANGES = ("yatagan.portable.block_sums", "yatagan.portable.changed_parts")


P = ParamSpec("P")
T = TypeVar("T")


def _sound(
    method: Callable[Concatenate[ByHelper, P], Coroutine[Any, Any, T]],
) -> Callable[Concatenate[ByHelper, P], Coroutine[Any, Any, T]]:
    """A method that reads an answer of the helper, which may hold anything: what makes no sense is our own error."""

    async def reading(self: ByHelper, *args: P.args, **kwargs: P.kwargs) -> T:
        try:
            return await method(self, *args, **kwargs)
        except (KeyError, IndexError, TypeError, ValueError, AttributeError, OverflowError) as error:
            detail = f"the helper's, to {method.__name__}"
            raise StoreError(Fault.NONSENSE, store=self._store, detail=detail) from error

    return functools.update_wrapper(reading, method)  # type: ignore[return-value]


class ByHelper:
    """Questions of a store to its helper, if there is one; see the methods of `Store` that have these names.

    Without a helper each raises StoreError, UNSUPPORTED.
    """

    def __init__(self, helper: Helper | None, ask: Ask, store: str) -> None:
        self._helper = helper
        self._line = ask
        self._store = store

    def __bool__(self) -> bool:
        return self._helper is not None

    def can_hash(self, algorithm: str) -> bool:
        """Whether it knows this digest."""
        return self._helper is not None and algorithm in self._helper.greeting["algorithms"]

    async def ask(
        self, what: str, path: bytes = b"", *, about: bytes = b"", writing: bool = False, **values: Any
    ) -> dict[str, Any]:
        """One question, of a `path` if it is of one, and its answer. `about`: what an error then names."""
        about = path or about
        if self._helper is None:
            raise StoreError(Fault.UNSUPPORTED, about, store=self._store)
        return await self._line(self._helper.ask(what, path, **values), about, writing=writing)

    async def work(self, modules: tuple[str, ...], what: str, path: bytes, values: dict[str, Any]) -> dict[str, Any]:
        """One question for which it learns something first."""
        if self._helper is None:
            raise StoreError(Fault.UNSUPPORTED, path, store=self._store)
        await self._line(self._helper.learn(modules), b"")
        return await self.ask(what, path, writing=True, **values)

    @_sound
    async def clock_ns(self) -> int:
        """What its machine takes the time to be."""
        return int((await self.ask("clock"))["clock_ns"])

    @_sound
    async def look(self, path: bytes) -> Facts | None:
        """Facts in nanoseconds; None where it cannot tell."""
        try:
            return facts_from_list((await self.ask("look", path))["facts"])
        except StoreError as error:
            if error.fault in LINE_FAULTS:
                raise
            return None

    @_sound
    async def digests(self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str) -> list[Digested]:
        """See `Store.digests`."""
        if not self.can_hash(algorithm):
            raise StoreError(Fault.UNSUPPORTED, store=self._store)
        spelled = [[path.decode("latin-1"), facts_to_list(facts)] for path, facts in files]
        about = files[0][0] if len(files) == 1 else b""
        reply = await self.ask("digests", about=about, files=spelled, algorithm=algorithm)
        return _as_many(files, [digested(*each) for each in reply["files"]])

    @_sound
    async def blocks(self, path: bytes, block: int) -> NodeBlocks:
        """See `Store.blocks`. The file must hold still while it is read."""
        reply = await self.work(_CHANGES, "blocks", path, {"block": block})
        facts = facts_from_list(reply["facts"])
        made = Blocks(facts.size, block, b64decode(reply["rolling"]), b64decode(reply["other"]))
        if reply["before"] != reply["facts"] or not made.fit:
            raise StoreError(Fault.SOURCE_CHANGED, path, store=self._store)
        return NodeBlocks(made, facts)

    @_sound
    async def reuse(self, old: bytes, part: bytes, runs: Sequence[Match]) -> list[bool]:
        """See `Store.reuse`."""
        values = {"part": part.decode("latin-1"), "runs": runs}
        return _as_many(runs, [bool(each) for each in (await self.work(_CHANGES, "reuse", old, values))["good"]])

    @_sound
    async def gather(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        """See `Store.gather`."""
        reply = await self.ask("gather", paths=[path.decode("latin-1") for path in paths], most=most)
        return _as_many(paths, [gathered(outcome, b64decode(data), found) for outcome, data, found in reply["files"]])

    @_sound
    async def unload(self, bundle: bytes, parcels: Sequence[BundledFile]) -> list[Extracted]:
        """See `Store.unload`."""
        reply = await self.ask("unload", bundle, writing=True, parcels=[_spelled(each) for each in parcels])
        return _as_many(parcels, [unloaded(*outcome) for outcome in reply["outcomes"]])

    @_sound
    async def place(self, placements: Sequence[Placement]) -> list[tuple[Fault | None, Fault | None]]:
        """Give part files their names by directory handles: why not, and why facts stay unset, for each."""
        spelled = [
            [
                each.part.decode("latin-1"),
                each.path.decode("latin-1"),
                each.size,
                known_facts(each.known),
                each.mode,
                each.mtime_ns,
                known_facts(each.seen),
                each.kept.decode("latin-1"),
            ]
            for each in placements
        ]
        reply = await self.ask("place", writing=True, placings=spelled)
        outcomes = [
            (placing_fault(error) if error else None, placing_fault(unset) if unset else None)
            for error, unset in reply["outcomes"]
        ]
        return _as_many(placements, outcomes)

    @_sound
    async def finish(self, parcels: Sequence[BundledFile]) -> list[Extracted]:
        """See `Store.finish`."""
        reply = await self.ask("finish", writing=True, parcels=[_spelled(each) for each in parcels])
        return _as_many(parcels, [unloaded(*outcome) for outcome in reply["outcomes"]])


def _as_many(asked: Sequence[object], answers: list[T]) -> list[T]:
    """The answers, as many as were asked for. Raises ValueError."""
    if len(asked) != len(answers):
        raise ValueError("not as many answers as questions")
    return answers


def _spelled(parcel: BundledFile) -> list[Any]:
    """A parcel as the helper reads it."""
    return [
        [name.decode("latin-1") for name in value]
        if isinstance(value, tuple)
        else value.decode("latin-1")
        if isinstance(value, bytes)
        else value
        for value in parcel
    ]
