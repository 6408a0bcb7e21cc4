"""What a stage was asked for, checked as far as it can be without looking."""

from __future__ import annotations

import os

from yatagan.batches.steps import Prove
from yatagan.cli.context import App
from yatagan.errors import BadPlace
from yatagan.places import Place
from yatagan.stores.interface import Source


class Request:
    """One stage: from where, to where, under which names, and how it is to be proven."""

    def __init__(self, app: App, sources: list[Place], destination: Place, as_: str | None, prove: Prove) -> None:
        self.app = app
        self.prove = prove
        self.destination = destination
        nodes = {source.node for source in sources}
        if len(nodes) > 1:
            raise BadPlace(
                str(sources[-1]), "all sources must be on the same machine", "stage them one after the other"
            )
        (self.source_node,) = nodes
        if self.source_node and destination.node:
            raise BadPlace(
                str(destination),
                "both ends are on nodes",
                "stage to this machine first, and from here to the other node",
            )
        if as_ is not None and (len(sources) != 1 or "/" in as_ or as_ in ("", ".", "..")):
            raise BadPlace(as_, "--as takes one source and one plain name", "leave it out to keep the names")
        self.sources = [
            (source.path, os.fsencode(as_) if as_ is not None else self._name(source)) for source in sources
        ]
        names = [name for _, name in self.sources]
        if len(set(names)) != len(names):
            raise BadPlace(str(sources[-1]), "two sources would arrive under the same name", "stage one with --as")

    def _name(self, source: Place) -> bytes:
        name = source.name
        if not name and not source.node:
            name = os.path.basename(os.path.realpath(source.path or b"."))
        if not name:
            raise BadPlace(str(source), "it has no name of its own to arrive under", "give one with --as NAME")
        return name

    def ends(self) -> tuple[Source, Source]:
        """Where from and where to."""
        return self.app.source(Place(self.source_node, b"")), self.app.source(self.destination)
