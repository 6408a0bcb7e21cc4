"""`yatagan node`: nodes under short names."""

from __future__ import annotations

import dataclasses
import os
from typing import TYPE_CHECKING, Any

import click

from yatagan.cli import messages, shell_completion
from yatagan.cli.context import App, as_json, one_of, run, say_json
from yatagan.cli.node_check import check
from yatagan.cli.node_open import OpenState, as_fields, close_command, open_command, openness
from yatagan.cli.text import facts, moment, show, size, table, warn
from yatagan.config.nodes import Node, Role
from yatagan.errors import Refused

if TYPE_CHECKING:
    from yatagan.keeper.client import KeeperStatus


@click.group("node")
def node_command() -> None:
    """Save nodes under short names, usable wherever a place is asked for."""


@node_command.command(epilog="Example: yatagan node add heron transfer.fen.example --user mara --start /scratch/mara")
@click.argument("name", shell_complete=shell_completion.nodes)
@click.argument("address")
@click.option("--port", type=click.IntRange(1, 65535), help="Port, when it is not 22 (or what ~/.ssh/config says).")
@click.option("--user", help="User name there, when it is not yours here.")
@click.option("--key", type=click.Path(exists=True, dir_okay=False), help="Private key file to log in with.")
@click.option(
    "--role",
    type=one_of(Role),
    default=Role.TRANSFER.value,
    show_default=True,
    help="What the machine is made for.",
)
@click.option("--cluster", metavar="NAME", help="Nodes of one cluster see the same disks.")
@click.option("--logins", type=int, metavar="N", help="Logins at once for one batch. Default: up to 8; login nodes 2.")
@click.option("--max-rate", metavar="RATE", help="How fast batches may send or fetch, such as 20MB/s.")
@click.option("--start", metavar="DIR", help="Where relative paths start there.")
@click.option(
    "--trust",
    metavar="FINGERPRINT",
    multiple=True,
    help="Pin a host key (SHA256:…): the node may show no other. Give it once for each key that the node may show.",
)
@as_json
def add(name: str, address: str, json_: bool, key: str | None, **given: Any) -> None:
    """Save a node under NAME. A node that is saved already is replaced."""
    try:
        node = Node(name, address, key=os.path.abspath(key) if key else None, **{**given, "role": Role(given["role"])})
    except ValueError as error:
        raise click.UsageError(str(error)) from None
    nodes = App.start().nodes()
    replaced = name in nodes
    nodes.put(dataclasses.replace(node, areas=nodes.get(name).areas) if replaced else node)
    for other in _disagreeing(node, list(nodes)):
        warn(f"{other.name} has the same address, and other host keys are pinned for it: {', '.join(other.trust)}")
    if json_:
        say_json(_entry(node))
    else:
        click.echo(f"{name} is {'changed' if replaced else 'saved'}. See what is there: yatagan list {name}:")


@node_command.command("list", epilog="Example: yatagan node list --json")
@as_json
def list_(json_: bool) -> None:
    """Show the saved nodes, and which of them are open."""
    app = App.start()
    nodes = list(app.nodes())
    states = run(_states(app, nodes))
    if json_:
        say_json({"nodes": [{**_entry(node), "open": as_fields(states[node.name].status)} for node in nodes]})
    elif not nodes:
        click.echo("No node is saved yet. Save one with: yatagan node add NAME ADDRESS")
    else:
        rows = [
            (
                node.name,
                node.role.value,
                node.cluster or "",
                _address(node),
                show(node.start or ""),
                _until(states[node.name].status),
            )
            for node in nodes
        ]
        shown = 6 if any(state.status for state in states.values()) else 5
        heads = ("node", "role", "cluster", "address", "starts in", "open until")
        table(heads[:shown], [row[:shown] for row in rows], squeeze=True)
        for name, state in states.items():
            if state.status is not None and state.status.batches:
                click.echo(f"{name} carries {', '.join(state.status.batches)}")
            if state.ending is not None:
                click.echo(f"{name} was open until {moment(int(state.ending.when * 1e9))}: {state.ending.why}")
            if state.trouble is not None:
                warn("; ".join(messages.explain(state.trouble)[:2]))


def _disagreeing(node: Node, others: list[Node]) -> list[Node]:
    """Nodes at the same address that have none of this node's pins."""
    return [
        other
        for other in others
        if (other.address, other.port or 22) == (node.address, node.port or 22)
        and node.trust
        and other.trust
        and not set(node.trust) & set(other.trust)
    ]


async def _states(app: App, nodes: list[Node]) -> dict[str, OpenState]:
    return {node.name: await openness(app, node.name) for node in nodes}


def _until(status: KeeperStatus | None) -> str:
    return moment(int(status.until * 1e9)) if status is not None else ""


@node_command.command("show", epilog="Example: yatagan node show heron")
@click.argument("name", shell_complete=shell_completion.nodes)
@as_json
def show_(name: str, json_: bool) -> None:
    """Show what is saved about a node."""
    app = App.start()
    node = app.nodes().get(name)
    if json_:
        say_json(_entry(node))
        return
    click.echo(click.style(node.name, bold=True))
    facts(
        [
            ("role", node.role.value),
            ("cluster", node.cluster or ""),
            ("address", show(node.address)),
            ("port", str(node.port or "22, or what ~/.ssh/config says")),
            ("user", show(node.user or "yours, or what ~/.ssh/config says")),
            ("key", show(node.key or "the agent's and your default keys")),
            ("starts in", show(node.start or "the account's home")),
            ("trusts", ", ".join(node.trust) or "keys that were accepted at a first login"),
            ("logins", f"up to {node.most_logins} at once for one batch"),
            ("rate", f"no more than {size(node.rate_cap)}/s" if node.rate_cap else "no limit"),
            ("areas", ", ".join(f"@{area.name} ({show(area.path)})" for area in node.areas)),
            ("saved in", show(str(app.home.nodes_file))),
        ]
    )


@node_command.command(epilog="Example: yatagan node remove heron")
@click.argument("name", shell_complete=shell_completion.nodes)
@as_json
def remove(name: str, json_: bool) -> None:
    """Forget a node. Nothing on the node changes."""
    app = App.start()
    if name in app.nodes() and app.keeper(name) is not None:
        raise Refused(f"{name} is open", f"yatagan node close {name}, then remove it")
    node = app.nodes().remove(name)
    if json_:
        say_json(_entry(node))
    else:
        click.echo(f"{node.name} is forgotten.")


for command in (open_command, close_command, check):
    node_command.add_command(command)


def _entry(node: Node) -> dict[str, Any]:
    return {**dataclasses.asdict(node), "role": node.role.value}


def _address(node: Node) -> str:
    user = f"{node.user}@" if node.user else ""
    return show(f"{user}{node.address}" + (f":{node.port}" if node.port else ""))
