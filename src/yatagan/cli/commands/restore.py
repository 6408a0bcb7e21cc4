"""`yatagan restore`: what is missing or damaged here comes back from a copy that is as the ledger says that it was."""

from __future__ import annotations

import os
import platform
import posixpath
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import click

from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Purpose
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.restore_answer import losses_json
from yatagan.cli.commands.staging import How, stage
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import text
from yatagan.cli.views.login_questions import confirm
from yatagan.cli.views.progress import Progress
from yatagan.cli.views.progress_view import view_for
from yatagan.cli.views.report import Report
from yatagan.cli.views.restore_view import show_findings
from yatagan.cli.views.scan_progress import EntryCount
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.messages import explain
from yatagan.errors import BadPlace, NoSuchBatch, Refused, YataganError
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.tree_history import (
    TreeHistory,
    history_of_dataset,
    history_of_place,
    trees_of,
)
from yatagan.operations.stage_request import StageRequest
from yatagan.places import Place
from yatagan.planning.picked import Picked
from yatagan.planning.restoring import Copy, FoundCopies, Losses, find_losses, look_into_copies
from yatagan.stores.connection_history import recall
from yatagan.trees.hashing import Content
from yatagan.trees.scan import Tree, scan


@click.command(
    "restore",
    epilog="""\b
Examples:
  yatagan restore --dataset chambers --plan-only   # what is lost
  yatagan restore --dataset chambers
  yatagan restore fen/chambers/chamber-03
  yatagan restore --batch k7qd --into recovered
  yatagan restore fen --only '*.csv'""",
)
@click.argument("place", required=False, shell_complete=shell_completion.places)
@click.option(
    "--dataset",
    metavar="NAME",
    shell_complete=shell_completion.datasets,
    help="Restore a dataset of the project, instead of a PLACE.",
)
@click.option(
    "--batch",
    metavar="ID",
    shell_complete=shell_completion.batches,
    help="Restore what this batch has carried from here, or to here.",
)
@click.option("--into", metavar="DIRECTORY", help="Put it there, under its own name, instead of where it was.")
@choosing
@click.option("--plan-only", is_flag=True, help="Say what is lost and from where it would come back, and stop.")
@no_questions
@as_json
def restore_command(
    place: str | None,
    dataset: str | None,
    batch: str | None,
    into: str | None,
    only: tuple[str, ...],
    skip: tuple[str, ...],
    plan_only: bool,
    no_questions: bool,
    json_: bool,
) -> None:
    """Bring back what is missing or damaged in PLACE, here, from where the ledger says that it was carried.

    Every copy is read before it is taken, and counts only with the digest on record; the nearest is taken. What was
    changed here since is left as it is. Exit status 1 if something that is lost has no such copy.
    """
    if [place, dataset, batch].count(None) != 2:
        raise click.UsageError("name a PLACE, or --dataset NAME, or --batch ID", click.get_current_context())
    app = App.start(questions=not no_questions)
    choice = parse_choice(only, skip)
    target = app.place(into, new=True) if into is not None else None
    if target is not None and target.node:
        raise BadPlace(str(target), "what was lost here comes back to this machine", "name a directory here")
    status, answers = 0, list[dict[str, Any]]()
    for wanted in _wanted(app, place, dataset, batch):
        wanted.history = wanted.history.chosen(choice.chooses)
        restoring = _Restoring(app, wanted, target, plan_only=plan_only, quiet=json_)
        status = max(status, run(restoring.run()))
        answers.append(restoring.answer)
        if status == ExitStatus.INTERRUPTED:
            break
    if json_:
        say_json({"restored": answers})
    if status:
        raise click.exceptions.Exit(status)


@dataclass(slots=True)
class _Wanted:
    """A tree to restore: its name, where it is here, and what is on record of it."""

    name: str
    here: bytes
    history: TreeHistory
    purpose: Purpose


def _wanted(app: App, place: str | None, dataset: str | None, batch: str | None) -> Iterator[_Wanted]:
    """The trees that are meant. Raises BadPlace where nothing is on record, NoSuchBatch."""
    ledger = app.ledger()
    directory = app.ledger_directory()
    found: list[_Wanted] = []
    if dataset is not None:
        project = app.project()
        declared = project.dataset(dataset)
        own = parse_choice(declared.only, declared.skip)
        history = history_of_dataset(ledger, project.name, dataset).chosen(own.chooses)
        found.append(_Wanted(dataset, declared.here, history, Purpose(project.name, dataset, "here", directory, True)))
    elif batch is not None:
        name, roots = _batch_roots(app, ledger, batch)
        for root in roots:
            history = history_of_place(ledger, platform.node(), root, name)
            found.append(_Wanted(text.show(root), root, history, Purpose(ledger=directory, restores=True)))
    else:
        where = app.place(str(place), new=True)
        if where.node:
            raise BadPlace(
                str(where), "restore brings back what was lost on this machine", "stage it to the node again"
            )
        path = os.path.realpath(where.path or b".")
        history = history_of_place(ledger, platform.node(), path)
        found.append(_Wanted(text.show(path), path, history, Purpose(ledger=directory, restores=True)))
    for wanted in found:
        if wanted.history.is_emptied:
            raise _all_gone(wanted)
        if wanted.history.newest is None or not (wanted.history.versions or wanted.history.entries):
            raise BadPlace(wanted.name, "nothing is on record of it", "see: yatagan ledger show")
    return iter(found)


def _all_gone(wanted: _Wanted) -> Refused:
    """The error where all that was on record was gone by the time of the last stage."""
    newest, filled = wanted.history.newest, wanted.history.filled
    batch = str(filled.fields.get("batch", "")) if filled is not None else ""
    remedy = f"bring back what was staged before: {text.command('restore', '--batch', batch)}" if batch else ""
    when = newest.recorded_at[:10] if newest is not None else "?"
    why = f"all that was on record was gone when it was last staged, on {when}"
    return Refused(f"{wanted.name}: {why}", remedy or "see: yatagan ledger show")


def _batch_roots(app: App, ledger: Ledger, name: str) -> tuple[str, list[bytes]]:
    """The whole name of a batch, and the roots of what it carried on this machine."""
    from yatagan.batches.batch_store import Batches

    try:
        whole = Batches(app.home.batches).find(name).name
    except NoSuchBatch:
        whole = name  # its journal is removed; the ledger has it
    roots: list[bytes] = []
    for record in ledger.records():
        if record.fields.get("batch") == whole and record.who.rpartition("@")[2] == platform.node():
            roots += [end.path for tree in trees_of(record) for end in tree.ends if not end.node]
    if not roots:
        raise BadPlace(
            name, "no record says what this batch has carried from here or to here", "see: yatagan ledger show"
        )
    return whole, list(dict.fromkeys(roots))


class _Restoring:
    """One tree, from the look at what is lost to its return."""

    def __init__(self, app: App, wanted: _Wanted, into: Place | None, *, plan_only: bool, quiet: bool) -> None:
        self._app = app
        self._wanted = wanted
        self._plan_only = plan_only
        self._quiet = quiet
        self._into = into
        self.answer: dict[str, Any] = {}
        self._progress = Progress(0, 0)
        self._progress.doing = "looking: "

    async def run(self) -> int:
        """Look, show, and bring back. Returns the exit status."""
        wanted = self._wanted
        target = await self._target()
        async with view_for(self._progress, quiet=self._quiet):
            losses = await self._look_here(target)
            found, trouble = await self._look_for_copies(losses, target)
        lost = found.still(losses.lost)
        self.answer = losses_json(wanted.name, target, losses, found, trouble)
        if not self._quiet:
            show_findings(wanted.name, target, wanted.history, losses, found, trouble)
        if (offered := [path for path in lost if path in found.offers]) and self._takes_older(found, offered):
            for path in offered:
                found.take(found.offers[path].copy, [path])
            lost = found.still(losses.lost)
        status = int(ExitStatus.DIFFERENCES if lost or losses.unproven else ExitStatus.GOOD)
        batches: list[dict[str, Any]] = []
        for copy, paths in found.sources.items():
            status = max(status, await self._bring_back(copy, paths, losses, found, target, batches))
            if status == ExitStatus.INTERRUPTED:
                break
        self.answer["batches"] = batches
        return status

    async def _target(self) -> bytes:
        """Where it is to be, absolute."""
        if self._into is None:
            return self._wanted.here
        above = os.path.realpath(self._into.path or b".")
        return posixpath.join(above, posixpath.basename(self._wanted.here))

    async def _look_here(self, target: bytes) -> Losses:
        """What is lost in the place where it is to be."""
        where = Place("", target)
        store = await self._app.open(self._app.source(where))
        try:
            with EntryCount(self._app, [where], quiet=self._quiet) as count:
                tree = await scan(store, target, heard=count.heard)
            known = [path for path in self._wanted.history.versions if path in tree.entries]
            self._expect(tree, known)
            return await find_losses(store, tree, self._wanted.history, self._hashed(tree))
        finally:
            await store.close()

    def _expect(self, tree: Tree, paths: list[bytes]) -> None:
        self._progress.files += len(paths)
        self._progress.size += sum(tree.entries.file_sizes(paths))

    def _hashed(self, tree: Tree) -> Any:
        def hashed(content: Content) -> None:
            self._progress.hashed(tree.entries[content.path].size)

        return hashed

    async def _look_for_copies(self, losses: Losses, target: bytes) -> tuple[FoundCopies, dict[str, str]]:
        """Where lost entries can come back from, the nearest copies first; and which nodes could not be asked."""
        found, trouble = FoundCopies(), dict[str, str]()
        lost = sorted(losses.lost, key=lambda path: path.replace(b"/", b"\0"))
        for node, roots in self._copies(target):
            if not found.still(lost):
                break
            try:
                store = await self._app.open(self._app.source(Place(node, b"")))
                seen = SeeThrough(store)
                try:
                    for root in roots:
                        await look_into_copies(
                            store,
                            seen,
                            root,
                            lost,
                            self._wanted.history,
                            found,
                            lambda content: None,
                            only_kept=not node and root == target,
                        )
                finally:
                    await seen.close()
            except YataganError as error:
                trouble[node] = explain(error).message
        return found, trouble

    def _copies(self, target: bytes) -> list[tuple[str, list[bytes]]]:
        """Where copies were, by node, the nearest first; of each node those that were carried last first."""
        host = platform.node()
        places: dict[str, list[bytes]] = {"": [target]}  # what was replaced there is kept beside it
        for place, record in self._wanted.history.copies:
            mine = record.who.rpartition("@")[2] == host
            if (place.node or mine) and place.path not in places.setdefault(place.node, []):
                places[place.node].append(place.path)
        known = self._app.nodes()
        nodes = [node for node in places if not node or node in known]

        def rate(node: str) -> float:
            return recall(self._app.home, node).rate if node else float("inf")

        return [(node, places[node]) for node in sorted(nodes, key=rate, reverse=True)]

    def _takes_older(self, found: FoundCopies, offered: list[bytes]) -> bool:
        """Ask whether earlier versions are to be taken."""
        if not self._app.questions.attended or self._plan_only:
            return False
        one = found.offers[offered[0]].version.record.recorded_at[:10]
        what = (
            f"{text.count(len(offered), 'file')} {'is' if len(offered) == 1 else 'are'} left only in an earlier version"
        )
        return confirm(f"{what}, such as {text.show(offered[0])} of {one}. Take that?")

    async def _bring_back(
        self,
        copy: Copy,
        paths: set[bytes],
        losses: Losses,
        found: FoundCopies,
        target: bytes,
        batches: list[dict[str, Any]],
    ) -> int:
        """Carry what one copy has. Returns the exit status."""
        history = self._wanted.history
        above, name = posixpath.split(target)
        request = StageRequest((copy.place,), Place("", above), name=name, purpose=self._wanted.purpose)
        picked = Picked({path: losses.lost[path] for path in paths})
        digests = {
            posixpath.join(posixpath.basename(target), path) if path else posixpath.basename(target): (
                found.offers[path].version.digest if path in found.offers else history.digest(path)
            )
            for path in paths
            if path in history.versions
        }

        def as_recorded(journal: Journal) -> bool:
            wrong = [label for label, digest in journal.contents() if digests.get(label, digest) != digest]
            for label in wrong:
                text.warn(f"{text.show(label)} changed in {copy.place} while it was fetched: it is NOT as on record")
            return not wrong

        report = Report.JSON if self._quiet else Report.WORDS
        how = How(report, self._plan_only, in_background=False, answer=batches.append, ended=as_recorded)
        return await stage(self._app, request, how, picked)
