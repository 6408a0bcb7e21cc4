"""`yatagan service`: what carries batches in the background. The commands are in the modules beside it."""

from __future__ import annotations

import click

from yatagan.cli.command_group import LazyGroup

_COMMANDS = {
    "install": ("service_install", "Have batches go on after a restart, and routines run."),
    "show": ("service_install", "Say what is installed, and when it ran last."),
    "remove": ("service_install", "Take away what service install has written."),
    "run": ("service_run", "Carry what is in the queue."),
}


@click.group("service", cls=LazyGroup, lazy=_COMMANDS)
def service_command() -> None:
    """What carries batches in the background, and goes on with them after a restart."""
