"""A bound on the rate at which bytes move, for all files and lanes of a batch together. No I/O."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

#: Seconds of the rate that are asked for at once, and bytes at least.
_PIECE_SECONDS, _PIECE_LEAST = 0.1, 4 << 10


class RateLimit:
    """Bytes at no more than a rate, in bytes a second; None is no bound. What is not used is not saved up."""

    def __init__(self, clock: Callable[[], float], sleep: Callable[[float], Awaitable[None]]) -> None:
        self._clock = clock
        self._sleep = sleep
        self._free = 0.0
        self.rate: float | None = None

    @property
    def piece(self) -> int | None:
        """How much may be asked for at once, so that within a second the rate is kept."""
        return None if self.rate is None else max(_PIECE_LEAST, int(self.rate * _PIECE_SECONDS))

    async def take(self, count: int) -> None:
        """Wait until these bytes may go."""
        if self.rate is None:
            return
        now = self._clock()
        begin = max(self._free, now)
        self._free = begin + count / self.rate
        if begin > now:
            await self._sleep(begin - now)
