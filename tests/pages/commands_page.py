"""Prints docs/reference/commands.md: every command as its --help says it.

`make pages` writes it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import click

from yatagan.cli.main import EPILOG, program

HEAD = """\
# Commands

What `--help` says, command by command. This page is printed by `make pages`; the man page is made
from it.
"""


def page() -> str:
    """The page."""
    context = click.Context(program, info_name="yatagan")
    return HEAD + "".join(sections(program, context)) + f"\n{paragraphs(EPILOG.split(chr(8))[0])}"


def sections(command: click.Command, context: click.Context) -> Iterator[str]:
    """The section of a command, and those of its commands."""
    if isinstance(command, click.Group):
        if command is not program:
            yield f"\n## {context.command_path}\n\n{paragraphs(command.help or '')}"
        for name in command.list_commands(context):
            below = command.get_command(context, name)
            assert below is not None
            yield from sections(below, click.Context(below, info_name=name, parent=context))
        return
    level = "##" if context.parent is not None and context.parent.command is program else "###"
    usage = " ".join([context.command_path, *command.collect_usage_pieces(context)])
    yield f"\n{level} {context.command_path}\n\n```\n{usage}\n```\n\n{paragraphs(command.help or '')}"
    options = [option for option in command.params if isinstance(option, click.Option) and option.help]
    if options:
        yield "\n" + "".join(map(describe, options))
    if command.epilog:
        yield "\n" + examples(command.epilog)


def paragraphs(text: str) -> str:
    """Help as paragraphs."""
    blocks = re.split(r"\n\s*\n", text.strip())
    return "\n\n".join(re.sub(r"\s+", " ", block).strip() for block in blocks) + "\n"


def describe(option: click.Option) -> str:
    """An option, as one of a list."""
    names = " / ".join([", ".join(option.opts), *option.secondary_opts])
    value = "" if option.is_flag or option.count else " " + option.make_metavar(click.Context(program))
    default = option.default
    shown = option.show_default and isinstance(default, str | int | float)
    return f"- `{names}{value}`: {option.help}{f' [default: {default}]' if shown else ''}\n"


def examples(epilog: str) -> str:
    """The examples below a command's help, as typed; and what is said besides."""
    text = epilog.replace("\b\n", "").strip()
    lines = [line for line in text.splitlines() if line.strip() not in ("Example:", "Examples:")]
    lines = [line.removeprefix("Example: ") for line in lines if line.strip()]
    return "```\n" + "\n".join(line.strip() for line in lines) + "\n```\n"


if __name__ == "__main__":
    print(page(), end="")
