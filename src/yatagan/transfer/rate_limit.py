"""The rate limit, for all files and lanes of a batch together. No I/O."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

#: Seconds of the rate in one request, and the least bytes of one.
_PIECE_SECONDS, _PIECE_LEAST = 0.1, 4 << 10


class RateLimit:
    """Limits bytes to `rate` a second; None means no limit. What is not used is not saved up."""

    def __init__(self, clock: Callable[[], float], sleep: Callable[[float], Awaitable[None]]) -> None:
        self._clock = clock
        self._sleep = sleep
        self._free = 0.0
        self.rate: float | None = None

    @property
    def piece(self) -> int | None:
        """The largest request, small enough that the rate holds within any second; None without a limit."""
        return None if self.rate is None else max(_PIECE_LEAST, int(self.rate * _PIECE_SECONDS))

    async def take(self, count: int) -> None:
        """Wait until `count` more bytes keep to the rate."""
        if self.rate is None:
            return
        now = self._clock()
        begin = max(self._free, now)
        self._free = begin + count / self.rate
        if begin > now:
            await self._sleep(begin - now)
