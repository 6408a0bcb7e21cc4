"""`yatagan compare`: two places, side by side."""

from __future__ import annotations

import asyncio
from contextlib import AsyncExitStack
from dataclasses import dataclass

import click

from yatagan.cli import shell_completion
from yatagan.cli.compare_view import Sides, comparison_json, show_comparison
from yatagan.cli.context import App, as_json, no_questions, one_of, run, say_json
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.progress import Progress
from yatagan.cli.progress_view import view_for
from yatagan.cli.scan_progress import EntryCount
from yatagan.operations.stage_request import By
from yatagan.places import Place
from yatagan.stores.interface import Store
from yatagan.trees.entries import Entries
from yatagan.trees.patterns import Choice
from yatagan.verdicts.comparison import Comparison, Digests, compare, to_hash
from yatagan.verdicts.sides import ArchiveSide, Side, TreeSide, open_side


@click.command(
    "compare",
    epilog="""\b
Examples:
  yatagan compare fen heron:campaign/fen             # by size and time
  yatagan compare fen heron:campaign/fen --by digest # by contents
  yatagan compare heron:fen bittern:fen --only '*.csv'
  yatagan compare fen heron:archive/fen.tar.zst      # with an archive""",
)
@click.argument("first", metavar="PLACE", shell_complete=shell_completion.places)
@click.argument("second", metavar="PLACE", shell_complete=shell_completion.places)
@click.option(
    "--by",
    type=one_of(By),
    default=By.SIZE_AND_TIME.value,
    show_default=True,
    help="What decides: size and time, or contents (digest), which each side reads and hashes itself where it can.",
)
@choosing
@click.option("--all", "all_", is_flag=True, help="Show every entry that differs, one by one.")
@no_questions
@as_json
def compare_command(
    first: str,
    second: str,
    by: str,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    all_: bool,
    no_questions: bool,
    json_: bool,
) -> None:
    """Compare two places: what is only in one of them, what is the same, and in what the rest differs.

    Each is a file, a directory, a stored bundle or an archive, here or on a node. Nothing is fetched that a node can
    hash itself. Exit status 0 when both hold the same, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    places = app.place(first), app.place(second)
    comparison, sides = run(_compare(app, places, parse_choice(only, skip), by_digest=By(by) is By.DIGEST, quiet=json_))
    if json_:
        say_json(comparison_json(comparison, sides))
    else:
        show_comparison(comparison, sides, one_by_one=all_)
    if not comparison.same:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


@dataclass(frozen=True, slots=True)
class _Hashing:
    """The files of both sides that are to be hashed."""

    sides: tuple[Side, Side]
    paths: tuple[list[bytes], list[bytes]]

    @property
    def size(self) -> int:
        """Bytes to read."""
        pairs = zip(self.sides, self.paths, strict=True)
        return sum(sum(side.tree.entries.file_sizes(paths)) for side, paths in pairs)

    async def make(self, progress: Progress) -> tuple[Digests, Digests]:
        """Hash them, both sides at the same time."""
        async with asyncio.TaskGroup() as group:
            first, second = (
                group.create_task(side.digests(paths, progress.hashed))
                for side, paths in zip(self.sides, self.paths, strict=True)
            )
        return first.result(), second.result()


async def _compare(
    app: App, places: tuple[Place, Place], choice: Choice, *, by_digest: bool, quiet: bool
) -> tuple[Comparison, Sides]:
    async with AsyncExitStack() as opened:
        stores: list[Store] = []
        for place in places:
            if stores and place.node == places[0].node:
                stores.append(stores[0])  # one login will do
                continue
            stores.append(await app.open(app.source(place, names=True)))
            opened.push_async_callback(stores[-1].close)
        with EntryCount(app, list(places), quiet=quiet) as count:
            # Without a digest nothing is read later that could have changed meanwhile.
            into = Entries(plain=not by_digest)
            first = await open_side(stores[0], places[0].path, choice, count.heard, into)
            into = Entries(plain=not by_digest, like=first.tree.entries)
            second = await open_side(stores[1], places[1].path, choice, count.heard, into)
        inside = _enter(first, second), _enter(second, first)
        digests = None
        if by_digest:
            hashing = _Hashing((first, second), to_hash(first.tree, second.tree))
            progress = Progress(sum(map(len, hashing.paths)), hashing.size)
            progress.doing = "comparing contents: "
            async with view_for(progress, quiet=quiet):
                digests = await hashing.make(progress)
    comparison = compare(
        first.tree,
        second.tree,
        digests,
        step_ns=max(first.step_ns, second.step_ns),
        modeless=_modeless(first, second),
    )
    return comparison, Sides(places, inside, (first.origin, second.origin))


def _modeless(first: Side, second: Side) -> set[bytes] | None:
    """Paths whose modes are not known on both sides; None for all."""
    if first.modeless is None or second.modeless is None:
        return None
    return {*first.modeless, *second.modeless}


def _enter(side: TreeSide | ArchiveSide, other: TreeSide | ArchiveSide) -> bytes:
    """Take the one directory that an archive begins with for its root, if the other side has none of that name."""
    if not isinstance(side, ArchiveSide):
        return b""
    tops = {path.partition(b"/")[0] for path in side.tree.entries if path}
    return side.enter() if not tops & {path for path in other.tree.entries if path and b"/" not in path} else b""
