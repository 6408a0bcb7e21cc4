"""What a stage carries, and the names under which it arrives."""

from __future__ import annotations

import os
import posixpath

from yatagan.operations.stage_request import StageRequest
from yatagan.places import Place
from yatagan.planning.name_template import Template
from yatagan.request_errors import BadStage, WrongStage
from yatagan.stores.interface import Readable
from yatagan.trees.patterns import is_pattern
from yatagan.trees.place_patterns import expand_place


class StageSources:
    """The sources of a request by the path as typed and the name to arrive under.

    `originals` are the names that they have. Sources that are patterns stand for themselves until `expand`.
    Raises BadStage. `directory`: what local sources are relative to.
    """

    def __init__(self, request: StageRequest, directory: bytes | None) -> None:
        self._node = request.source_node
        self._template = _template(request.renamed)
        self._directory = directory or b"/"
        self._literal = bool(request.name)
        self.pairs = [(source.path, request.name or self._name(source)) for source in request.sources]
        if not self._has_patterns:
            self._rename()

    @property
    def _has_patterns(self) -> bool:
        """Whether a source stands for all that matches it."""
        return not self._literal and any(is_pattern(path) for path, _ in self.pairs)

    @property
    def renames(self) -> bool:
        """Whether a template gives other names."""
        return self._template is not None

    def places(self) -> list[Place]:
        """Where the sources are."""
        return [Place(self._node, path) for path, _ in self.pairs]

    async def expand(self, store: Readable) -> None:
        """Replace sources with patterns by their matches. Raises BadStage, NoPlace, StoreError."""
        if not self._has_patterns:
            return
        expanded: list[tuple[bytes, bytes]] = []
        for path, name in self.pairs:
            found = await expand_place(store, Place(self._node, path))
            expanded += [(path, name)] if found is None else [(each, posixpath.basename(each)) for each, _ in found[1]]
        self.pairs = expanded
        self._rename()

    def _name(self, source: Place) -> bytes:
        name = source.name
        if not name and not source.node:
            name = os.path.basename(os.path.realpath(os.path.join(self._directory, source.path or b".")))
        if not name and (self._template is None or self._template.has_fields):
            raise BadStage(WrongStage.NO_NAME, str(source))
        return name

    def _rename(self) -> None:
        """Apply the template. Raises BadStage for two equal names."""
        self.originals = [name for _, name in self.pairs]
        if self._template is not None:
            text = self._template.text
            if len(self.pairs) > 1 and not self._template.has_fields:
                raise BadStage(WrongStage.ONE_NAME, text, str(len(self.pairs)))
            try:
                names = self._template.names(self.pairs)
            except ValueError as error:
                raise BadStage(WrongStage.NAME_FIELDS, text, str(error)) from None
            self.pairs = [(path, name) for (path, _), name in zip(self.pairs, names, strict=True)]
        seen: dict[bytes, bytes] = {}
        for path, name in self.pairs:
            if name in seen:
                raise BadStage(WrongStage.SAME_NAME, os.fsdecode(path), os.fsdecode(name), os.fsdecode(seen[name]))
            seen[name] = path


def _template(text: str | None) -> Template | None:
    """The template of new names. Raises BadStage."""
    if text is None:
        return None
    try:
        return Template(text)
    except ValueError as error:
        raise BadStage(WrongStage.NAME_TEMPLATE, text, str(error)) from None
