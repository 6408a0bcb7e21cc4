"""`yatagan project`: the project file begun, its datasets shown, and accepted where it is another person's."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import click

from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import evidence_json
from yatagan.cli.answers.verdict_answer import not_good_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.dataset_words import area_words, not_good_words, since_words, staged_words, verified_words
from yatagan.cli.words.messages import concern_words, explain
from yatagan.config.accepted import Accepted
from yatagan.config.home import PROJECT_FILE, find_project
from yatagan.config.project import LOCAL_FILE, Dataset, Project, Use, bad_project_name, load_project
from yatagan.errors import BadPlace, Refused
from yatagan.operations.dataset_states import DatasetState, look_at_datasets
from yatagan.places import name_fields

#: What `project new` writes; the name of the project goes into it.
_NEW = """\
# The project file of Yatagan: which datasets there are, and where each is here and there.
# It can be versioned with the project. It holds no path of one machine and no secret; paths that
# are yours alone go into {local} beside it, which is not versioned.

[project]
name = {name}
# A directory of the project for the ledger, so that the group has one; else everybody has their own.
# ledger = "ledger"

# A dataset is one tree, with a place here and a place there. Remove the # and say where yours is.
# [dataset.chambers]
# use = "input"                      # "input" goes from here to there; "result" comes back from there
# here = "chambers"                  # from this directory
# there = "{node}:fen/chambers"      # on a node, or in one of its areas: {node}:@scratch/fen/chambers
# only = ["*.csv"]                   # take only these names
# skip = ["*.tmp"]                   # and none of these
# stored = "files"                   # there: "files", "bundle", "by-directory" (bundles), or "bag"
# by = "size-and-time"               # what shows that a file is there already; or "digest"
"""


@click.group("project", cls=CommandGroup)
def project_command() -> None:
    """A project declares datasets in a file, yatagan.toml, so that stage and verify know them by name."""


@project_command.command(
    "new",
    short_help="Begin a project file in this directory.",
    epilog="""\b
Examples:
  yatagan project new
  yatagan project new fen-flux""",
)
@click.argument("name", required=False)
@as_json
def new(name: str | None, json_: bool) -> None:
    """Write a project file into this directory, with a comment on everything that can be declared.

    NAME is the project's; default: the directory's. Nothing that is there is replaced.
    """
    app = App.start()
    file = Path(os.getcwd(), PROJECT_FILE)
    node = next((node.name for node in app.nodes()), "heron")
    wanted = name or file.parent.name
    if why := bad_project_name(wanted):
        raise BadPlace(wanted, why, "name it: yatagan project new NAME")
    try:
        with file.open("x", encoding="utf-8") as stream:
            stream.write(_NEW.format(local=LOCAL_FILE, name=f'"{wanted}"', node=node))
    except FileExistsError:
        raise BadPlace(str(file), "there is a project file already", "see: yatagan project show") from None
    if json_:
        say_json(name_fields(os.fsencode(file)))
    else:
        terminal.say(terminal.style(f"Wrote {text.show(str(file))}", bold=True))
        terminal.say("  Declare your datasets in it; then: yatagan project show")


@project_command.command(
    "accept",
    short_help="Accept a project of another account, or paths outside it.",
    epilog="Example: yatagan project accept",
)
@as_json
def accept(json_: bool) -> None:
    """Go by the project file of this directory from now on, though another account owns it.

    Likewise where yatagan.local.toml leads out of the project. If either changes in that, you are asked again.
    """
    app = App.start()
    root = find_project(Path(os.getcwd()))
    if root is None:
        raise Refused("there is no project file in this directory or above", "begin one with: yatagan project new")
    project = load_project(root)
    accepted = Accepted(app.home.accepted)
    found = [concern for concern in project.concerns if concern.key not in accepted]
    accepted.add(concern.key for concern in found)
    if json_:
        say_json({"accepted": [concern_words(concern) for concern in found]})
    elif not found:
        terminal.say("There is nothing to accept: the files are yours, and nothing in them leads out of the project.")
    for concern in found if not json_ else []:
        terminal.say(f"Accepted: {concern_words(concern)}")


@project_command.command(
    "show",
    short_help="Show the datasets: where they are and how they stand.",
    epilog="""\b
Examples:
  yatagan project show
  yatagan project show --there     # look at the nodes as well""",
)
@click.option("--there", is_flag=True, help="Log in, and say what has changed there, too.")
@click.option("--no-questions", is_flag=True, help="Never ask; what cannot be answered is an error.")
@as_json
def show(there: bool, no_questions: bool, json_: bool) -> None:
    """Show every dataset: when it was last staged and verified, and what has changed since.

    What has changed goes by size and time, against the record; no file is read. Exit status 1 when an input is not
    there as it is here, or was never staged.
    """
    app = App.start(questions=not no_questions)
    project = app.project()
    states = run(look_at_datasets(app, project, there=there))
    if json_:
        ledger = name_fields(os.fsencode(project.ledger), "ledger") if project.ledger else {"ledger": None}
        named = {"name": project.name, **name_fields(os.fsencode(project.root)), **ledger}
        say_json({**named, "datasets": [_state_json(state) for state in states]})
    else:
        _show(project, states, there=there)
    if not all(state.settled for state in states):
        raise click.exceptions.Exit(1)


def _show(project: Project, states: list[DatasetState], *, there: bool) -> None:
    terminal.say(terminal.style(f"Project {text.show(project.name)}", bold=True) + f", {text.show(str(project.root))}")
    if not states:
        terminal.say(f"It declares no dataset yet: write one into {text.show(str(project.file))}")
        return
    head = ("dataset", "staged", "verified", "changed here", *(("changed there",) if there else ()))
    rows, ways = [], [_way(project, state.dataset) for state in states]
    for state in states:
        changed = since_words(state.there) or ("cannot be reached" if state.there_trouble else "")
        here = "all is gone" if state.emptied else since_words(state.here)
        row = (state.dataset.name, staged_words(state), verified_words(state), here)
        rows.append((*row, *((changed,) if there else ())))
    lines = list(
        text.table_lines((*head, "here and there"), [(*row, way) for row, way in zip(rows, ways, strict=True)])
    )
    if max(len(terminal.plain(line)) for line in lines) <= text.width():
        for line in lines:
            terminal.say(line)
    else:
        first, *others = text.table_lines(head, rows)
        terminal.say(first)
        for line, way in zip(others, ways, strict=True):
            terminal.say(line)
            terminal.say(terminal.style(f"  {text.shorten(way, text.width() - 2)}", dim=True))
    for state in states:
        for words in not_good_words(state.dataset.name, state.not_good):
            text.warn(f"{state.dataset.name}, {words}")
        if words := area_words(state):
            text.warn(f"{state.dataset.name}: {words}")
        if state.there_trouble:
            text.warn(f"{state.dataset.name}: {explain(state.there_trouble).message}")


def _way(project: Project, dataset: Dataset) -> str:
    """`chambers → heron:fen/chambers`, or ← for a result."""
    here = text.show(os.path.relpath(dataset.here, os.fsencode(project.root)))
    arrow = "→" if dataset.use is Use.INPUT else "←"
    return f"{here} {arrow} {text.place(dataset.there.node, dataset.there.path)}"


def _state_json(state: DatasetState) -> dict[str, Any]:
    dataset, staged, verified = state.dataset, state.staged, state.verified
    return {
        "dataset": dataset.name,
        "use": dataset.use.value,
        **name_fields(dataset.here, "here"),
        "node": dataset.there.node,
        **name_fields(dataset.there.path, "there"),
        "settled": state.settled,
        "emptied": state.emptied,
        "staged_at": staged.recorded_at if staged is not None else None,
        "staged_by": staged.who if staged is not None else None,
        "verified_at": verified.recorded_at if verified is not None else None,
        "verified_end": verified.fields.get("at") if verified is not None else None,
        "verified_good": not state.not_good if verified is not None else None,
        "not_good": not_good_json(state.not_good),
        "verified_evidence": evidence_json(verified.fields.get("evidence", {})) if verified is not None else {},
        "changed_here": state.here.as_json() if state.here is not None else None,
        "changed_there": state.there.as_json() if state.there is not None else None,
        "there_unknown": explain(state.there_trouble).message if state.there_trouble else None,
        "backed_up": state.area.backed_up if state.area is not None else None,
        "purged_after_seconds": state.area.purged_after if state.area is not None else None,
        "purge_due": state.purge_due,
    }
