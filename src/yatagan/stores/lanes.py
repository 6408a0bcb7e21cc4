"""Lanes: the file channels of one session, on one login and on further ones where those need no person.

A high-latency connection is limited by the window of a channel and the buffers of a connection, so lanes are opened
until enough bytes are in flight (`FlowControl.lanes_wanted`), within what the server and the node's entry allow. A fast
connection is limited by this process: where the machine has the processors, further logins are in processes of their
own. A further login must be on the machine that the first one is on.

A lane carries nothing until the journal knows its server's process, so that a later session can ask whether all who may
still write have ended. Boot id and process are read over the new file channel, where Linux shows them, because a
command of its own would take as long as the login. When one lane is lost, so is the connection.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import time
from collections.abc import Awaitable, Callable
from dataclasses import replace
from typing import Any

from yatagan.errors import StoreError
from yatagan.nodes.login import FurtherLogin, Login
from yatagan.nodes.replies import LoginsReply, Process, read_reply
from yatagan.stores.in_flight import LANE_BYTES, FlowControl
from yatagan.stores.lane_logins import Allowed, Lane, LaneLogins

#: Seconds between logins that are begun at the same time: servers turn some away that come at once.
_APART = 0.05
#: Lanes opened at the same time. Servers turn some away from ten on that are not yet let in.
_LOGINS_AT_ONCE = 6
#: So few lanes are most likely not yet enough.
_FEW = 4
#: How often the bytes to come must fill all lanes that there were before, to open them at once.
_MUCH = 16

#: Seconds for which no more lanes are asked for once there were none to be had: callers ask again at each answer.
_NO_MORE = 5.0

#: Bytes on the way by which lanes in other processes come before our own.
_RELIEF = 512 << 10

#: Writes down what names all writers of a session.
Noted = Callable[[str], Awaitable[None]]


class Lanes:
    """The lanes of one session; the first is the login's own. More are opened while bytes move."""

    def __init__(self, login: Login, allowed: Allowed, watch: Callable[[Login | FurtherLogin], None]) -> None:
        self._first = login
        self._allowed = allowed
        self._logins = LaneLogins(login, allowed, watch)
        self._lanes = [Lane(login.files, login.link.ours)]
        self._noted: Noted | None = None
        self._growing: asyncio.Task[None] | None = None
        self._not_before = 0.0
        #: Lanes that are there, but carry nothing yet.
        self._ready: list[Lane] = []
        self._admitting = asyncio.Lock()
        self._limited = False
        self._processes: tuple[Process, ...] = login.helper.greeting.session if login.helper is not None else ()
        self.flow = FlowControl(busy=time.thread_time, wanting=self._grow)

    def __iter__(self) -> Any:
        return iter(self._lanes)

    @property
    def least_loaded(self) -> Lane:
        """The lane for the next request."""
        return min(self._lanes, key=self.burden)

    def burden(self, lane: Lane) -> int:
        """The load of a lane, weighted: more where another process could encrypt instead."""
        return lane.load + (_RELIEF if lane.ours and self._logins.in_processes else 0)

    @property
    def settled(self) -> bool:
        """Whether no lane is being opened."""
        return self._growing is None or self._growing.done()

    def note_writers(self, noted: Noted) -> None:
        """Note every new lane's writer before it carries anything."""
        self._noted = noted

    def witness(self) -> str:
        """Names this login, and the processes on the node that may write for us."""
        witness: dict[str, Any] = {"login": self._first.mark}
        helper = self._first.helper
        if helper is not None and self._processes:
            witness["node"] = {"boot": helper.greeting.boot, "processes": self._processes}
        return json.dumps(witness)

    def expect(self, size: int, *, limited: bool) -> None:
        """So many bytes are to come: begin with what the connection has held before, if they are enough to need it.

        What is reached under a rate limit is not remembered.
        """
        self._limited = limited
        history = self._allowed.history
        if history.lanes > 1 and size > _MUCH * history.lanes * LANE_BYTES:
            self.flow.expect(history.lanes, history.rate)

    # -- growing -----------------------------------------------------------------------------------------

    def _grow(self) -> None:
        """More lanes are wanted."""
        if (self._growing is None or self._growing.done()) and time.monotonic() >= self._not_before:
            self._growing = asyncio.ensure_future(self._grow_while_wanted())

    async def _grow_while_wanted(self) -> None:
        """Open what is wanted, several at a time; each carries as soon as it is there."""
        opening: set[asyncio.Task[bool]] = set()
        try:
            while (missing := self._wanted() - len(self._lanes)) > 0 or opening:
                more = not self._logins.are_full
                if not (more or opening):
                    self._not_before = time.monotonic() + _NO_MORE
                    return  # every channel of every login is open
                for at in range(min(missing, _LOGINS_AT_ONCE) - len(opening) if more else 0):
                    opening.add(asyncio.ensure_future(self._open(at * _APART)))
                done, opening = await asyncio.wait(opening, return_when=asyncio.FIRST_COMPLETED)
                opened = [task.result() for task in done]
                if not any(opened) and not opening:
                    self._not_before = time.monotonic() + _NO_MORE
                    return
        except (StoreError, OSError):
            return  # the connection has gone, which its users will notice
        finally:
            for task in opening:
                task.cancel()
            await asyncio.gather(*opening, return_exceptions=True)

    def _wanted(self) -> int:
        wanted = self.flow.lanes_wanted
        if wanted > len(self._lanes) and wanted == self.flow.lanes_worth and len(self._lanes) <= _FEW:
            wanted += 1  # while there are few, what is measured is what they let through
        if self.flow.crowded and self._logins.may_have_process:
            wanted = max(wanted, len(self._lanes) + 1)
        return wanted

    async def _open(self, wait: float) -> bool:
        """Another lane, which carries as soon as it may. Whether there is one."""
        await asyncio.sleep(wait)
        lane = await self._logins.open_lane()
        if lane is None:
            return False
        self._ready.append(lane)
        async with self._admitting:  # what gets ready meanwhile is admitted together
            await self._admit()
        return True

    async def _admit(self) -> None:
        """Let what is ready carry, once it is written down who writes there."""
        lanes, self._ready = self._ready, []
        if not lanes:
            return
        helper = self._first.helper
        if helper is not None and self._processes:
            servers = [each.process for each in (*self._lanes, *lanes) if each.process]
            reply = await helper.ask("session", logins=[helper.greeting.login, *servers])
            self._processes = read_reply(LoginsReply, reply).session
        if self._noted is not None:
            await self._noted(self.witness())
        self._lanes += lanes
        self.flow.lanes = len(self._lanes)

    def drop(self, lane: Lane) -> None:
        """Do without a lane: it reaches other files than the other lanes."""
        if lane in self._lanes and len(self._lanes) > 1:
            self._lanes.remove(lane)
            self._logins.no_more()
            self.flow.lanes = len(self._lanes)

    async def close(self) -> None:
        """Close all that was opened here; the first login is closed by its owner."""
        if self._growing is not None:
            self._growing.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._growing
        if self.flow.rate and not self._limited:
            flow, before = self.flow, self._allowed.history
            history = replace(before, lanes=flow.lanes_worth, rate=flow.rate, round_trip=flow.round_trip)
            await asyncio.to_thread(self._allowed.keep, history)
        await self._logins.close()
