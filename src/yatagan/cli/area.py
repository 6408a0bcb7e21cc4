"""`yatagan area`: named directories on nodes, and what one must know of each."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

import click

from yatagan.cli import shell_completion, text
from yatagan.cli.context import App, as_json, say_json
from yatagan.config.areas import Area, find_area
from yatagan.config.units import parse_duration, spell_duration


@click.group("area")
def area_command() -> None:
    """Areas are named directories on a node: a path like heron:@scratch/fen starts in one."""


@area_command.command(
    epilog="Example: yatagan area add heron scratch /scratch/fenflux --not-backed-up --purged-after 30d"
)
@click.argument("node", shell_complete=shell_completion.nodes)
@click.argument("name", shell_complete=shell_completion.areas)
@click.argument("path")
@click.option("--backed-up/--not-backed-up", default=None, help="Whether the site keeps copies of it.")
@click.option("--purged-after", metavar="AGE", help="The site removes files older than this: 30d, 12h.")
@click.option("--read-only", is_flag=True, help="Nothing is ever written there.")
@click.option("--shared", is_flag=True, help="A group works in it.")
@click.option("--note", default="", help="What else one must know.")
@as_json
def add(node: str, name: str, path: str, purged_after: str | None, json_: bool, **given: Any) -> None:
    """Save PATH on NODE as its area NAME. An area that is saved already is replaced."""
    nodes = App.start().nodes()
    found = nodes.get(node)
    try:
        age = parse_duration(purged_after) if purged_after is not None else None
        area = Area(name, path, purged_after=age, **given)
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    replaced = name in {each.name for each in found.areas}
    others = [each for each in found.areas if each.name != name]
    nodes.put(replace(found, areas=tuple(sorted([*others, area], key=lambda each: each.name))))
    if json_:
        say_json(_entry(node, area))
    else:
        click.echo(
            f"{node}:@{name} is {'changed' if replaced else 'saved'}. See what is there: yatagan list {node}:@{name}"
        )


@area_command.command("list", epilog="Example: yatagan area list heron")
@click.argument("node", required=False, shell_complete=shell_completion.nodes)
@as_json
def list_(node: str | None, json_: bool) -> None:
    """Show the areas of NODE, or of all nodes."""
    nodes = App.start().nodes()
    rows = [(each.name, area) for each in ([nodes.get(node)] if node else nodes) for area in each.areas]
    if json_:
        say_json({"areas": [_entry(*row) for row in rows]})
    elif not rows:
        click.echo("No area is saved yet. Save one with: yatagan area add NODE NAME PATH")
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
        say_json(_entry(node, area))
    else:
        click.echo(f"{node}:@{name} is forgotten.")


def meaning(area: Area) -> str:
    """What an area means for data, in a few words."""
    parts = [
        "" if area.backed_up is None else "backed up" if area.backed_up else "not backed up",
        f"purged after {age(area.purged_after)}" if area.purged_after is not None else "",
        "read-only" if area.read_only else "",
        "shared" if area.shared else "",
        text.show(area.note),
    ]
    return ", ".join(part for part in parts if part)


def age(seconds: float) -> str:
    """`30 days`."""
    days = seconds / 86400
    return text.count(round(days), "day") if days >= 2 and days == round(days) else spell_duration(seconds)


def _entry(node: str, area: Area) -> dict[str, Any]:
    return {"node": node, **asdict(area)}
