"""`yatagan batch`: what became of batches, and what is to become of them. The commands are in the modules beside it."""

from __future__ import annotations

import click

from yatagan.cli.command_group import LazyGroup

_COMMANDS = {
    "list": ("batch_list", "Show all batches, newest first."),
    "show": ("batch_show", "Show what is done, waiting and failed."),
    "watch": ("batch_watch", "Watch batches move."),
    "log": ("batch_log", "Tell what happened to a batch."),
    "hold": ("batch_stop", "Stop a batch for now."),
    "resume": ("batch_resume", "Go on with a batch, or with all."),
    "cancel": ("batch_stop", "Stop a batch and give it up."),
    "remove": ("batch_remove", "Forget batches that have ended."),
}


@click.group("batch", cls=LazyGroup, lazy=_COMMANDS)
def batch_command() -> None:
    """A batch is a plan that was accepted, with the state of every step on disk.

    ID is any part of a batch's name that no other has, such as its last four characters.
    """
