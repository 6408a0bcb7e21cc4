"""What a shell offers for completion: names of nodes, areas, batches, datasets, and paths of open nodes.

Nobody logs in for a completion: what is on a node is only looked at through a login that is open.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import TYPE_CHECKING

import click

from yatagan.cli.terminal import terminal
from yatagan.errors import YataganError

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

    from yatagan.cli.context import App
    from yatagan.keeper.client import Keeper

#: Seconds that an open node may take to list a directory.
_PATIENCE = 2.0


def answer_shell(program: click.Command, typed: str) -> None:
    """Write the completions of a command line for one of the scripts. Never fails."""
    from click.shell_completion import ShellComplete, split_arg_string

    words = split_arg_string(typed)[1:]
    incomplete = words.pop() if words and not typed[-1:].isspace() else ""
    with suppress(YataganError, OSError, TimeoutError):
        finder = ShellComplete(program, {}, "yatagan", "_YATAGAN_COMPLETE")
        for item in finder.get_completions(words, incomplete):
            if item.type in ("file", "dir"):
                terminal.say("file")
            elif "\n" not in item.value:
                last = item.value[-1:] not in (":", "/")
                terminal.say(f"word {item.value}" + (" " if last else ""))


Completer = Callable[[click.Context, click.Parameter, str], "list[CompletionItem]"]


def _completer(find: Callable[[click.Context, str], Iterator[str]], *, files: bool = False) -> Completer:
    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        found = [CompletionItem(value) for value in find(ctx, incomplete) if value.startswith(incomplete)]
        local = files and ":" not in incomplete
        return [*found, CompletionItem(incomplete, type="file")] if local else found

    return complete


def _nodes(ctx: click.Context, incomplete: str) -> Iterator[str]:
    from yatagan.cli.context import App

    return (node.name for node in App.start(questions=False).nodes())


def _batches(ctx: click.Context, incomplete: str) -> Iterator[str]:
    """Batch names, and their last parts."""
    from yatagan.batches.batch_store import Batches
    from yatagan.cli.context import App

    for batch in Batches(App.start(questions=False).home.batches):
        yield batch.name
        if incomplete:
            yield batch.name.rpartition("-")[2]


def _areas(ctx: click.Context, incomplete: str) -> Iterator[str]:
    from yatagan.cli.context import App

    return (area.name for area in App.start(questions=False).nodes().get(ctx.params["node"]).areas)


def _places(ctx: click.Context, incomplete: str) -> Iterator[str]:
    """Nodes; after a colon areas, and entries if the node is open."""
    from yatagan.cli.context import App

    app = App.start(questions=False)
    name, colon, path = incomplete.partition(":")
    if not colon:
        yield from (f"{node.name}:" for node in app.nodes())
        return
    node = app.nodes().get(name)
    yield from (f"{name}:@{area.name}/" for area in node.areas)
    keeper = app.keeper(name)
    if keeper is not None:
        from yatagan.cli.context import run

        above, _, _ = path.rpartition("/")
        start = f"{above}/" if "/" in path else ""
        for entry in run(_listing(keeper, app, name, start)):
            yield f"{name}:{start}{entry}"


async def _listing(keeper: Keeper, app: App, node: str, directory: str) -> list[str]:
    """The names in a directory of an open node, directories with a slash."""
    import asyncio

    from yatagan.keeper.store import KeeperSource
    from yatagan.places import is_ours
    from yatagan.stores.interface import Kind

    found = []
    async with asyncio.timeout(_PATIENCE):
        store = await KeeperSource(keeper, app.nodes().get(node)).open()
        try:
            root = await store.resolve(os.fsencode(directory), follow=True)
            async for handful in store.entries(root):
                for name, facts in handful:
                    if not is_ours(name) and name.isascii() and name.decode("ascii").isprintable():
                        found.append(name.decode("ascii") + ("/" if facts.kind is Kind.DIRECTORY else ""))
        finally:
            await store.close()
    return sorted(found)


def _datasets(ctx: click.Context, incomplete: str) -> Iterator[str]:
    from pathlib import Path

    from yatagan.config.home import find_project
    from yatagan.config.project import load_project

    root = find_project(Path(os.getcwd()))
    return iter(load_project(root).datasets if root is not None else ())


#: For `shell_complete` of arguments.
nodes, batches, areas = _completer(_nodes), _completer(_batches), _completer(_areas)
datasets = _completer(_datasets)
places = _completer(_places, files=True)
