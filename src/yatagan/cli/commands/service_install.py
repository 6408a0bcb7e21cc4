"""`yatagan service install`, `show` and `remove`: workers after a restart, and every few minutes."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from yatagan.background.installing import Crontab, Installed, SystemdUser, TimerWay
from yatagan.background.timers import EVERY, PLACES, Timed
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import seconds_at
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal, text

print_only = click.option("--print", "print_", is_flag=True, help="Print what would be written, and change nothing.")


def _way(app: App) -> TimerWay:
    """The way of this machine: the user's systemd where it answers, else the crontab."""
    places = {name: os.environ[name] for name in PLACES if os.environ.get(name)}
    timed = Timed(os.path.abspath(sys.executable), places, str(app.home.workers_log))
    if SystemdUser.is_there():
        config = os.environ.get("XDG_CONFIG_HOME") or os.path.expanduser("~/.config")
        return SystemdUser(timed, Path(config, "systemd", "user"))
    return Crontab(timed, app.home.state / "crontab.before")


@click.command("install", epilog="Example: yatagan service install --print")
@print_only
@as_json
def install_command(print_: bool, json_: bool) -> None:
    """Have batches go on by themselves after a restart, and routines run.

    At the start of this machine and every few minutes a worker takes what is unfinished and needs no person. It is a
    timer of your systemd, or two lines in your crontab. To say so again changes nothing.
    """
    app = App.start(questions=False)
    way = _way(app)
    if print_ and not json_:
        terminal.say_data(way.text().encode("utf-8", "surrogateescape"))
        return
    if not print_:
        way.install()
    found = way.look()
    if json_:
        say_json({**_fields(app, found), "text": way.text()})
        return
    terminal.say(f"Installed: after a restart and every {EVERY} min, what is unfinished and needs no person goes on.")
    _tell_lasting(found)


@click.command("show", epilog="Example: yatagan service show")
@as_json
def show_command(json_: bool) -> None:
    """Say what is installed, and when it ran last."""
    app = App.start(questions=False)
    found = _way(app).look()
    if json_:
        say_json(_fields(app, found))
        return
    last = last_run(app)
    state = "installed" if found.current else "installed by another version" if found.there else "not installed"
    rows = [
        ("service", state + (f", by {found.way}" if found.there else "")),
        ("where", ", ".join(map(text.show, found.where)) if found.there else ""),
        ("ran last", text.moment(int(last * 1e9)) if last is not None else "never" if found.there else ""),
        ("log", text.show(str(app.home.workers_log)) if found.there else ""),
    ]
    text.facts(rows)
    if not found.current:
        terminal.say("  Install it with: yatagan service install")
    else:
        _tell_lasting(found)


@click.command("remove", epilog="Example: yatagan service remove")
@print_only
@as_json
def remove_command(print_: bool, json_: bool) -> None:
    """Take away what service install has written. Batches stay as they are."""
    app = App.start(questions=False)
    way = _way(app)
    before = way.look()
    if not print_:
        way.remove()
    if json_:
        say_json({"removed": before.there and not print_, "where": list(before.where)})
    elif not before.there:
        terminal.say("The service is not installed.")
    else:
        terminal.say(f"{'Would remove' if print_ else 'Removed'} from: {', '.join(map(text.show, before.where))}")


def _tell_lasting(found: Installed) -> None:
    if not found.lasts:
        terminal.say("  It runs only while you are logged in. To have it run always: loginctl enable-linger")


def _fields(app: App, found: Installed) -> dict[str, object]:
    return {
        "way": found.way,
        "installed": found.there,
        "current": found.current,
        "where": list(found.where),
        "runs_without_login": found.lasts,
        "last_run_at": seconds_at(last_run(app)),
    }


def note_run(app: App) -> None:
    """Note that the timer has run."""
    _noted(app).touch(mode=0o600)


def last_run(app: App) -> float | None:
    """When the timer has run last, in seconds since the epoch; None if it never has."""
    try:
        return _noted(app).stat().st_mtime
    except OSError:
        return None


def _noted(app: App) -> Path:
    return app.home.state / "service-ran"
