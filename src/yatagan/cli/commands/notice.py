"""`yatagan notice`: whether notices would reach you."""

from __future__ import annotations

import click

from yatagan.background.notices import Delivery, send
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import delivery_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views import notice_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.errors import Refused


@click.group("notice", cls=CommandGroup)
def notice_command() -> None:
    """Notices about batches in the background: by mail, by a command of yours, on the desktop."""


@notice_command.command("test", epilog="Example: yatagan notice test")
@as_json
def test(json_: bool) -> None:
    """Send a notice by every way that is set, and say which have worked."""
    app = App.start(questions=False)
    settings = app.settings().notice
    if not settings.any_way:
        raise Refused("no way to tell you is set", "set one, such as: yatagan config set notice.mail you@fen.example")
    deliveries = send(notice_words.of_test(), settings)
    if json_:
        say_json({"deliveries": [delivery_json(each) for each in deliveries]})
    else:
        for each in deliveries:
            tone = text.Tone.TROUBLE if each.why else text.Tone.GOOD
            terminal.say(text.tinted(delivery_words(each), tone))
    if any(each.why for each in deliveries):
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def delivery_words(delivery: Delivery) -> str:
    """How a notice went by one way: `mail to you@fen.example: sent`."""
    to = f" to {text.show(delivery.to)}" if delivery.way == "mail" else ""
    return f"{delivery.way}{to}: {f'not sent, {text.show(delivery.why)}' if delivery.why else 'sent'}"
