"""A node as a machine, through the helper: what SFTP cannot do at all, or not for hundreds of files at once."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from typing import Any, NamedTuple, Protocol, TypeVar

from yatagan.errors import FileTrouble, LineLost, StoreError
from yatagan.faults import Fault
from yatagan.nodes.helper import Helper
from yatagan.nodes.replies import (
    BlockSumsReply,
    ClockReply,
    DigestsReply,
    DigestStartReply,
    LookInReply,
    LookReply,
    MatchesReply,
    PlacingReply,
    Reply,
    SetReply,
    SmallFilesReply,
    TextReply,
    read_reply,
)
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
    facts_from_row,
    facts_to_list,
    known_facts,
    placing_fault,
    small_file,
)

#: Part files that are given their names by one message.
_PLACED_TOGETHER = 200

R = TypeVar("R", bound=NamedTuple)
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
        self, kind: type[R], what: str, path: bytes = b"", *, about: bytes = b"", writing: bool = False, **values: Any
    ) -> R:
        """Ask the helper one thing, of a `path` if it is of one. An error names that, or `about`. Raises StoreError."""
        reply = await self._request(self._helper.ask(what, path, **values), path or about, writing=writing)
        return read_reply(kind, reply, self._files.name)

    async def run(self, modules: tuple[str, ...], what: str, path: bytes, values: Values) -> Reply:
        await self._request(self._helper.learn(modules), b"")
        return await self._request(self._helper.ask(what, path, **values), path, writing=True)

    async def clock_ns(self) -> int:
        """The time of the node's clock, in nanoseconds since the epoch."""
        return (await self.ask(ClockReply, "clock")).clock_ns

    async def look(self, path: bytes) -> Facts | None:
        """Facts with times in nanoseconds; None where the helper cannot tell."""
        try:
            return facts_from_row((await self.ask(LookReply, "look", path)).facts)
        except FileTrouble:
            return None

    async def look_in(self, path: bytes, names: Sequence[bytes]) -> list[Facts | None]:
        """The same for names in a directory."""
        reply = await self.ask(LookInReply, "look_in", path, names=[name.decode("latin-1") for name in names])
        return self._as_many(names, [facts_from_row(each) if each else None for each in reply.facts])

    async def set_facts(self, path: bytes, mode: int | None, mtime_ns: int | None) -> None:
        """Set mode and time of a file or directory, never through a link. Raises StoreError."""
        unset = (await self.ask(SetReply, "set", path, writing=True, mode=mode, mtime_ns=mtime_ns)).unset
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

    async def digest_start(self, path: bytes, size: int, algorithm: str) -> NodeDigest:
        if algorithm not in self._helper.greeting.algorithms:
            raise StoreError(Fault.UNSUPPORTED, path, store=self._files.name)
        reply = await self.ask(DigestStartReply, "digest_start", path, size=size, algorithm=algorithm)
        made = digested(*reply.made)
        if made.facts is None:
            raise StoreError(made.fault or Fault.REFUSED, path, store=self._files.name)
        if not self.disk_is_same:
            found = await self._files.look(path)
            if found is None or not found.grown_from(made.facts):
                raise StoreError(Fault.OTHER_DISK, path, store=self._files.name)
        return NodeDigest(made.digest, made.facts)

    async def digests(
        self, files: Sequence[tuple[bytes, Facts | None]], algorithm: str, processes: int = 0
    ) -> list[Digested]:
        about = files[0][0] if len(files) == 1 else b""
        if algorithm not in self._helper.greeting.algorithms:
            raise StoreError(Fault.UNSUPPORTED, about, store=self._files.name)
        spelled = [[path.decode("latin-1"), facts_to_list(facts)] for path, facts in files]
        values: dict[str, Any] = {"files": spelled, "algorithm": algorithm, "hashing": processes}
        reply = await self.ask(DigestsReply, "digests", about=about, **values)
        return self._as_many(files, [digested(*each) for each in reply.files])

    async def block_sums(self, path: bytes, block: int) -> NodeBlocks:
        """The file must hold still while it is read."""
        reply = read_reply(
            BlockSumsReply, await self.run(DELTA, "block_sums", path, {"block": block}), self._files.name
        )
        facts = facts_from_row(reply.facts)
        made = Blocks(facts.size, block, reply.rolling, reply.other)
        if reply.before != reply.facts or not made.fit:
            raise StoreError(Fault.SOURCE_CHANGED, path, store=self._files.name)
        return NodeBlocks(made, facts)

    async def copy_matches(self, old: bytes, part: bytes, matches: Sequence[Match]) -> list[bool]:
        values = {"part": part.decode("latin-1"), "matches": matches}
        reply = read_reply(MatchesReply, await self.run(DELTA, "copy_matches", old, values), self._files.name)
        return self._as_many(matches, list(reply.good))

    async def read_small(self, paths: Sequence[bytes], most: int) -> list[SmallFile]:
        spelled = [path.decode("latin-1") for path in paths]
        reply = await self.ask(SmallFilesReply, "read_small", paths=spelled, most=most)
        return self._as_many(paths, [small_file(*each) for each in reply.files])

    async def extract(self, bundle: bytes, files: Sequence[BundledFile]) -> list[Extracted]:
        reply = await self.ask(PlacingReply, "extract", bundle, writing=True, files=[_spelled(each) for each in files])
        return self._as_many(files, [extracted(*each) for each in reply.outcomes])

    async def place(self, wanted: Placement) -> tuple[Fault | None, Fault | None]:
        """Give a part file its name by directory handles. Returns why not, and why its facts stay unset."""
        return await self._placing.ask(wanted)

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
        reply = await self.ask(PlacingReply, "place", writing=True, placings=spelled)
        outcomes = [
            (placing_fault(error) if error else None, placing_fault(unset) if unset else None)
            for error, unset in reply.outcomes
        ]
        return self._as_many(placements, outcomes)

    async def finish(self, files: Sequence[BundledFile]) -> list[Extracted]:
        reply = await self.ask(PlacingReply, "finish", writing=True, files=[_spelled(each) for each in files])
        return self._as_many(files, [extracted(*each) for each in reply.outcomes])

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
            self.disk_is_same = (await self.ask(TextReply, "read", token)).text == text
            return self.disk_is_same
        except StoreError as error:
            if isinstance(error, LineLost) or error.fault is Fault.NO_SPACE:
                raise
            return False
        finally:
            await self._files.remove(token)

    def _as_many(self, asked: Sequence[object], answers: list[T]) -> list[T]:
        """The answers, if they are as many as the questions. Raises StoreError, NONSENSE."""
        if len(asked) != len(answers):
            detail = f"the helper's: {len(answers)} answers to {len(asked)} questions"
            raise StoreError(Fault.NONSENSE, store=self._files.name, detail=detail)
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
