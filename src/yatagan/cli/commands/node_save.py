"""`yatagan node add` and `change`: what is saved about a node."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Callable, Iterable
from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.node_answer import area_json
from yatagan.cli.context import App, as_json, checked, one_of, options
from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.text import command, warn
from yatagan.config.nodes import Node, NodeBook, Role
from yatagan.errors import BadPlace

#: Options that can be taken away again with --without.
_DETAILS = ("port", "user", "key", "cluster", "logins", "max-rate", "start", "trust")

_details: Callable[[Any], Any] = options(
    click.option("--port", type=click.IntRange(1, 65535), help="Port. Default: 22, or what ~/.ssh/config says."),
    click.option("--user", help="User name there. Default: yours here, or what ~/.ssh/config says."),
    click.option("--key", type=click.Path(exists=True, dir_okay=False), help="Private key file to log in with."),
    click.option("--role", type=one_of(Role), help="What the machine is made for. Default: transfer."),
    click.option("--cluster", metavar="NAME", help="Nodes of one cluster see the same disks."),
    click.option("--logins", type=int, metavar="N", help="Logins at once for a batch. Default: 8; login nodes 2."),
    click.option(
        "--batches-at-once", type=int, metavar="N", help="Queued batches over it at once. Default: 1, then the next."
    ),
    click.option("--max-rate", metavar="RATE", help="How fast batches may send or fetch, such as 20MB/s."),
    click.option("--start", metavar="DIR", help="Where relative paths start there. Default: the account's home."),
    click.option(
        "--trust",
        metavar="FINGERPRINT",
        multiple=True,
        help="Pin a host key (SHA256:…): the node may show no other. Repeatable, once for each key that it may show.",
    ),
)


@click.command(
    "add", epilog="\b\nExample:\n  yatagan node add heron transfer.fen.example --user mara --start /data/mara"
)
@click.argument("name", shell_complete=shell_completion.nodes)
@click.argument("address")
@_details
@as_json
def add_command(name: str, address: str, json_: bool, **given: Any) -> None:
    """Save the machine at ADDRESS as the node NAME.

    A name that is saved already is refused: change it with yatagan node change.
    """
    nodes = App.start().nodes()
    if name in nodes:
        raise BadPlace(name, "this node is saved already", f"change it with: {command('node', 'change', name)} …")
    _save(nodes, checked(lambda: Node(name, address, **_details_of(given))), json_, "saved")


@click.command("change", epilog="Example: yatagan node change heron --user mara --without port")
@click.argument("name", shell_complete=shell_completion.nodes)
@click.option("--address", help="Where the machine is.")
@_details
@click.option(
    "--without",
    type=click.Choice(_DETAILS),
    multiple=True,
    metavar="DETAIL",
    help=f"Take a detail away, so that its default counts again (repeatable): {', '.join(_DETAILS)}.",
)
@as_json
def change_command(name: str, json_: bool, without: tuple[str, ...], **given: Any) -> None:
    """Change what is saved about a node: only what is named. Its areas stay."""
    nodes = App.start().nodes()
    node = nodes.get(name)
    gone: dict[str, Any] = {detail.replace("-", "_"): () if detail == "trust" else None for detail in without}
    if clash := [detail for detail in gone if given[detail]]:
        raise click.UsageError(f"--{clash[0]} is given a value and taken away at once", click.get_current_context())
    _save(nodes, checked(lambda: dataclasses.replace(node, **_details_of(given), **gone)), json_, "changed")


def _details_of(given: dict[str, Any]) -> dict[str, Any]:
    """What was typed, as fields of a node."""
    details = {detail: value for detail, value in given.items() if value not in (None, ())}
    if "key" in details:
        details["key"] = os.path.abspath(details["key"])
    if "role" in details:
        details["role"] = Role(details["role"])
    return details


def _save(nodes: NodeBook, node: Node, json_: bool, done: str) -> None:
    nodes.put(node)
    for other in _disagreeing(node, nodes):
        warn(f"{other.name} has the same address, and other host keys are pinned for it: {', '.join(other.trust)}")
    if json_:
        say_json(entry(node))
    else:
        terminal.say(f"{node.name} is {done}. See what is there: {command('list', f'{node.name}:')}")


def _disagreeing(node: Node, others: Iterable[Node]) -> list[Node]:
    """Nodes at the same address that have none of this node's pins."""
    return [
        other
        for other in others
        if (other.address, other.port or 22) == (node.address, node.port or 22)
        and node.trust
        and other.trust
        and not set(node.trust) & set(other.trust)
    ]


def entry(node: Node) -> dict[str, Any]:
    """A node as JSON."""
    fields = dataclasses.asdict(node)
    del fields["max_rate"], fields["areas"]
    return {
        **fields,
        "role": node.role.value,
        "trust": list(node.trust),
        "max_rate_bytes_per_second": node.rate_cap,
        "areas": [area_json(node.name, area) for area in node.areas],
    }
