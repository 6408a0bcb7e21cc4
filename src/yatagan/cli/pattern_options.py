"""Choosing by pattern: the options `--only` and `--skip`."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

import click

from yatagan.cli.context import options
from yatagan.trees.patterns import Choice

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
