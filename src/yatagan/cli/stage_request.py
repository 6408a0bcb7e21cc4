"""What a stage was asked for, checked as far as it can be without looking."""

from __future__ import annotations

import json
import os
import posixpath
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from dataclasses import replace
from enum import StrEnum

from yatagan.batches.journal_data import NO_PURPOSE, Purpose
from yatagan.batches.steps import Modes, Prove, Times
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli.context import App
from yatagan.cli.pattern_options import expand_place
from yatagan.cli.text import command
from yatagan.config.areas import Area
from yatagan.errors import BadPlace
from yatagan.places import Place
from yatagan.planning.bundling import Costs
from yatagan.planning.gone import NoLongerThere, OnRecordBefore, find_disk, find_gone
from yatagan.planning.name_template import Template
from yatagan.planning.picked import Picked
from yatagan.planning.plan import Plan
from yatagan.planning.planner import BundlingChoice
from yatagan.planning.stored_bundles import StoringChoice
from yatagan.stores.interface import Readable, Source, Store
from yatagan.trees.patterns import EVERYTHING, Choice, is_pattern


class By(StrEnum):
    """What shows that a file is there already."""

    SIZE_AND_TIME = "size-and-time"
    DIGEST = "digest"


class IfNewer(StrEnum):
    """What happens to files that are newer at the destination."""

    LEAVE = "leave"
    REPLACE = "replace"
    ASK = "ask"


class Pack(StrEnum):
    """Whether small files travel together, to be unpacked on arrival."""

    #: Where that is faster.
    AUTO = "auto"
    #: However few they are.
    ALWAYS = "always"
    #: Every file travels alone; without `--store`, bundles are files like others.
    NEVER = "never"


class Storing(StrEnum):
    """As what a directory stays at the destination."""

    FILES = "files"
    #: Every source is one bundle.
    BUNDLE = "bundle"
    #: Every directory right below a source is one bundle.
    BY_DIRECTORY = "by-directory"


_STORED = {
    Storing.FILES: StoringChoice.FILES,
    Storing.BUNDLE: StoringChoice.WHOLE,
    Storing.BY_DIRECTORY: StoringChoice.BY_DIRECTORY,
}


def _template(as_: str | None) -> Template | None:
    """The template of --as. Raises BadPlace."""
    if as_ is None:
        return None
    try:
        return Template(as_)
    except ValueError as error:
        raise BadPlace(as_, f"--as cannot be read: {error}") from None


class Request:
    """What a stage was asked for: sources, destination, names, proof.

    `as_` is the template of new names, `name` one name as it is. `purpose`: what the batch will be for. `recorded`
    finds what is on record of what is carried, and with `accept_gone` what is gone from that goes on record as gone.
    """

    def __init__(
        self,
        app: App,
        sources: list[Place],
        destination: Place,
        *,
        as_: str | None = None,
        name: bytes = b"",
        purpose: Purpose = NO_PURPOSE,
        prove: Prove = Prove.AUTO,
        choice: Choice = EVERYTHING,
        modes: Modes | None = None,
        times: Times = Times.KEEP,
        pack: Pack = Pack.AUTO,
        storing: Storing | None = None,
        max_rate: int = 0,
        by: By = By.SIZE_AND_TIME,
        if_newer: IfNewer = IfNewer.ASK,
        space_check: bool = True,
        unchanged_for: float = 0.0,
        growing: Choice | None = None,
        picked: Picked | None = None,
        recorded: Callable[[], OnRecordBefore] = OnRecordBefore,
        accept_gone: bool = False,
    ) -> None:
        self.app = app
        self._recorded = recorded
        self.accept_gone = accept_gone
        self.picked = picked
        self.purpose = purpose
        self.growing = growing
        self.unchanged_for = unchanged_for
        self.space_check = space_check
        self.if_newer = if_newer
        self.by_digest = by is By.DIGEST
        self.max_rate = max_rate
        self._pack = pack
        self._storing = storing
        self._modes = modes
        self.times = times
        self.choice = choice
        self.prove = prove
        self.destination = destination
        nodes = {source.node for source in sources}
        if len(nodes) > 1:
            raise BadPlace(
                str(sources[-1]), "all sources must be on the same machine", "stage them one after the other"
            )
        (self.source_node,) = nodes
        if self.source_node and storing in (Storing.BUNDLE, Storing.BY_DIRECTORY):
            raise BadPlace(
                str(sources[0]),
                f"--store {storing.value} stores directories of this machine",
                f"make a bundle there with: {command('bundle', 'make', sources[0])}",
            )
        if growing is not None and storing in (Storing.BUNDLE, Storing.BY_DIRECTORY):
            raise BadPlace(
                str(sources[0]), f"--growing and --store {storing.value} exclude each other: a bundle is written whole"
            )
        self._template = _template(as_)
        self.sources = [(source.path, name or self._name(source)) for source in sources]
        self._literal = bool(name)
        if not self._has_patterns:
            self._rename()

    def _rename(self) -> None:
        """Apply the template to the sources. Raises BadPlace for two equal names."""
        self.originals = [name for _, name in self.sources]
        if self._template is not None:
            if len(self.sources) > 1 and not self._template.has_fields:
                raise BadPlace(
                    self._template.text,
                    f"--as gives {len(self.sources)} sources one name",
                    "put something in it that differs, such as {stem}, {parent} or {number}",
                )
            try:
                names = self._template.names(self.sources)
            except ValueError as error:
                raise BadPlace(self._template.text, f"--as takes {error}") from None
            self.sources = [(path, name) for (path, _), name in zip(self.sources, names, strict=True)]
        seen: dict[bytes, bytes] = {}
        for path, name in self.sources:
            if name in seen:
                raise BadPlace(
                    os.fsdecode(path),
                    f"{os.fsdecode(seen[name])} would arrive under the same name, {os.fsdecode(name)}",
                    "give both other names with --as, by {parent} or {number} for example",
                )
            seen[name] = path

    @property
    def _has_patterns(self) -> bool:
        """Whether a source stands for all that matches it."""
        return not self._literal and any(is_pattern(path) for path, _ in self.sources)

    async def expand(self, store: Readable) -> None:
        """Replace sources with patterns by their matches. Raises BadPlace, StoreError."""
        if not self._has_patterns:
            return
        expanded: list[tuple[bytes, bytes]] = []
        for path, name in self.sources:
            found = await expand_place(store, Place(self.source_node, path))
            expanded += [(path, name)] if found is None else [(each, posixpath.basename(each)) for each, _ in found[1]]
        self.sources = expanded
        self._rename()

    def _name(self, source: Place) -> bytes:
        name = source.name
        if not name and not source.node:
            name = os.path.basename(os.path.realpath(source.path or b"."))
        if not name and (self._template is None or self._template.has_fields):
            raise BadPlace(str(source), "it has no name of its own to arrive under", "give one with --as NAME")
        return name

    def modes(self, area: Area | None) -> Modes:
        """Whose permission bits arrive: as requested, else the site's in shared areas."""
        if self._modes is not None:
            return self._modes
        return Modes.SITE if area is not None and area.shared else Modes.KEEP

    async def gone(self, source: Store, plan: Plan) -> NoLongerThere | None:
        """What was on record and is no longer at the source; None where nothing is. Raises StoreError."""
        if not self.purpose.dataset:
            return None
        disk = await find_disk(source, plan.arrivals[0].tree.root) if plan.arrivals else ""
        before = self._recorded()
        gone = find_gone(before, plan, disk)
        meant = gone is None or gone.why is None or self.accept_gone
        self.purpose = replace(self.purpose, disk=disk if meant else before.disk)  # else it is asked about once only
        return gone

    @property
    def options(self) -> str:
        """Everything but the places, as text that is equal for equal options."""
        return json.dumps(
            {
                "only": [os.fsdecode(pattern) for pattern in self.choice.only],
                "skip": [os.fsdecode(pattern) for pattern in self.choice.skip],
                "modes": self._modes,
                "times": self.times,
                "pack": self._pack,
                "store": self._storing,
                "by_digest": self.by_digest,
                "if_newer_there": self.if_newer,
                "prove": self.prove,
                "max_rate": self.max_rate,
                "unchanged_for": self.unchanged_for,
                "growing": [os.fsdecode(pattern) for pattern in self.growing.only] if self.growing else [],
            },
            sort_keys=True,
        )

    @property
    def renames_nothing(self) -> bool:
        """Whether every source arrives under its own name."""
        return self._template is None

    @property
    def asks_about_newer(self) -> bool:
        """Whether to ask about files that are newer at the destination."""
        return self.if_newer is IfNewer.ASK and self.app.questions

    @property
    def stored(self) -> StoringChoice:
        """Which directories are stored as bundles."""
        if self._storing is None:
            return StoringChoice.AS_IT_IS if self._sees_through else StoringChoice.FILES
        return _STORED[self._storing]

    @property
    def _sees_through(self) -> bool:
        """Whether stored bundles of the source are taken for the directories that they stand for."""
        return self._storing is not None or self._pack is not Pack.NEVER

    @asynccontextmanager
    async def seen(self, source: Store) -> AsyncIterator[Readable]:
        """The source with its stored bundles as directories."""
        if not self._sees_through:
            yield source
            return
        seeing = SeeThrough(source)
        try:
            yield seeing
        finally:
            await seeing.release()

    async def costs(self, source: Store, destination: Store) -> Costs:
        """What a file costs besides its bytes on this connection."""
        return Costs(sum([await _round_trip(end) for end in (source, destination) if not end.traits.here]))

    def together(self, source: Store, destination: Store, costs: Costs) -> BundlingChoice | None:
        """Whether small files may travel together, to be unpacked on arrival.

        They are proven where they are unpacked, so not where another proof was asked for, or none.
        """
        proofs = (Prove.AUTO, Prove.ON_NODE) if source.traits.here else (Prove.AUTO,)
        near = source.traits.here and destination.traits.here
        if self._pack is Pack.NEVER or near or self.prove not in proofs:
            return None
        return BundlingChoice(costs, always=self._pack is Pack.ALWAYS)

    def ends(self) -> tuple[Source, Source]:
        """Source and destination."""
        return self.app.source(Place(self.source_node, b"")), self.app.source(self.destination, writing=True)


async def _round_trip(store: Store) -> float:
    """Seconds of a round trip: the best of a few."""
    start, best = await store.resolve(b""), 1.0
    for _ in range(3):
        began = time.monotonic()
        await store.look(start)
        best = min(best, time.monotonic() - began)
    return best
