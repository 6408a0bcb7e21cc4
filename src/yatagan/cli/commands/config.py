"""`yatagan config`: settings that are not about a node, and the directories of this machine that may be touched."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.text import facts, show, table, warn
from yatagan.cli.words.record_words import unsigned_words
from yatagan.cli.words.setting_words import SAYS, value_words
from yatagan.config.setting import Unit
from yatagan.config.settings import Settings, allow_root, change_setting, withdraw_root
from yatagan.errors import BadPlace


@click.group("config", cls=CommandGroup)
def config_command() -> None:
    """Change settings that are not about one node, and which directories of this machine may be touched.

    Commands touch the working directory, the project's root, and what they name. The project's root is the nearest
    directory above that holds a file yatagan.toml, which may be empty. A link that leads out of these is not followed
    unless its target is allowed.
    """


@config_command.command("show", epilog="Example: yatagan config show --json")
@as_json
def show_(json_: bool) -> None:
    """Show all settings, and where they are kept."""
    app = App.start()
    (_say_all if json_ else _show)(app, app.settings())


@config_command.command("set", epilog="Example: yatagan config set connection.patience 30m")
@click.argument("setting")
@click.argument("value")
@as_json
def set_(setting: str, value: str, json_: bool) -> None:
    """Set SETTING, such as connection.patience, to VALUE.

    An empty VALUE takes a text back: '' for ledger.directory, ledger.sign-with or notice.mail.
    """
    app = App.start()
    if setting in _PATHS and value:
        value = os.path.abspath(os.path.expanduser(value))
        _PATHS[setting](value)
    said = f"{setting} is {value} now." if value else f"{setting} is not set now."
    _tell(app, change_setting(app.home, setting, value), json_, said)


def _refuse_ledger(directory: str) -> None:
    """Make a ledger's directory if only that is missing. Raises BadPlace for what cannot be one.

    It is not made later: what stands in for a disk that is not mounted must not get records.
    """
    try:
        if not os.path.isdir(directory):
            os.mkdir(directory)
    except OSError as error:
        raise BadPlace(directory, error.strerror or str(error), "name a directory that you may write to") from error


def _refuse_key(file: str) -> None:
    """Raise BadPlace for a key that cannot sign unattended; warn of one that cannot sign now."""
    from yatagan.ledger.appending import CannotSign, Unsigned
    from yatagan.ledger.signing import KeySigner

    try:
        KeySigner(Path(file), os.environ.get("SSH_AUTH_SOCK", "")).sign(b"")
    except CannotSign as error:
        why = unsigned_words(error.why)
        if error.why in (Unsigned.KEY_MISSING, Unsigned.KEY_UNREADABLE, Unsigned.NEEDS_TOUCH):
            raise BadPlace(file, why, "name a private key, or the public half of one that your agent holds") from None
        warn(f"records are not signed while {why}")


#: Settings that are paths, and what looks at them before they are set.
_PATHS: dict[str, Callable[[str], None]] = {"ledger.directory": _refuse_ledger, "ledger.sign-with": _refuse_key}


@config_command.command("allow", epilog="Example: yatagan config allow /data/fen --write")
@click.argument("directory")
@click.option("--write/--read", "writing", default=False, help="Also to write there, or only to read (the default).")
@as_json
def allow(directory: str, writing: bool, json_: bool) -> None:
    """Let links lead to DIRECTORY, to read or also to write there.

    One that is only to be read is then never written to, not even when a command names it.
    """
    root = os.path.abspath(directory)
    if not os.path.isdir(root):
        raise BadPlace(directory, "it is no directory", "name one that is there")
    app = App.start()
    what = "read and written" if writing else "read, and never written"
    _tell(app, allow_root(app.home, root, writing=writing), json_, f"{show(root)} may be {what}.")


@config_command.command(
    "withdraw",
    short_help="Withdraw what config allow has allowed.",
    epilog="Example: yatagan config withdraw /data/fen",
)
@click.argument("directory")
@as_json
def withdraw(directory: str, json_: bool) -> None:
    """Withdraw what config allow has allowed: links may lead to DIRECTORY no more."""
    app, root = App.start(), os.path.abspath(directory)
    roots = app.settings().roots
    if root not in (*roots.readable, *roots.writable):
        raise BadPlace(directory, "it was not allowed", "yatagan config show lists what is")
    said = f"{show(root)} is allowed no more: only what a command names there is touched."
    _tell(app, withdraw_root(app.home, root), json_, said)


def _tell(app: App, settings: Settings, json_: bool, said: str) -> None:
    """Show a change in one line."""
    if json_:
        _say_all(app, settings)
    else:
        terminal.say(said)


def _say_all(app: App, settings: Settings) -> None:
    answer: dict[str, Any] = {"file": str(app.home.settings_file)}
    for name, unit, value in settings.every():
        table, key = name.replace("-", "_").split(".")
        counted = f"_{unit.value}" if unit in (Unit.SECONDS, Unit.BYTES) else ""
        answer.setdefault(table, {})[key + counted] = None if value == "" else value
    answer["ledger"]["directory"] = str(app.ledger().directory.path)
    answer["roots"] = {"readable": list(settings.roots.readable), "writable": list(settings.roots.writable)}
    say_json(answer)


def _show(app: App, settings: Settings) -> None:
    roots = settings.roots
    rows = [(name, value_words(name, unit, value), SAYS[name]) for name, unit, value in settings.every()]
    table(("setting", "value", "what it says"), rows)
    here, *project = (os.fsdecode(root) for root in app.roots().near)
    terminal.say(terminal.style("What may be touched of this machine, besides what a command names", bold=True))
    facts(
        [
            (show(here), "the working directory"),
            *((show(root), "the project") for root in project if root != here),
            *((show(root), "allowed, only to read") for root in roots.readable),
            *((show(root), "allowed, also to write") for root in roots.writable),
        ]
    )
    terminal.say(f"saved in {show(str(app.home.settings_file))}")
