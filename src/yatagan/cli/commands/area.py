"""`yatagan area`: named directories on nodes, and what one must know of each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.node_answer import area_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, checked, options
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.area_words import meaning
from yatagan.config.areas import Area, find_area
from yatagan.config.nodes import NodeBook
from yatagan.config.units import parse_duration
from yatagan.errors import BadPlace

#: For an area that is not purged any more.
_NEVER = "never"

_details: Callable[[Any], Any] = options(
    click.option("--backed-up/--not-backed-up", default=None, help="Whether the site keeps copies of it."),
    click.option("--purged-after", metavar="AGE", help="The site removes files older than this: 30d, 12h; or never."),
    click.option("--read-only/--writable", default=None, help="Whether nothing may ever be written there."),
    click.option("--shared/--own", default=None, help="Whether a group works in it."),
    click.option("--note", help="Anything else to know about it."),
)


@click.group("area", cls=CommandGroup)
def area_command() -> None:
    """Name directories on nodes. A path like heron:@scratch/fen starts in the area scratch."""


@area_command.command(epilog="\b\nExample:\n  yatagan area add heron scratch /scratch/fenflux --purged-after 30d")
@click.argument("node", shell_complete=shell_completion.nodes)
@click.argument("name", shell_complete=shell_completion.areas)
@click.argument("path")
@_details
@as_json
def add(node: str, name: str, path: str, json_: bool, **given: Any) -> None:
    """Save PATH on NODE as its area NAME.

    A name that is saved already is refused: change it with yatagan area change.
    """
    nodes = App.start().nodes()
    if name in {each.name for each in nodes.get(node).areas}:
        change = text.command("area", "change", node, name)
        raise BadPlace(f"{node}:@{name}", "this area is saved already", f"change it with: {change} …")
    _save(nodes, node, checked(lambda: Area(name, path, **_details_of(given))), json_, "saved")


@area_command.command(epilog="Example: yatagan area change heron scratch --purged-after 60d")
@click.argument("node", shell_complete=shell_completion.nodes)
@click.argument("name", shell_complete=shell_completion.areas)
@click.option("--path", help="Where it is.")
@_details
@as_json
def change(node: str, name: str, json_: bool, **given: Any) -> None:
    """Change what is saved about an area: only what is named."""
    nodes = App.start().nodes()
    area = find_area(node, nodes.get(node).areas, name)
    _save(nodes, node, checked(lambda: replace(area, **_details_of(given))), json_, "changed")


def _details_of(given: dict[str, Any]) -> dict[str, Any]:
    """What was typed, as fields of an area. Raises ValueError."""
    details = {detail: value for detail, value in given.items() if value is not None}
    if (limit := details.get("purged_after")) is not None:
        details["purged_after"] = None if limit == _NEVER else parse_duration(limit)
    return details


def _save(nodes: NodeBook, node: str, area: Area, json_: bool, done: str) -> None:
    found = nodes.get(node)
    others = [each for each in found.areas if each.name != area.name]
    nodes.put(replace(found, areas=tuple(sorted([*others, area], key=lambda each: each.name))))
    if json_:
        say_json(area_json(node, area))
    else:
        where = f"{node}:@{area.name}"
        terminal.say(f"{where} is {done}. See what is there: {text.command('list', where)}")


@area_command.command("list", epilog="Example: yatagan area list heron")
@click.argument("node", required=False, shell_complete=shell_completion.nodes)
@as_json
def list_(node: str | None, json_: bool) -> None:
    """Show the areas of NODE, or of all nodes."""
    nodes = App.start().nodes()
    rows = [(each.name, area) for each in ([nodes.get(node)] if node else nodes) for area in each.areas]
    if json_:
        say_json({"areas": [area_json(*row) for row in rows]})
    elif not rows:
        terminal.say("No area is saved yet. Save one with: yatagan area add NODE NAME PATH")
    else:
        text.table(
            ("area", "path", "what it is"),
            [(f"{name}:@{area.name}", text.show(area.path), meaning(area)) for name, area in rows],
        )


@area_command.command(epilog="Example: yatagan area remove heron scratch")
@click.argument("node", shell_complete=shell_completion.nodes)
@click.argument("name", shell_complete=shell_completion.areas)
@as_json
def remove(node: str, name: str, json_: bool) -> None:
    """Forget an area. Nothing on the node changes."""
    nodes = App.start().nodes()
    found = nodes.get(node)
    area = find_area(node, found.areas, name)
    nodes.put(replace(found, areas=tuple(each for each in found.areas if each != area)))
    if json_:
        say_json(area_json(node, area))
    else:
        terminal.say(f"{node}:@{name} is forgotten.")
