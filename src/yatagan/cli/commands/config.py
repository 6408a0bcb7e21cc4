"""`yatagan config`: settings that are not about a node, and the directories of this machine that may be touched."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import click

from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.text import facts, number, show, size, table, warn
from yatagan.cli.words.record_words import unsigned_words
from yatagan.config.settings import Settings, allow_root, change_setting, withdraw_root
from yatagan.config.units import spell_duration
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
    say_json(
        {
            "file": str(app.home.settings_file),
            "connection": {
                "patience_seconds": settings.connection.patience,
                "silence_seconds": settings.connection.silence,
                "keepalive_seconds": settings.connection.keepalive,
                "processes": settings.connection.processes,
            },
            "login_node": {"size_bytes": settings.login_node.size, "time_seconds": settings.login_node.time},
            "tree": {"entries": settings.tree.entries},
            "disk": {"reserve_bytes": settings.disk.reserve},
            "ledger": {
                "directory": str(app.ledger().directory.path),
                "sign_with": settings.ledger.sign_with or None,
            },
            "notice": {
                "mail": settings.notice.mail or None,
                "smtp": settings.notice.smtp or None,
                "password_command": settings.notice.password_command or None,
                "command": settings.notice.command or None,
                "desktop": settings.notice.desktop,
                "when": settings.notice.when,
            },
            "queue": {"at_once": settings.queue.at_once},
            "roots": {"readable": list(settings.roots.readable), "writable": list(settings.roots.writable)},
        }
    )


def _show(app: App, settings: Settings) -> None:
    connection, login_node, roots = settings.connection, settings.login_node, settings.roots
    table(
        ("setting", "value", "what it says"),
        [
            ("connection.patience", spell_duration(connection.patience), "how long a batch waits for it to come back"),
            ("connection.silence", spell_duration(connection.silence), "how long a server may answer nothing"),
            ("connection.keepalive", spell_duration(connection.keepalive), "how often it is tested"),
            ("connection.processes", str(connection.processes), "that encrypt and decrypt beside a batch's own"),
            ("login-node.size", size(login_node.size), "a larger stage through a login node gets a warning"),
            ("login-node.time", spell_duration(login_node.time), "and so does one that takes longer"),
            ("tree.entries", number(settings.tree.entries), "that one command reads before it asks, or stops"),
            ("disk.reserve", size(settings.disk.reserve), "that a stage leaves free at its destination"),
            ("ledger.directory", show(settings.ledger.directory) or "your own", "where records are kept"),
            ("notice.mail", show(settings.notice.mail) or "none", "who gets a mail when a batch has ended"),
            ("notice.smtp", show(settings.notice.smtp) or "sendmail", "where that mail is handed in"),
            ("notice.password-command", show(settings.notice.password_command) or "none", "that prints the password"),
            ("notice.command", show(settings.notice.command) or "none", "that gets a summary as JSON"),
            ("notice.desktop", "yes" if settings.notice.desktop else "no", "whether the desktop shows it"),
            ("notice.when", settings.notice.when, "finished, trouble, or always"),
            ("queue.at-once", str(settings.queue.at_once), "batches in the background that are carried at once"),
            ("ledger.sign-with", show(settings.ledger.sign_with) or "nothing", "the SSH key that signs them"),
        ],
    )
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
