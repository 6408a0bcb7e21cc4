"""Places whose names are patterns."""

from __future__ import annotations

from yatagan.errors import BadPlace
from yatagan.places import Place
from yatagan.stores.interface import Facts, Readable
from yatagan.trees.patterns import expand, is_pattern


async def expand_place(store: Readable, place: Place) -> tuple[bytes, list[tuple[bytes, Facts]]] | None:
    """The matches of a place with patterns; None without patterns. Raises BadPlace when nothing matches."""
    if not is_pattern(place.path):
        return None
    try:
        root, found = await expand(store, place.path)
    except ValueError as error:
        raise BadPlace(str(place), f"the pattern cannot be read: {error}") from None
    if not found:
        raise BadPlace(str(place), "nothing there has such a name", "look with: yatagan list")
    return root, found
