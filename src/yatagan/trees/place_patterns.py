"""Places whose names are patterns."""

from __future__ import annotations

from yatagan.places import Place
from yatagan.request_errors import BadEntry, WrongEntry
from yatagan.stores.interface import Facts, Readable
from yatagan.trees.patterns import expand, is_pattern


async def expand_place(store: Readable, place: Place) -> tuple[bytes, list[tuple[bytes, Facts]]] | None:
    """The matches of a place with patterns; None without patterns. Raises BadEntry when nothing matches."""
    if not is_pattern(place.path):
        return None
    try:
        root, found = await expand(store, place.path)
    except ValueError as error:
        raise BadEntry(WrongEntry.PATTERN, str(place), str(error)) from None
    if not found:
        raise BadEntry(WrongEntry.NO_MATCH, str(place))
    return root, found
