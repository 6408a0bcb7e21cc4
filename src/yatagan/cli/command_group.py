"""Groups of commands that know what was probably meant, and load only what is asked for."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from typing import Any

import click


class CommandGroup(click.Group):
    """A group that answers an unknown command with the nearest one."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Raises UnknownCommand."""
        name = args[0]
        if self.get_command(ctx, name) is None and not name.startswith("-") and not ctx.resilient_parsing:
            from yatagan.near_names import nearest

            raise UnknownCommand(name, nearest(name, self.list_commands(ctx)), ctx)
        return super().resolve_command(ctx, args)


class LazyGroup(CommandGroup):
    """A group whose commands are imported when they are run.

    `lazy`: by a command's name the module in `commands/` that has it, as NAME_command, and the line that `--help`
    shows.
    """

    def __init__(self, *args: Any, lazy: Mapping[str, tuple[str, str]], **more: Any) -> None:
        super().__init__(*args, **more)
        self.lazy = lazy

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Nothing is imported for it."""
        return list(self.lazy)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Its module is imported for it."""
        if cmd_name not in self.lazy:
            return None
        module = importlib.import_module(f"yatagan.cli.commands.{self.lazy[cmd_name][0]}")
        command = getattr(module, f"{cmd_name}_command")
        assert isinstance(command, click.Command)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Nothing is imported for it."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, line) for name, (_, line) in self.lazy.items()])


class UnknownCommand(click.UsageError):
    """There is no such command; `near` is most like it, or ""."""

    def __init__(self, name: str, near: str, ctx: click.Context) -> None:
        super().__init__(name, ctx)
        self.near = near
