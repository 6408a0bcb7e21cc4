"""Choosing by pattern: the options `--only` and `--skip`, and places whose names are patterns."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

import click

from yatagan.cli.context import options
from yatagan.errors import BadPlace
from yatagan.places import Place
from yatagan.stores.interface import Facts, Readable
from yatagan.trees.patterns import Choice, expand, is_pattern

choosing: Callable[[Any], Any] = options(
    click.option("--only", multiple=True, metavar="PATTERN", help="Take only what matches (repeatable)."),
    click.option("--skip", multiple=True, metavar="PATTERN", help="Leave out what matches (repeatable)."),
)


def parse_choice(only: tuple[str, ...], skip: tuple[str, ...]) -> Choice:
    """The choice from the options. Raises UsageError for a bad pattern."""
    for pattern in (*only, *skip):
        try:
            Choice([os.fsencode(pattern)])
        except ValueError as error:
            raise click.UsageError(f"{pattern!r} is no pattern: {error}") from None
    return Choice(map(os.fsencode, only), map(os.fsencode, skip))


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
