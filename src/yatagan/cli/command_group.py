"""A group of commands that knows what was probably meant."""

from __future__ import annotations

import click


class CommandGroup(click.Group):
    """A group that answers an unknown command with the nearest one."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """See `click.Group.resolve_command`. Raises UnknownCommand."""
        name = args[0]
        if self.get_command(ctx, name) is None and not name.startswith("-") and not ctx.resilient_parsing:
            from yatagan.near_names import nearest

            raise UnknownCommand(name, nearest(name, self.list_commands(ctx)), ctx)
        return super().resolve_command(ctx, args)


class UnknownCommand(click.UsageError):
    """There is no such command; `near` is most like it, or ""."""

    def __init__(self, name: str, near: str, ctx: click.Context) -> None:
        super().__init__(name, ctx)
        self.near = near
