"""`yatagan stage`: bring files and directories to a node, or back."""

from __future__ import annotations

import os
import posixpath
import sys
from typing import Any

import click

from yatagan.batches.batch import Batches
from yatagan.batches.plan import Plan, make_plan
from yatagan.batches.steps import Prove
from yatagan.cli import carrying, text
from yatagan.cli.context import App, as_json, no_questions, run, say_json
from yatagan.cli.words import Exit, fault
from yatagan.errors import BadPlace
from yatagan.places import KEPT_DIRECTORY, Place, name_fields, parse_place
from yatagan.stores.interface import Source, Store


@click.command(
    "stage",
    epilog="""\b
Examples:
  yatagan stage fen heron:campaign          fen arrives as heron:campaign/fen
  yatagan stage heron:results/july .        july arrives here
  yatagan stage fen heron:campaign --plan-only""",
)
@click.argument("sources", nargs=-1, required=True, metavar="SOURCE...")
@click.argument("destination")
@click.option("--as", "as_", metavar="NAME", help="Another name to arrive under (one source).")
@click.option("--plan-only", is_flag=True, help="Show the plan and stop.")
@click.option(
    "--prove",
    type=click.Choice([prove.value for prove in Prove]),
    default=Prove.AUTO.value,
    show_default=True,
    help="How contents are proven: by a digest made on the node, by reading them back, "
    "by what the node allows (auto), or not.",
)
@click.option("--quiet", is_flag=True, help="Show nothing but what goes wrong.")
@no_questions
@as_json
def stage_command(
    sources: tuple[str, ...],
    destination: str,
    as_: str | None,
    plan_only: bool,
    prove: str,
    quiet: bool,
    no_questions: bool,
    json_: bool,
) -> None:
    """Bring every SOURCE into the directory DESTINATION, under its own name.

    The plan is shown, then carried out. What is right already stays as it is; what is replaced is kept
    aside; a file has its final name only when all of it is there.
    """
    app = App.start(questions=not no_questions)
    request = _Request(app, [parse_place(source) for source in sources], parse_place(destination), as_, Prove(prove))
    command = ("yatagan", *sys.argv[1:])
    status = run(_stage(request, command, plan_only=plan_only, quiet=quiet, json_=json_))
    if status:
        raise click.exceptions.Exit(status)


class _Request:
    """What was asked for, checked as far as it can be without looking."""

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


async def _stage(request: _Request, command: tuple[str, ...], *, plan_only: bool, quiet: bool, json_: bool) -> int:
    app = request.app
    ends = request.ends()
    source = await app.open(ends[0])
    try:
        destination = await app.open(ends[1])
    except BaseException:
        await source.close()
        raise
    try:
        _check_proof(request, source, destination)
        plan = await make_plan(source, destination, request.sources, request.destination.path)
        if not quiet and not json_:
            show_plan(request, plan, source, destination)
        if plan_only or not plan.summary.anything:
            if json_:
                say_json({"plan": plan_json(plan), "batch": None})
            elif not quiet and not plan_only:
                click.echo("Nothing to move: everything is there already.")
            return Exit.DIFFERENCES if plan.summary.in_the_way or plan.summary.unread else Exit.GOOD
        batches = Batches(app.home.batches)
        names = (request.source_node, request.destination.node)
        batch = batches.accept(command, names, plan.destination, request.prove, plan.steps())
    except BaseException:
        await source.close()
        await destination.close()
        raise
    journal = batch.journal()
    try:
        described = plan_json(plan) if json_ else {}
        plan.arrivals.clear()  # a large plan is in the journal now, and need not be held here too
        again = carrying.reuse(source, ends[0]), carrying.reuse(destination, ends[1])
        outcome, problem = await carrying.carry(app, batch, journal, again, quiet=quiet or json_)
        if json_:
            say_json({"plan": described, "batch": carrying.as_json(outcome)})
        elif not quiet or not outcome.good:
            carrying.summary(app, journal, outcome, problem)
        return carrying.exit_status(outcome, problem)
    finally:
        journal.close()
        batch.unlock()


def _check_proof(request: _Request, source: Store, destination: Store) -> None:
    """A proof that was asked for by name and cannot be had is an error before anything moves."""
    remote = destination if not destination.traits.quick else source
    if request.prove is Prove.ON_NODE and not remote.traits.digests:
        raise BadPlace(
            f"{remote.name}:", "it does not run commands, so it cannot hash files", "use --prove read-back or auto"
        )


def show_plan(request: _Request, plan: Plan, source: Store, destination: Store) -> None:
    """The plan in a few lines."""
    counts = plan.summary
    names = ", ".join(text.show(name) for _, name in request.sources[:3])
    if len(request.sources) > 3:
        names += f" and {len(request.sources) - 3} more"
    into = text.place(request.destination.node, request.destination.path or b".")
    kept = request.destination.node, posixpath.join(request.destination.path, KEPT_DIRECTORY)
    origin = f" from {request.source_node}" if request.source_node else ""
    click.echo(click.style(f"Plan: {names}{origin} to {into}", bold=True))
    text.facts(
        [
            ("carry", _carried(plan)),
            ("left as is", _left(plan)),
            (
                "replace",
                f"{text.count(counts.replaced, 'file')}; the old ones are kept in {text.place(*kept)}"
                if counts.replaced
                else "",
            ),
            (
                "not carried",
                f"{text.count(counts.not_carried, 'entry', 'entries')}: {_specials(plan)}"
                if counts.not_carried
                else "",
            ),
            ("in the way", _in_the_way(plan)),
            ("unreadable", _unread(plan)),
            ("room", _room(plan, request.destination.node) if counts.anything else ""),
            ("proof", _proof(request.prove, source, destination) if counts.files else ""),
            ("no sync", _no_sync(request.prove, destination) if counts.files else ""),
        ]
    )


def _carried(plan: Plan) -> str:
    counts = plan.summary
    parts = [f"{text.count(counts.files, 'file')}, {text.size(counts.size)}"]
    if counts.directories:
        parts.append(text.count(counts.directories, "new directory", "new directories"))
    if counts.links:
        parts.append(text.count(counts.links, "link"))
    return "; ".join(parts) if counts.anything else "nothing"


def _left(plan: Plan) -> str:
    counts = plan.summary
    if not counts.left:
        return ""
    looked = f", {text.number(counts.looked_into)} of them too new for that and by digest" if counts.looked_into else ""
    return f"{text.count(counts.left, 'file')}, {text.size(counts.left_size)}, already there by size and time{looked}"


def _specials(plan: Plan) -> str:
    found = [
        f"{text.show(difference.path)} (a {difference.facts.kind.value})"
        for arrival in plan.arrivals
        for difference in arrival.differences
        if not difference.facts.kind.carried
    ]
    return ", ".join(found[:3]) + (" …" if len(found) > 3 else "")


def _in_the_way(plan: Plan) -> str:
    found = [
        text.show(difference.path or arrival.name)
        for arrival in plan.arrivals
        for difference in arrival.differences
        if difference.verdict == "in-the-way" and difference.facts.kind.carried
    ]
    return ", ".join(found[:3]) + (" …" if len(found) > 3 else "")


def _unread(plan: Plan) -> str:
    found = [
        f"{text.show(path or arrival.name)} ({fault(why)})"
        for arrival in plan.arrivals
        for path, why in sorted(arrival.tree.unread.items())
    ]
    return ", ".join(found[:3]) + (" …" if len(found) > 3 else "")


def _room(plan: Plan, node: str) -> str:
    if plan.room is None:
        return f"{node or 'the disk'} does not tell"
    enough = "" if plan.room > plan.summary.size else click.style(", not enough", fg="red")
    return f"{text.size(plan.room)} free on {node or 'this machine'}{enough}"


def _proof(prove: Prove, source: Store, destination: Store) -> str:
    """What the proof will be, and why it is no better."""
    if destination.traits.quick and source.traits.quick:
        return "every file is read back and hashed (read-back)"
    if prove is Prove.READ_BACK:
        return "every file is read back over the line and hashed here (read-back)"
    if destination.traits.quick:
        if prove is Prove.ON_NODE:
            return f"{source.name} hashes every file too, and the digests must agree (on-node)"
        return "every file is hashed here on arrival (received)"
    if prove is Prove.NONE:
        return "not asked for: contents are not looked at (sent)"
    if destination.traits.digests:
        return f"{destination.name} hashes every file after it is synced (on-node)"
    return f"none: {destination.name} runs no commands; --prove read-back reads every file back"


def _no_sync(prove: Prove, destination: Store) -> str:
    """What it means that a server cannot be told to put a file on its disk."""
    if destination.traits.syncs:
        return ""
    words = f"{destination.name} does not offer it: after an interruption, half-sent files start over"
    synced_by_proof = destination.traits.digests and prove in (Prove.AUTO, Prove.ON_NODE)
    return words if synced_by_proof else f"{words}; what a power failure there takes is not noticed"


def plan_json(plan: Plan) -> dict[str, Any]:
    """The plan for scripts."""
    counts = plan.summary
    return {
        **name_fields(plan.destination, "destination"),
        "files": counts.files,
        "bytes": counts.size,
        "directories": counts.directories,
        "links": counts.links,
        "left_as_is": counts.left,
        "left_bytes": counts.left_size,
        "replace": counts.replaced,
        "not_carried": counts.not_carried,
        "in_the_way": counts.in_the_way,
        "unreadable": counts.unread,
        "room": plan.room,
    }
