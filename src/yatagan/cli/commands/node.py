"""`yatagan node`: nodes under short names."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.node_answer import openness_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.commands.node_check import check
from yatagan.cli.commands.node_open import OpenState, close_command, open_command, openness
from yatagan.cli.commands.node_save import add_command, change_command, entry
from yatagan.cli.context import App, as_json, run
from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.text import facts, moment, show, size, table, warn
from yatagan.cli.words import messages
from yatagan.config.nodes import Node
from yatagan.errors import Refused

if TYPE_CHECKING:
    from yatagan.keeper.client import KeeperStatus


@click.group("node", cls=CommandGroup)
def node_command() -> None:
    """Save nodes under short names, check them, and log in."""


@node_command.command("list", epilog="Example: yatagan node list --json")
@as_json
def list_(json_: bool) -> None:
    """Show the saved nodes, and which of them are open."""
    app = App.start()
    nodes = list(app.nodes())
    states = run(_states(app, nodes))
    if json_:
        say_json({"nodes": [{**entry(node), "open": openness_json(states[node.name].status)} for node in nodes]})
    elif not nodes:
        terminal.say("No node is saved yet. Save one with: yatagan node add NAME ADDRESS")
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
                terminal.say(f"{name} carries {', '.join(state.status.batches)}")
            if state.ending is not None:
                terminal.say(f"{name} was open until {moment(int(state.ending.when * 1e9))}: {state.ending.why}")
            if state.trouble is not None:
                warn(str(messages.explain(state.trouble)))


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
        say_json(entry(node))
        return
    terminal.say(terminal.style(node.name, bold=True))
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
        say_json(entry(node))
    else:
        terminal.say(f"{node.name} is forgotten.")


for command in (add_command, change_command, open_command, close_command, check):
    node_command.add_command(command)


def _address(node: Node) -> str:
    user = f"{node.user}@" if node.user else ""
    return show(f"{user}{node.address}" + (f":{node.port}" if node.port else ""))
