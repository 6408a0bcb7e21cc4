"""How many bytes may be in flight to or from a store at once. No I/O.

Too few leave a high-latency connection idle. Too many wait in the server's memory, slow it down, and delay every later
request. The limit is the rate of answers times the shortest round trip, and a little more; both are measured while
bytes move.
"""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import Callable

#: What one file channel is given at once: a server that is sent more grows its buffers, and moves them about.
LANE_BYTES = 2 << 20
#: On the way at least, whatever the rate: two of the largest requests.
_LEAST = 512 << 10
#: Seconds of a connection's rate that may wait at the server besides what is under way, so that neither end ever idles.
_IN_HAND = 0.25
#: How much more than was ever answered in a round trip is kept on the way. It also lets the rate grow.
_GAIN = 1.3
#: How much of an earlier rate is expected, until it is measured again.
_EXPECTED = 0.7
#: What is left of that at each measurement, once there are as many lanes as there were then.
_FADING = 0.9
#: What a further lane is not worth opening for.
_ENOUGH = LANE_BYTES // 2
#: Seconds over which a rate is measured at least, and how many of the last ones count.
_SPAN, _SPANS = 0.1, 10
#: A process that works for so much of the time, so many times in a row, can do no more.
_BUSY, _BUSY_SPANS = 0.7, 5


class InFlight:
    """A number of bytes that may be in flight, given out in the order of asking."""

    def __init__(self, limit: int) -> None:
        self.limit = limit
        self.used = 0
        self._waiting: deque[tuple[int, asyncio.Future[None]]] = deque()

    def try_take(self, count: int) -> bool:
        """Take bytes at once, or not at all. A request above the limit passes when nothing else is in flight."""
        if self._waiting or (self.used and self.used + count > self.limit):
            return False
        self.used += count
        return True

    async def take(self, count: int) -> None:
        """Wait until so many bytes may be in flight."""
        if self.try_take(count):
            return
        self.short()
        future: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append((count, future))
        try:
            await future
        except asyncio.CancelledError:
            if future.done() and not future.cancelled():
                self.give(count)
            raise

    def give(self, count: int) -> None:
        """Release bytes that were not sent after all."""
        self.used -= count
        self._hand_out()

    def short(self) -> None:
        """Called when a request has to wait."""

    def answered(self, count: int) -> None:
        """Release the bytes of a request that was answered."""
        self.give(count)

    def _hand_out(self) -> None:
        while self._waiting:
            wanted, future = self._waiting[0]
            if future.cancelled():
                self._waiting.popleft()
                continue
            if self.used and self.used + wanted > self.limit:
                return
            self._waiting.popleft()
            self.used += wanted
            future.set_result(None)


class _Spans:
    """What is answered in short spans of time, and how much of each the event loop has worked."""

    def __init__(self, clock: Callable[[], float], busy: Callable[[], float]) -> None:
        self._clock = clock
        self._busy = busy
        self._since: float | None = None
        self._worked = 0.0
        self._answered = 0
        self._busy_spans = 0
        self._rates: deque[float] = deque(maxlen=_SPANS)
        #: How many spans were measured since there have been as many lanes as now.
        self.measured = 0

    @property
    def best(self) -> float:
        """The best rate of the last spans, in bytes a second."""
        return max(self._rates, default=0.0)

    @property
    def crowded(self) -> bool:
        """Whether the event loop has always had something to do."""
        return self._busy_spans >= _BUSY_SPANS

    def anew(self) -> None:
        """There are more lanes, or fewer: what was seen of the load no longer counts."""
        self._busy_spans = 0
        self.measured = 0

    def add(self, count: int, round_trip: float, *, short: bool) -> tuple[bool, bool]:
        """Count answered bytes; whether that ends a span, and whether its rate was measured.

        `short`: requests have waited, else it would measure the caller.
        """
        now = self._clock()
        if self._since is None:
            self._since, self._worked = now, self._busy()
        self._answered += count
        span = now - self._since
        if span < max(_SPAN, 2 * round_trip if self._rates else 0.0):
            return False, False
        worked = self._busy()
        self._busy_spans = self._busy_spans + 1 if short and worked - self._worked > _BUSY * span else 0
        if measured := short or not self._rates:
            self._rates.append(self._answered / span)
            self.measured += 1
        self._answered, self._since, self._worked = 0, now, worked
        return True, measured


class FlowControl(InFlight):
    """What is in flight over one connection. Its limit follows the measurements, up to what its `lanes` take.

    `round_trip`: the shortest one so far, in seconds. `busy`: the seconds that the event loop has worked. `wanting` is
    called when more lanes would help.
    """

    def __init__(
        self,
        clock: Callable[[], float] = time.monotonic,
        busy: Callable[[], float] = lambda: 0.0,
        wanting: Callable[[], None] = lambda: None,
    ) -> None:
        super().__init__(LANE_BYTES // 2)
        self._spans = _Spans(clock, busy)
        self._wanting = wanting
        self._in_hand = LANE_BYTES
        self._lanes = 1
        self._wanted = self.limit
        self._expected = 0
        self._expected_rate = 0.0
        self._short = False
        self.round_trip = float("inf")

    @property
    def lanes(self) -> int:
        """The number of lanes."""
        return self._lanes

    @lanes.setter
    def lanes(self, count: int) -> None:
        if self.crowded:  # what came lightens our work, if it always has something to do
            self._in_hand += max(0, count - self._lanes) * LANE_BYTES
        self._lanes = count
        self._spans.anew()
        self._adjust()

    @property
    def lanes_wanted(self) -> int:
        """How many lanes it takes to have enough bytes in flight."""
        return max(self._expected, self.lanes_worth)

    @property
    def lanes_worth(self) -> int:
        """How many lanes the measurements justify, whatever was expected."""
        return max(1, -(-(self._wanted - _ENOUGH) // LANE_BYTES))

    @property
    def crowded(self) -> bool:
        """Whether this process limits the rate, not the connection."""
        return self._spans.crowded

    def expect(self, lanes: int, rate: float) -> None:
        """Many bytes are to come over a connection that had so many lanes, and so many bytes a second, before."""
        self._expected = lanes
        self._expected_rate = rate * _EXPECTED
        self._adjust()

    @property
    def rate(self) -> float:
        """The best rate in bytes a second of the last moments in which requests were queued."""
        return max(self._expected_rate, self._spans.best)

    def heard(self, seconds: float) -> None:
        """Note the seconds that an answer took."""
        self.round_trip = min(self.round_trip, seconds)

    def short(self) -> None:
        """The rate is updated only while requests wait, else it would measure the caller."""
        self._short = True

    def answered(self, count: int) -> None:
        """Release and count the bytes of a request that was answered."""
        over, measured = self._spans.add(count, self.round_trip, short=self._short)
        if measured:
            if self._lanes >= self._expected and self._spans.measured > _SPANS:
                self._expected_rate *= _FADING  # it has had its chance by now
            self._adjust()
        if over:
            self._short = bool(self._waiting)
        self.give(count)

    def _adjust(self) -> None:
        held = self.rate * (self.round_trip if self.round_trip < 1.0 else 0.0)
        self._wanted = max(_LEAST, min(self._in_hand, int(self.rate * _IN_HAND))) + int(_GAIN * held)
        self.limit = min(self._wanted, self._lanes * LANE_BYTES)
        if self.lanes_wanted > self._lanes or self.crowded:
            self._wanting()
        self._hand_out()
