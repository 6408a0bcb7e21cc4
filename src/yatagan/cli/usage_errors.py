"""A command line that cannot be understood, in words."""

from __future__ import annotations

import click

from yatagan.cli.command_group import UnknownCommand
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.messages import Explanation
from yatagan.near_names import nearest


def explain_usage(error: click.ClickException) -> Explanation:
    """A command line that cannot be understood: what is wrong with it, and what to type."""
    context = error.ctx if isinstance(error, click.UsageError) else None
    path = context.command_path if context is not None else "yatagan"
    see = f"see: {path} --help"
    match error:
        case UnknownCommand():
            what = f"there is no command {path} {error.message}"
            see = f"did you mean: {path} {error.near}" if error.near else see
        case click.NoSuchOption():
            what = f"there is no option {error.option_name} of {path}"
            options = context.command.params if context is not None else []
            near = nearest(error.option_name, [name for option in options for name in option.opts])
            see = f"did you mean {near}? {see}" if near else see
        case click.MissingParameter():
            shown = error.param.make_metavar(context) if error.param is not None and context is not None else "a word"
            what = f"{shown.strip('.')} is missing"
        case click.BadParameter() if error.param is not None:
            what = f"{error.param.opts[0] if error.param.opts[0][0] == '-' else error.param.human_readable_name}: "
            what += _clause(error.message)
        case _:
            what = _clause(error.format_message())
    return Explanation(what, see, ExitStatus.USAGE, "usage")


def _clause(message: str) -> str:
    """A sentence as a clause, to follow a colon."""
    return message[:1].lower() + message[1:].rstrip(".")
