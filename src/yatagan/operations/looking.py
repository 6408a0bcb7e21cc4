"""How a place is looked at for a verdict: by contents or facts, by how many processors, again after a lost line."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable
from typing import TypeVar

from yatagan.config.nodes import Role
from yatagan.desk.desk import Desk
from yatagan.desk.questions import FewerProcessors, LoggingInAgain
from yatagan.engine.retry import RetryPolicy
from yatagan.errors import CannotReach, LineLost, StoreError
from yatagan.operations.verify_request import VerifyRequest
from yatagan.operations.watching import Doing, Watcher
from yatagan.stores.interface import Readable
from yatagan.trees.hashing import Content
from yatagan.trees.hashing_watcher import HashingWatcher
from yatagan.trees.remembered_digests import RememberedDigests
from yatagan.trees.scan import Tree
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.verification import Verdicts, verify

T = TypeVar("T")

#: How long what an interrupted run has read counts, in seconds: a day.
_COUNTS = 86400
#: Processors of a login node that one may take for oneself.
_ON_LOGIN_NODE = 2


class Looking:
    """How one place is looked at, on `node` ("": here).

    What was read is kept until there is a verdict, so that an interrupted run is never for nothing.
    """

    def __init__(self, desk: Desk, request: VerifyRequest, node: str, watcher: Watcher) -> None:
        self._desk = desk
        self._request = request
        self._watcher = watcher
        self._processes = self._allowed(node)
        self._hashed = 0

    def _allowed(self, node: str) -> int:
        """As many processors as the node is made for."""
        asked = self._request.processes
        login = bool(node) and self._desk.nodes().get(node).role is Role.LOGIN
        if login and asked > _ON_LOGIN_NODE:
            self._desk.questions.warned(FewerProcessors(node, _ON_LOGIN_NODE, asked))
            return _ON_LOGIN_NODE
        return asked

    async def verdicts(self, store: Readable, tree: Tree, claims: Claims) -> Verdicts:
        """Verify. Raises StoreError."""
        if not self._request.by_digest:
            return await verify(store, tree, claims, contents=False)
        sizes = {line.path: tree.entries[line.path].size for line in claims.listed if line.path in tree.entries}
        with contextlib.closing(RememberedDigests(self._desk.home.verified, _COUNTS)) as memory:
            if not self._request.resume:
                memory.forget(store.name, tree.root)
            if sizes:
                async with self._watcher.hashing(Doing.VERIFYING) as heard:
                    heard.expect(len(sizes), sum(sizes.values()))
                    done = self._counting(sizes, heard)
                    found = await verify(store, tree, claims, done, memory=memory, processes=self._processes)
            else:
                found = await verify(store, tree, claims, memory=memory, processes=self._processes)
            memory.forget(store.name, tree.root)
            return found

    def _counting(self, sizes: dict[bytes, int], heard: HashingWatcher) -> Callable[[Content], None]:
        def done(content: Content) -> None:
            size = sizes.get(content.path, 0)
            if content.remembered:
                heard.done_before(1, size)
            else:
                self._hashed += 1
                heard.hashed(size)

        return done

    async def with_patience(self, attempt: Callable[[], Awaitable[T]]) -> T:
        """Try; where it is gone on with, again after a lost connection, as long as some is read now and then."""
        policy = RetryPolicy(self._desk.connection().patience)
        failures, last, since = 0, 0, time.monotonic()
        while True:
            try:
                return await attempt()
            except (StoreError, CannotReach) as error:
                passing = error.passing if isinstance(error, CannotReach) else isinstance(error, LineLost)
                if not (self._request.resume and passing):
                    raise
                if self._hashed > last:
                    failures, last, since = 0, self._hashed, time.monotonic()
                failures += 1
                wait = policy.wait_after(failures)
                if time.monotonic() + wait - since > policy.patience:
                    raise
                self._desk.questions.warned(LoggingInAgain(error, wait))
                await asyncio.sleep(wait)
