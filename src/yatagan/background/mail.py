"""Handing in a mail: at a mail server over TLS, or by the machine's own sendmail."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from typing import TYPE_CHECKING

from yatagan.config.notice_settings import MailServer

if TYPE_CHECKING:
    import smtplib
    import ssl

#: Time limits in seconds: for one answer of a mail server, and for all of it.
ANSWER = 20.0
#: Seconds that a command of the user's may take: to print a password, and to do something with a notice.
PASSWORD_SECONDS, COMMAND_SECONDS = 20.0, 60.0
#: Where sendmail is looked for besides the usual directories.
_BESIDE = ("/usr/sbin", "/usr/lib", "/sbin")


class NotDelivered(Exception):
    """A notice could not be sent. The text is a clause that says why."""


def compose(address: str, subject: str, body: str) -> EmailMessage:
    """A mail to and from an address. Nothing in it breaks a header; other letters than ASCII are encoded (RFC 2047)."""
    message = EmailMessage()
    message["Subject"] = " ".join(subject.split())
    message["From"] = Address("Yatagan", addr_spec=address) if address.isascii() else address
    message["To"] = address
    message["Date"] = formatdate(localtime=True)
    message["Message-ID"] = make_msgid(domain="yatagan.invalid")
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: no automatic reply comes back
    message.set_content(body)
    return message


def send_by_server(message: EmailMessage, server: MailServer, password: str) -> None:
    """Hand a mail in at a server, over TLS and never without. Raises NotDelivered."""
    try:
        import smtplib  # which commands that only show what became of a notice can do without
        import ssl
    except ImportError as error:
        raise NotDelivered("this Python knows no TLS, and mail goes over that alone") from error
    context = ssl.create_default_context()
    try:
        with _connected(server, context) as smtp:
            if not server.tls:
                smtp.starttls(context=context)
                smtp.ehlo()
            if server.user:
                smtp.login(server.user, password)
            smtp.send_message(message)
    except ssl.SSLError as error:
        raise NotDelivered(f"{server.host} cannot be trusted with it: {error.reason or error}") from error
    except smtplib.SMTPNotSupportedError as error:
        raise NotDelivered(f"{server.host} does not offer what is needed: {error}") from error
    except smtplib.SMTPAuthenticationError as error:
        raise NotDelivered(f"{server.host} refuses the user or the password") from error
    except smtplib.SMTPResponseException as error:
        said = error.smtp_error.decode("utf-8", "replace") if isinstance(error.smtp_error, bytes) else error.smtp_error
        raise NotDelivered(f"{server.host} refuses it: {error.smtp_code} {said}") from error
    except smtplib.SMTPRecipientsRefused as error:
        code, text = next(iter(error.recipients.values()))
        raise NotDelivered(f"{server.host} refuses the address: {code} {text.decode('utf-8', 'replace')}") from error
    except (OSError, smtplib.SMTPException) as error:
        silent = isinstance(error, TimeoutError) or "timed out" in str(error)
        why = "it does not answer" if silent else str(error) or type(error).__name__
        raise NotDelivered(f"{server.host} cannot be reached at port {server.port}: {why}") from error


def _connected(server: MailServer, context: ssl.SSLContext) -> smtplib.SMTP:
    import smtplib

    if server.tls:
        return smtplib.SMTP_SSL(server.host, server.port, timeout=ANSWER, context=context)
    return smtplib.SMTP(server.host, server.port, timeout=ANSWER)


def send_by_machine(message: EmailMessage, address: str) -> None:
    """Hand a mail to the machine's own sendmail. Raises NotDelivered."""
    program = shutil.which("sendmail") or shutil.which("sendmail", path=os.pathsep.join(_BESIDE))
    if program is None:
        raise NotDelivered("this machine has no sendmail; name a mail server as notice.smtp")
    run_command([program, "-i", "--", address], bytes(message), COMMAND_SECONDS)


def ask_password(command: str) -> str:
    """The password that a command prints, on its first line. Raises NotDelivered."""
    said = run_command(["/bin/sh", "-c", command], b"", PASSWORD_SECONDS).decode("utf-8", "replace")
    if not (password := said.split("\n")[0].rstrip("\r")):
        raise NotDelivered("notice.password-command prints nothing")
    return password


def run_command(words: list[str], given: bytes, seconds: float) -> bytes:
    """Run a command without a terminal, with this on its standard input. Returns what it prints. Raises NotDelivered.

    What it has started is ended with it when its time is up.
    """
    name = os.path.basename(words[0]) if words[0] != "/bin/sh" else "it"  # the user's own words, which they know
    try:
        process = subprocess.Popen(
            words,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            cwd="/",
            start_new_session=True,
        )
    except OSError as error:
        raise NotDelivered(f"{name} cannot be run: {error.strerror}") from error
    try:
        out, trouble = process.communicate(given, timeout=seconds)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.communicate()
        raise NotDelivered(f"{name} took longer than {seconds:.0f} s, and was ended") from None
    if process.returncode:
        last = trouble.decode("utf-8", "replace").strip().rpartition("\n")[2]
        raise NotDelivered(f"{name} ended with {process.returncode}{f': {last}' if last else ''}")
    return out
