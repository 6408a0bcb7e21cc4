"""Settings of notices: to whom, by which way, and when."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum
from urllib.parse import unquote, urlsplit

from yatagan.config.setting import Unit, setting

#: An address as mail servers take it, without a display name (RFC 5321, section 4.1.2, and letters of other scripts).
_ADDRESS = re.compile(r"[^\s@<>,;:\\\"()\[\]]+@[^\s@<>,;:\\\"()\[\]]+")


class NoticeWhen(StrEnum):
    """When a notice is sent."""

    #: When a batch has ended, and nothing is wrong.
    FINISHED = "finished"
    #: When something is wrong.
    TROUBLE = "trouble"
    ALWAYS = "always"


@dataclass(frozen=True, slots=True)
class MailServer:
    """Where mail is handed in. `tls` from the first byte, or begun by STARTTLS (RFC 3207, RFC 8314); never without."""

    host: str
    port: int
    tls: bool
    user: str = ""


def parse_mail_server(text: str) -> MailServer:
    """A mail server from `smtps://USER@HOST:465` (TLS) or `smtp://USER@HOST:587` (STARTTLS). Raises ValueError."""
    found = urlsplit(text)
    ports = {"smtps": 465, "smtp": 587}
    if found.scheme not in ports or not found.hostname or found.path.strip("/") or found.query:
        raise ValueError(f"{text!r} is no mail server; write smtps://USER@HOST (TLS) or smtp://USER@HOST (STARTTLS)")
    if found.password is not None:
        raise ValueError("a password is kept in no file: name a command that prints it, as notice.password-command")
    port = found.port if found.port is not None else ports[found.scheme]
    return MailServer(found.hostname, port, found.scheme == "smtps", unquote(found.username or ""))


def _read_server(text: str) -> str:
    if text:
        parse_mail_server(text)
    return text


def _read_address(text: str) -> str:
    if text and not _ADDRESS.fullmatch(text):
        raise ValueError(f"{text!r} is no mail address; write it as you@fen.example")
    return text


def _read_when(text: str) -> str:
    if text not in set(NoticeWhen):
        raise ValueError(f"{text!r} is not one of {', '.join(NoticeWhen)}")
    return text


@dataclass(frozen=True, slots=True)
class NoticeSettings:
    """By which ways notices go. An empty text: not that way.

    `mail`: an address; it is handed in at `smtp`, or without that by the machine's own sendmail. `password_command`
    prints the password for `smtp`. `command` gets a summary as JSON on its standard input.
    """

    mail: str = setting("", Unit.TEXT, _read_address)
    smtp: str = setting("", Unit.TEXT, _read_server)
    password_command: str = setting("", Unit.TEXT)
    command: str = setting("", Unit.TEXT)
    desktop: bool = setting(False, Unit.FLAG)
    when: str = setting(NoticeWhen.ALWAYS.value, Unit.TEXT, _read_when)

    @property
    def any_way(self) -> bool:
        """Whether there is any way to tell."""
        return bool(self.mail or self.command or self.desktop)

    def wants(self, *, trouble: bool) -> bool:
        """Whether a notice of this kind is wanted."""
        wanted = NoticeWhen.TROUBLE if trouble else NoticeWhen.FINISHED
        return self.when in (NoticeWhen.ALWAYS, wanted)
