"""The connection to a node: every request over it, whether it still answers, and what its errors mean.

Each request passes through `Connection.ask`, which watches for a server that has gone silent and translates what
the library raises.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Coroutine
from typing import Any, TypeVar

import asyncssh

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.nodes import sftp_packets
from yatagan.nodes.login import FurtherLogin, Login
from yatagan.stores.system_errors import SYSTEM_FAULTS

T = TypeVar("T")

_LOST = (asyncssh.ChannelOpenError, asyncssh.DisconnectError, ConnectionError, EOFError)
_SERVER_FAULTS = {
    sftp_packets.NO_SUCH_FILE: Fault.MISSING,
    sftp_packets.NO_SUCH_PATH: Fault.MISSING,
    sftp_packets.PERMISSION_DENIED: Fault.DENIED,
    sftp_packets.ALREADY_EXISTS: Fault.EXISTS,
    sftp_packets.WRITE_PROTECT: Fault.READ_ONLY,
    sftp_packets.NO_SPACE: Fault.NO_SPACE,
    sftp_packets.QUOTA: Fault.NO_SPACE,
    sftp_packets.UNSUPPORTED: Fault.UNSUPPORTED,
    sftp_packets.NOT_A_DIRECTORY: Fault.NOT_A_DIRECTORY,
    sftp_packets.IS_A_DIRECTORY: Fault.IS_DIRECTORY,
    sftp_packets.LINK_LOOP: Fault.IS_LINK,
}
#: The server says that it has lost what it serves.
_LOST_THERE = (sftp_packets.BAD_MESSAGE, sftp_packets.NO_CONNECTION, sftp_packets.CONNECTION_LOST)


class BareFailure(Exception):
    """SFTP version 3's "Failure", which may mean many things; the caller must look before reporting it."""

    def __init__(self, said: str) -> None:
        super().__init__(said)
        self.said = said


class Connection:
    """The requests of one login and their answers. `silence`: seconds without any answer after which it counts as lost.

    Several may use one login; a `shared` one leaves it open.
    """

    def __init__(self, login: Login, silence: float, *, shared: bool = False) -> None:
        self._login = login
        self._shared = shared
        self._name = login.node.name
        self._silence = silence
        #: Tasks that wait for an answer, and whether we have woken them because there will be none.
        self._outstanding: dict[asyncio.Task[Any], bool] = {}
        self._last_answer = time.monotonic()
        self._fault = Fault.CONNECTION_LOST
        if login.helper is not None:
            login.helper.listeners.add(self._heard)
        self._lost = asyncio.Event()
        self._logins: list[Login | FurtherLogin] = [login]
        self._followed = [asyncio.create_task(self._follow(login))]
        self._watch = asyncio.create_task(self._watch_line())

    @property
    def quiet_seconds(self) -> float:
        """Seconds since anything has answered, while requests are outstanding; else 0."""
        return time.monotonic() - self._last_answer if self._outstanding else 0.0

    def _heard(self) -> None:
        self._last_answer = time.monotonic()

    def watch(self, login: Login | FurtherLogin) -> None:
        """Add a login to the connection: when either is lost, both are."""
        self._logins.append(login)
        self._followed.append(asyncio.create_task(self._follow(login)))

    async def _follow(self, login: Login | FurtherLogin) -> None:
        await login.lost.wait()
        self._lost.set()

    async def _watch_line(self) -> None:
        """End all outstanding requests when the login is lost, or nothing has answered for too long."""
        while not self._lost.is_set():
            try:
                async with asyncio.timeout(min(1.0, self._silence / 4)):
                    await self._lost.wait()
            except TimeoutError:
                if self._outstanding and time.monotonic() - self._last_answer > self._silence:
                    self._fault = Fault.SILENT
                    for login in self._logins:
                        login.link.abort()
                    break
        self._wake_all()

    def _wake_all(self) -> None:
        for task in self._outstanding:
            self._outstanding[task] = True
            task.cancel()

    async def ask(self, request: Coroutine[Any, Any, T], path: bytes) -> T:
        """Wait for the answer to one request. Raises StoreError, or BareFailure."""
        if self._watch.done():
            request.close()
            raise StoreError(self._fault, path, store=self._name)
        if not self._outstanding:
            self._heard()
        task = asyncio.current_task()
        assert task is not None
        self._outstanding[task] = False
        try:
            return await request
        except asyncio.CancelledError:
            if self._outstanding[task] and task.uncancel() == 0:
                raise StoreError(self._fault, path, store=self._name) from None
            raise
        except StoreError as error:  # the helper's end does not know whose it is
            error.store = error.store or self._name
            raise
        except sftp_packets.Refusal as refusal:
            if refusal.code == sftp_packets.FAILURE:
                raise BareFailure(refusal.said) from refusal
            fault = _SERVER_FAULTS.get(refusal.code, Fault.REFUSED)
            if refusal.code in _LOST_THERE:
                fault = self._fault
            raise StoreError(fault, path, store=self._name, detail=refusal.said) from refusal
        except sftp_packets.Nonsense as error:
            raise StoreError(Fault.NONSENSE, path, store=self._name, detail=str(error)) from error
        except _LOST as error:
            raise StoreError(self._fault, path, store=self._name, detail=str(error)) from error
        except OSError as error:  # the helper's
            fault = SYSTEM_FAULTS.get(error.errno or 0, Fault.REFUSED)
            raise StoreError(fault, path, store=self._name, detail=error.strerror or str(error)) from error
        finally:
            del self._outstanding[task]
            self._heard()

    async def close(self) -> None:
        """Log out, except of a shared login."""
        if self._login.helper is not None:
            self._login.helper.listeners.discard(self._heard)
        if not self._shared:
            await self._login.close()
        elif self._outstanding:
            self._login.abandoned = True
        for task in (self._watch, *self._followed):
            task.cancel()
        self._wake_all()
