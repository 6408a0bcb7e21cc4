"""Other processes that read small files for an archive in the making.

One interpreter reads, hashes and describes some 14,000 small files a second, whatever the disk could do. Each worker is a
Python of its own, which is given handfuls of entries and gives back runs of the tar stream. It holds nothing, and ends
with whoever started it.
"""

from __future__ import annotations

import pickle
import subprocess
import sys
from collections import deque
from collections.abc import Iterable, Iterator

from yatagan.archives.making import Changed, Entry, Manner, Reading, Run

#: Handfuls that a worker has at once. What it was asked must fit the pipe, or each would wait for the other.
_AT_ONCE = 2
_QUESTION = 16 << 10
#: How many processes, and from how many files on they are worth their start.
WORKERS, WORTH_WORKERS = 3, 2000
_CODE = "from yatagan.archives.workers import serve; serve()"


def serve() -> None:
    """Answer until the input ends."""
    questions, answers = sys.stdin.buffer, sys.stdout.buffer
    while True:
        try:
            manner, entries = pickle.load(questions)
        except EOFError:
            return
        answer: list[Run] | Exception
        try:
            answer = Reading(manner).code(entries)
        except (OSError, Changed) as error:
            answer = error
        pickle.dump(answer, answers, protocol=pickle.HIGHEST_PROTOCOL)
        answers.flush()


class Workers:
    """So many processes. `coded` is what `Making` wants of them."""

    def __init__(self, count: int) -> None:
        self._count = count

    def coded(self, handfuls: Iterable[list[Entry]], manner: Manner) -> Iterator[list[Run]]:
        """Handfuls as runs, in order. Raises what reading raises."""
        children = [_start() for _ in range(self._count)]
        asked: deque[subprocess.Popen[bytes]] = deque()
        try:
            for number, handful in enumerate(_small_enough(handfuls)):
                child = children[number % len(children)]
                while len(asked) >= _AT_ONCE * len(children):
                    yield _answer(asked.popleft())
                assert child.stdin is not None
                pickle.dump((manner, handful), child.stdin, protocol=pickle.HIGHEST_PROTOCOL)
                child.stdin.flush()
                asked.append(child)
            while asked:
                yield _answer(asked.popleft())
        finally:
            for child in children:
                child.kill()
                child.communicate()


def _start() -> subprocess.Popen[bytes]:
    # A session of its own: Ctrl-C is for us to act on.
    return subprocess.Popen(
        [sys.executable, "-I", "-c", _CODE],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
    )


def _answer(child: subprocess.Popen[bytes]) -> list[Run]:
    assert child.stdout is not None
    try:
        answer: list[Run] | Exception = pickle.load(child.stdout)
    except (EOFError, pickle.UnpicklingError) as error:
        raise OSError(5, "a process of ours that reads files has ended") from error
    if isinstance(answer, Exception):
        raise answer
    return answer


def _small_enough(handfuls: Iterable[list[Entry]]) -> Iterator[list[Entry]]:
    """The same entries, in handfuls whose names are no more than fit a pipe."""
    for handful in handfuls:
        part: list[Entry] = []
        size = 0
        for entry in handful:
            weight = len(entry.name) + len(entry.path) + 60
            if part and size + weight > _QUESTION:
                yield part
                part, size = [], 0
            part.append(entry)
            size += weight
        if part:
            yield part
