"""Coalescing requests: those that come while others are being answered are asked for together, or answered as one."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable, Iterable, Sequence
from typing import Generic, TypeVar

from yatagan.errors import StoreError
from yatagan.futures import fail

T = TypeVar("T")
R = TypeVar("R")


class Coalesced(Generic[T, R]):
    """Coalesces single requests into calls for many.

    `answer` takes at most `most` requests and returns their answers in order; at most `at_once` calls run at a time.
    """

    def __init__(self, answer: Callable[[Sequence[T]], Awaitable[Sequence[R]]], most: int, at_once: int) -> None:
        self._answer = answer
        self._most = most
        self._at_once = at_once
        self._waiting: deque[tuple[T, asyncio.Future[R]]] = deque()
        self._working = 0
        self._tasks: list[asyncio.Task[None]] = []

    async def ask(self, request: T) -> R:
        """The answer to one. Raises StoreError, if all that were asked together failed."""
        future: asyncio.Future[R] = asyncio.get_running_loop().create_future()
        self._waiting.append((request, future))
        if self._working < self._at_once:
            self._working += 1
            self._tasks = [task for task in self._tasks if not task.done()] + [asyncio.ensure_future(self._work())]
        return await future

    async def _work(self) -> None:
        try:
            await self._work_through()
        finally:
            self._working -= 1  # in the same moment in which it saw that nothing waits

    async def _work_through(self) -> None:
        while self._waiting:
            some = [self._waiting.popleft() for _ in range(min(self._most, len(self._waiting)))]
            try:
                answers = await self._answer([request for request, _ in some])
            except StoreError as error:
                for _, future in some:
                    fail(future, StoreError(error.fault, error.path, store=error.store, detail=error.detail))
                continue
            except asyncio.CancelledError:
                for _, future in some:
                    future.cancel()
                raise
            for (_, future), answer in zip(some, answers, strict=True):
                if not future.done():
                    future.set_result(answer)


async def gather_few(most: int, work: Iterable[Awaitable[object]]) -> None:
    """Await all of it, at most so many at once. Raises the first error, and cancels what is under way."""
    slots = asyncio.Semaphore(most)

    async def one(each: Awaitable[object]) -> None:
        try:
            await each
        finally:
            slots.release()

    try:
        async with asyncio.TaskGroup() as group:
            for each in work:
                await slots.acquire()
                group.create_task(one(each))
    except BaseExceptionGroup as several:
        raise several.exceptions[0] from None


class Shared:
    """Shares one look among all who ask about the same key at about the same time.

    Everybody gets the result of a look that began after they asked.
    """

    def __init__(self, look: Callable[[bytes], Awaitable[None]]) -> None:
        self._look = look
        self._running: dict[bytes, asyncio.Task[None]] = {}
        self._next: dict[bytes, asyncio.Task[None]] = {}

    async def ask(self, about: bytes) -> None:
        """Returns when the look has; raises what it raises."""
        task = self._next.get(about)
        if task is None:
            running = self._running.get(about)
            if running is None:
                task = self._running[about] = asyncio.ensure_future(self._run(about))
            else:
                task = self._next[about] = asyncio.ensure_future(self._run_after(running, about))
        task.add_done_callback(_heard)
        await asyncio.shield(task)

    async def _run(self, about: bytes) -> None:
        try:
            await self._look(about)
        finally:
            del self._running[about]

    async def _run_after(self, running: asyncio.Task[None], about: bytes) -> None:
        await asyncio.wait((running,))
        self._running[about] = self._next.pop(about)
        await self._run(about)


def _heard(task: asyncio.Task[None]) -> None:
    """Mark an exception as seen: its caller may have been cancelled."""
    if not task.cancelled():
        task.exception()
