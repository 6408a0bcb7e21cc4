"""Many small requests as few large ones: what comes while others are being answered is asked for together."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable, Sequence
from typing import Generic, TypeVar

from yatagan.errors import StoreError

T = TypeVar("T")
R = TypeVar("R")


class Bulk(Generic[T, R]):
    """Answers each request; `answer` does so for many, in order, `most` at once, and `at_once` times at a time."""

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
                    if not future.done():
                        future.set_exception(
                            StoreError(error.fault, error.path, store=error.store, detail=error.detail)
                        )
                continue
            except asyncio.CancelledError:
                for _, future in some:
                    future.cancel()
                raise
            for (_, future), answer in zip(some, answers, strict=True):
                if not future.done():
                    future.set_result(answer)
