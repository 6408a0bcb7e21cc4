"""Standard output and errors that never get in the way of the work.

A reader that has seen enough, a terminal that is closed, or a full disk behind `>` must not end a stage in the middle.
What cannot be written is dropped, and the end of the program says so where it may be needed.
"""

from __future__ import annotations

import io
import os
import select
import sys


class _Tolerant(io.RawIOBase):
    """A stream that accepts everything. `lost`: why bytes could not be written."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self._terminal = os.isatty(descriptor)
        self.lost: OSError | None = None

    def writable(self) -> bool:
        return True

    def isatty(self) -> bool:
        return self._terminal

    def fileno(self) -> int:
        return self._descriptor

    def write(self, data: bytes) -> int:  # type: ignore[override]
        """Write all of it, or drop it once writing has failed."""
        view = memoryview(data)
        while view and self.lost is None:
            try:
                view = view[os.write(self._descriptor, view) :]
            except BlockingIOError:  # another program on the same terminal made it so
                select.select((), (self._descriptor,), ())
            except OSError as error:
                self.lost = error
        return len(data)

    @property
    def missed(self) -> str:
        """Why output was lost that was wanted; "" otherwise."""
        gone = self.lost is None or self._terminal or isinstance(self.lost, BrokenPipeError)
        return "" if gone or self.lost is None else self.lost.strerror or str(self.lost)


_output = _Tolerant(1)


def open_streams() -> None:
    """Take over standard output and error; those that were closed lead nowhere.

    Otherwise the next file that is opened would get their descriptors, and everything that is printed.
    """
    global _output
    for descriptor in (0, 1, 2):
        try:
            os.fstat(descriptor)
        except OSError:
            os.open(os.devnull, os.O_RDWR)  # gets the lowest number that is free: this one
    _output = _Tolerant(1)
    sys.stdout = _text(_output, sys.stdout, by_line=_output.isatty())
    sys.stderr = _text(_Tolerant(2), sys.stderr, by_line=True)
    if sys.stdin is None:
        sys.stdin = open(0, closefd=False)  # noqa: SIM115


def _text(raw: _Tolerant, before: object, *, by_line: bool) -> io.TextIOWrapper:
    encoding = getattr(before, "encoding", None) or "utf-8"
    buffered = io.BufferedWriter(raw)  # type: ignore[type-var]
    return io.TextIOWrapper(buffered, encoding=encoding, errors="backslashreplace", line_buffering=by_line)


def missed_output() -> str:
    """Write what is left. Returns why output was lost, "" if none was."""
    sys.stdout.flush()
    return _output.missed
