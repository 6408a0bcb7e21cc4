"""`yatagan completion`, and what it offers: names of nodes, areas, batches, and paths of open nodes.

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

# A shell hands over the line up to the cursor and gets lines back: `file` for names of its own, or `word VALUE`.
# bash also splits words at colons, so it must get only what follows the last one.
_BASH = """\
_yatagan_completion() {
    local word line reply=() files=()
    word=${COMP_LINE:0:COMP_POINT}; word=${word##*[[:space:]]}
    mapfile -t reply < <(_YATAGAN_TYPED="${COMP_LINE:0:COMP_POINT}" _YATAGAN_COMPLETE=bash_complete "$1" 2>/dev/null)
    COMPREPLY=()
    compopt -o nospace 2>/dev/null
    for line in "${reply[@]}"; do
        case $line in
            file)
                mapfile -t files < <(compgen -f -- "$word")
                [ ${#files[@]} -gt 0 ] && compopt -o filenames 2>/dev/null
                COMPREPLY+=("${files[@]}");;
            "word "*) line=${line#word }
                case $COMP_WORDBREAKS in *:*) case $word in *:*) line=${line#"${word%:*}:"};; esac;; esac
                COMPREPLY+=("$line");;
        esac
    done
}
complete -F _yatagan_completion yatagan
"""
_ZSH = """\
#compdef yatagan
_yatagan_completion() {
    local line
    for line in "${(@f)$(_YATAGAN_TYPED="${(j: :)words[1,CURRENT]}" _YATAGAN_COMPLETE=zsh_complete ${words[1]})}"; do
        case $line in
            file) _files;;
            "word "*) compadd -Q -S '' -- "${line#word }";;
        esac
    done
}
compdef _yatagan_completion yatagan
"""
_FISH = """\
function _yatagan_completion
    for line in (_YATAGAN_TYPED=(commandline -cp) _YATAGAN_COMPLETE=fish_complete yatagan)
        switch $line
            case file
                __fish_complete_path (commandline -ct)
            case "word *"
                string trim --right -- (string replace "word " "" -- $line)
        end
    end
end
complete --no-files --command yatagan --arguments "(_yatagan_completion)"
"""
_SCRIPTS = {"bash": _BASH, "zsh": _ZSH, "fish": _FISH}


@click.command(
    "completion",
    epilog="""\b
Put it where your shell starts, such as:
  echo 'eval "$(yatagan completion bash)"' >> ~/.bashrc
  echo 'eval "$(yatagan completion zsh)"' >> ~/.zshrc      (after compinit)
  yatagan completion fish > ~/.config/fish/completions/yatagan.fish""",
)
@click.argument("shell", type=click.Choice(list(_SCRIPTS)))
def completion_command(shell: str) -> None:
    """Write the script that lets SHELL complete commands, options and names.

    Paths on a node are completed while it is open: see yatagan node open.
    """
    terminal.say_data(_SCRIPTS[shell].encode())


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
