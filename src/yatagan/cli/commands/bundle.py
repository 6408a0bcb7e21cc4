"""`yatagan bundle`: directories as open archives, and archives of any maker as what is in them."""

from __future__ import annotations

import click

from yatagan.cli.command_group import CommandGroup
from yatagan.cli.commands.bundle_make import make_command
from yatagan.cli.commands.bundle_read import check_command, list_command, unpack_command


@click.group("bundle", cls=CommandGroup)
def bundle_command() -> None:
    """Make, list, check and unpack archives, here and on nodes.

    A bundle is a tar archive, plain, gzip or zstd, with an index of its members beside it. Any program reads it.
    """


for _command in (make_command, list_command, unpack_command, check_command):
    bundle_command.add_command(_command)
