"""A node as a machine, through the helper: what SFTP cannot do at all, or not for hundreds of files at once."""

from __future__ import annotations

import functools
import secrets
from base64 import b64decode
from collections.abc import Callable, Coroutine, Sequence
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar

from yatagan.errors import FileTrouble, LineLost, StoreError
from yatagan.faults import Fault
from yatagan.nodes.helper import Helper
from yatagan.portable.block_sums import Blocks, Match
from yatagan.portable.modules import DELTA
from yatagan.portable.small_files import BundledFile
from yatagan.stores.coalescing import Coalesced
from yatagan.stores.interface import (
    Digested,
    Extracted,
    Facts,
    NodeBlocks,
    NodeDigest,
    Placement,
    SmallFile,
    Values,
    Writer,
)
from yatagan.stores.sftp_file import Ask
from yatagan.stores.system_errors import (
    SYSTEM_FAULTS,
    digested,
    extracted,
    facts_from_list,
    facts_to_list,
    known_facts,
    placing_fault,
    small_file,
)

#: Part files that are given their names by one message.
_PLACED_TOGETHER = 200

P = ParamSpec("P")
T = TypeVar("T")


class Files(Protocol):
    """The part of the store that is needed to see whether commands see its files."""

    name: str

    async def look(self, path: bytes) -> Facts | None:
        pass

    async def create_part(self, path: bytes, mode: int = 0o600) -> Writer:
        pass

    async def remove(self, path: bytes) -> None:
        pass


def _parsed(
    method: Callable[Concatenate[HelperMachine, P], Coroutine[Any, Any, T]],
) -> Callable[Concatenate[HelperMachine, P], Coroutine[Any, Any, T]]:
    """A method that parses an answer of the helper, which may hold anything. Raises StoreError, NONSENSE."""

    async def parsing(self: HelperMachine, *args: P.args, **kwargs: P.kwargs) -> T:
        try:
            return await method(self, *args, **kwargs)
        except (KeyError, IndexError, TypeError, ValueError, AttributeError, OverflowError) as error:
            detail = f"the helper's, to {method.__name__}"
            raise StoreError(Fault.NONSENSE, store=self._files.name, detail=detail) from error

    return functools.update_wrapper(parsing, method)  # type: ignore[return-value]


class HelperMachine:
    """See `Machine`. `ask` sends a request over the store's connection; `files` is the store.

    `disk_is_same`: commands were seen to work on the disk that the store shows, so that the helper may be trusted with
    what a batch writes.
    """

    def __init__(self, helper: Helper, ask: Ask, files: Files) -> None:
        self._helper = helper
        self._request = ask
        self._files = files
        self._placing = Coalesced(self._place_many, _PLACED_TOGETHER, 2)
        self.disk_is_same = False

    async def ask(
        self, what: str, path: bytes = b"", *, about: bytes = b"", writing: bool = False, **values: Any
    ) -> Values:
        """Ask the helper one thing, of a `path` if it is of one. An error names that, or `about`."""
        return await self._request(self._helper.ask(what, path, **values), path or about, writing=writing)

    async def run(self, modules: tuple[str, ...], what: str, path: bytes, values: Values) -> Values:
        await self._request(self._helper.learn(modules), b"")
        return await self.ask(what, path, writing=True, **values)

    @_parsed
    async def clock_ns(self) -> int:
        """The time of the node's clock, in nanoseconds since the epoch."""
        return int((await self.ask("clock"))["clock_ns"])

    @_parsed
    async def look(self, path: bytes) -> Facts | None:
        """Facts with times in nanoseconds; None where the helper cannot tell."""
        try:
            return facts_from_list((await self.ask("look", path))["facts"])
        except FileTrouble:
            return None

    @_parsed
    async def look_in(self, path: bytes, names: Sequence[bytes]) -> list[Facts | None]:
        """The same for names in a directory."""
        reply = await self.ask("look_in", path, names=[name.decode("latin-1") for name in names])
        return _as_many(names, [facts_from_list(each) if each else None for each in reply["facts"]])

    @_parsed
    async def set_facts(self, path: bytes, mode: int | None, mtime_ns: int | None) -> None:
        """Set mode and time of a file or directory, never through a link. Raises StoreError."""
        unset = int((await self.ask("set", path, writing=True, mode=mode, mtime_ns=mtime_ns))["unset"])
        if unset:
            raise StoreError(SYSTEM_FAULTS.get(unset, Fault.REFUSED), path, store=self._files.name)

    async def digest(self, path: bytes, algorithm: str, seen: Facts | None = None) -> NodeDigest:
        """The file must hold still while it is read."""
        (made,) = await self.digests([(path, None)], algorithm)
        if made.facts is None:
            if made.fault is Fault.MISSING and await self._files.look(path) is not None:
                raise StoreError(Fault.OTHER_DISK, path, store=self._files.name)
            raise StoreError(made.fault or Fault.REFUSED, path, store=self._files.name)
        if not self.disk_is_same and not (seen is not None and seen.same_as(made.facts)):
            found = await self._files.look(path)
            if found is None or not found.same_as(made.facts):
                raise StoreError(Fault.OTHER_DISK, path, store=self._files.name)
        return NodeDigest(made.digest, made.facts)

    @_parsed
    async def digest_start(self, path: bytes, size: int, algorithm: str) -> NodeDigest:
        if algorithm not in self._helper.greeting["algorithms"]:
            raise StoreError(Fault.UNSUPPORTED, path, store=self._files.name)
        made = digested(*(await self.ask("digest_start", path, size=size, algorithm=algorithm))["made"])
        if made.facts is None:
            raise StoreError(made.fault or Fault.REFUSED, path, store=self._files.name)
        if not self.disk_is_same:
            found = await self._files.look(path)
            if found is None or not found.grown_from(made.facts):
                raise StoreError(Fault.OTHER_DISK, path, store=self._files.name)
        return NodeDigest(made.digest, made.facts)

    @_parsed
    async def digests(
        self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
    ) -> list[Digested]:
        about = files[0][0] if len(files) == 1 else b""
        if algorithm not in self._helper.greeting["algorithms"]:
            raise StoreError(Fault.UNSUPPORTED, about, store=self._files.name)
        spelled = [[path.decode("latin-1"), facts_to_list(facts)] for path, facts in files]
        reply = await self.ask("digests", about=about, files=spelled, algorithm=algorithm, hashing=processes)
        return _as_many(files, [digested(*each) for each in reply["files"]])

    @_parsed
    async def block_sums(self, path: bytes, block: int) -> NodeBlocks:
        """The file must hold still while it is read."""
        reply = await self.run(DELTA, "block_sums", path, {"block": block})
        facts = facts_from_list(reply["facts"])
        made = Blocks(facts.size, block, b64decode(reply["rolling"]), b64decode(reply["other"]))
        if reply["before"] != reply["facts"] or not made.fit:
            raise StoreError(Fault.SOURCE_CHANGED, path, store=self._files.name)
        return NodeBlocks(made, facts)

    @_parsed
    async def copy_matches(self, old: bytes, part: bytes, matches: Sequence[Match]) -> list[bool]:
        values = {"part": part.decode("latin-1"), "matches": matches}
        reply = await self.run(DELTA, "copy_matches", old, values)
        return _as_many(matches, [bool(each) for each in reply["good"]])

    @_parsed
    async def read_small(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        reply = await self.ask("read_small", paths=[path.decode("latin-1") for path in paths], most=most)
        return _as_many(paths, [small_file(outcome, b64decode(data), found) for outcome, data, found in reply["files"]])

    @_parsed
    async def extract(self, bundle: bytes, files: Sequence[BundledFile]) -> list[Extracted]:
        reply = await self.ask("extract", bundle, writing=True, files=[_spelled(each) for each in files])
        return _as_many(files, [extracted(*outcome) for outcome in reply["outcomes"]])

    async def place(self, wanted: Placement) -> tuple[Fault | None, Fault | None]:
        """Give a part file its name by directory handles. Returns why not, and why its facts stay unset."""
        return await self._placing.ask(wanted)

    @_parsed
    async def _place_many(self, placements: Sequence[Placement]) -> list[tuple[Fault | None, Fault | None]]:
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

    @_parsed
    async def finish(self, files: Sequence[BundledFile]) -> list[Extracted]:
        reply = await self.ask("finish", writing=True, files=[_spelled(each) for each in files])
        return _as_many(files, [extracted(*outcome) for outcome in reply["outcomes"]])

    async def same_disk(self, token: bytes) -> bool:
        """Commands may land on another machine, or below another root."""
        text = secrets.token_hex(16)
        if await self._files.look(token) is not None:
            await self._files.remove(token)  # an earlier session was killed before it could
        writer = await self._files.create_part(token)
        try:
            try:
                await writer.write(0, text.encode())
            finally:
                await writer.close()
            reply = await self.ask("read", token)
            self.disk_is_same = reply.get("text") == text
            return self.disk_is_same
        except StoreError as error:
            if isinstance(error, LineLost) or error.fault is Fault.NO_SPACE:
                raise
            return False
        finally:
            await self._files.remove(token)


def _as_many(asked: Sequence[object], answers: list[T]) -> list[T]:
    """The answers, if they are as many as the questions. Raises ValueError."""
    if len(asked) != len(answers):
        raise ValueError("not as many answers as questions")
    return answers


def _spelled(file: BundledFile) -> list[Any]:
    """A bundled file as the helper reads it."""
    return [
        [name.decode("latin-1") for name in value]
        if isinstance(value, tuple)
        else value.decode("latin-1")
        if isinstance(value, bytes)
        else value
        for value in file
    ]
