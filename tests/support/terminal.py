"""A terminal to run the program in, for the tests that must type something."""

from __future__ import annotations

import fcntl
import os
import pty
import select
import subprocess
import termios
import time
from pathlib import Path

from conftest import YATAGAN, ForkedPopen, Practice, Program


class ForkedAtTerminal(ForkedPopen):
    """Leads a session at the terminal that its standard input is."""

    at_terminal = True


class Terminal:
    """The program, or another one, in a pseudo-terminal of 80 columns."""

    def __init__(self, program: Program, *words: str, run: str = YATAGAN) -> None:
        self._master, slave = pty.openpty()
        termios.tcsetwinsize(self._master, (24, 80))
        start = ForkedAtTerminal if run == YATAGAN else subprocess.Popen
        self._child = start(
            [run, *words],
            cwd=program.directory,
            stdin=slave,
            stdout=slave,
            stderr=slave,
            env={**program.environment(), "TERM": "xterm-256color"},
            start_new_session=True,
            preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),
        )
        os.close(slave)
        self.seen = ""
        self._expected = 0  # where in `seen` the last expected text ended

    def expect(self, text: str, seconds: float = 30) -> None:
        """Read until the text has appeared, from where the last one ended."""
        end = time.monotonic() + seconds
        while (at := self.seen.find(text, self._expected)) < 0:
            if not self._read(end):
                raise AssertionError(f"{text!r} never came; seen: {self.seen!r}")
        self._expected = at + len(text)

    def _read(self, end: float) -> bool:
        ready, _, _ = select.select([self._master], [], [], max(0, end - time.monotonic()))
        if not ready:
            return False
        try:
            data = os.read(self._master, 65536)
        except OSError:
            return False
        self.seen += data.decode(errors="replace")
        return bool(data)

    def type(self, text: str) -> None:
        """Type a line."""
        os.write(self._master, text.encode() + b"\n")

    def press(self, keys: str) -> None:
        """Press keys, once it waits: Python hears no Ctrl-C between writing a question and reading the answer."""
        end = time.monotonic() + 10
        while not self._waits() and time.monotonic() < end:
            time.sleep(0.01)
        os.write(self._master, keys.encode())

    def _waits(self) -> bool:
        """Whether its main thread sleeps, or it has ended."""
        try:
            return Path(f"/proc/{self._child.pid}/stat").read_text().rpartition(")")[2].split()[0] != "R"
        except OSError:
            return True

    def end(self, seconds: float = 60) -> int:
        """Read to the end; the exit status."""
        limit = time.monotonic() + seconds
        while self._read(limit):
            pass
        return self._child.wait(10)


def log_in(terminal: Terminal, practice: Practice, code: str | None = None) -> str:
    """Answer what bittern asks, with a code that was not used yet unless another is given; the code."""
    code = code or practice.site.codes.read_text().split()[0]
    terminal.expect("Password:")
    terminal.type(practice.site.password.read_text())
    terminal.expect("One-time code:")
    terminal.type(code)
    return code
