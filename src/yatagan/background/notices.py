"""Sending notices, by every way that the settings name.

The words come from the interface. A notice that cannot be sent harms nothing: why not is returned, for the log.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from yatagan.background.mail import (
    COMMAND_SECONDS,
    NotDelivered,
    ask_password,
    compose,
    run_command,
    send_by_machine,
    send_by_server,
)
from yatagan.config.notice_settings import NoticeSettings, parse_mail_server


@dataclass(frozen=True, slots=True)
class Notice:
    """A message to a person: the verdict in one line, the full text, and a summary for scripts.

    `of_node`: it is about a node, and not about one batch.
    """

    subject: str
    body: str
    summary: Mapping[str, Any]
    trouble: bool
    of_node: bool = False


@dataclass(frozen=True, slots=True)
class Delivery:
    """One way in which a notice went, or did not: then `why`."""

    way: str
    to: str
    why: str = ""


def send(notice: Notice, settings: NoticeSettings) -> list[Delivery]:
    """Send a notice by every way that is set. Takes up to a minute each; to be called from a thread. Never raises."""
    ways: list[tuple[str, str, Callable[[], object]]] = []
    if settings.mail:
        ways.append(("mail", settings.mail, lambda: _mail(notice, settings)))
    if settings.command:
        given = json.dumps(notice.summary, ensure_ascii=False).encode()
        words = ["/bin/sh", "-c", settings.command]
        ways.append(("command", settings.command, lambda: run_command(words, given, COMMAND_SECONDS)))
    if settings.desktop:
        ways.append(("desktop", "", lambda: _desktop(notice)))
    return [_told(*way) for way in ways]


def _told(way: str, to: str, tell: Callable[[], object]) -> Delivery:
    try:
        tell()
    except NotDelivered as error:
        return Delivery(way, to, str(error))
    return Delivery(way, to)


def _mail(notice: Notice, settings: NoticeSettings) -> None:
    message = compose(settings.mail, notice.subject, notice.body)
    if not settings.smtp:
        send_by_machine(message, settings.mail)
        return
    server = parse_mail_server(settings.smtp)
    password = ""
    if server.user:
        if not settings.password_command:
            raise NotDelivered(
                f"{server.host} asks for a password; name a command that prints it, notice.password-command"
            )
        password = ask_password(settings.password_command)
    send_by_server(message, server, password)


def _desktop(notice: Notice) -> None:
    program = shutil.which("notify-send")
    if program is None:
        raise NotDelivered("this machine has no notify-send")
    run_command([program, "--", "Yatagan", notice.subject], b"", COMMAND_SECONDS)
