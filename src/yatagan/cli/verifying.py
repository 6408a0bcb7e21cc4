"""How a place is looked at by `verify`: by contents or facts, by how many processors, again after a lost line."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from contextlib import AbstractAsyncContextManager, nullcontext
from typing import TypeVar

from yatagan.cli import text
from yatagan.cli.context import App
from yatagan.cli.messages import explain
from yatagan.cli.progress import Progress
from yatagan.cli.progress_view import view_for
from yatagan.config.nodes import Role
from yatagan.engine.retry import RetryPolicy
from yatagan.errors import CannotReach, StoreError
from yatagan.faults import CONNECTION_FAULTS
from yatagan.stores.interface import Readable
from yatagan.trees.hashing import Content
from yatagan.trees.remembered_digests import RememberedDigests
from yatagan.trees.scan import Tree
from yatagan.verdicts.verification import Claims, Verdicts, verify

T = TypeVar("T")

#: How long what an interrupted run has read counts, in seconds: a day.
_COUNTS = 86400
#: Processors of a login node that one may take for oneself.
_ON_LOGIN_NODE = 2


class Looking:
    """How one place is looked at. `quiet`: without progress; `resume`: an earlier run is gone on with.

    What was read is kept until there is a verdict, so that an interrupted run is never for nothing.
    """

    def __init__(self, app: App, node: str, *, contents: bool, quiet: bool, resume: bool, processes: int) -> None:
        self.contents = contents
        self.quiet = quiet
        self._app = app
        self._resume = resume
        self._processes = self._allowed(node, processes)
        self._hashed = 0

    def _allowed(self, node: str, processes: int) -> int:
        """As many processors as the node is made for."""
        login = bool(node) and self._app.nodes().get(node).role is Role.LOGIN
        if login and processes > _ON_LOGIN_NODE:
            text.warn(f"{node} is made for logging in: {_ON_LOGIN_NODE} processors work on this, not {processes}")
            return _ON_LOGIN_NODE
        return processes

    async def verdicts(self, store: Readable, tree: Tree, claims: Claims) -> Verdicts:
        """Verify, and show how far it is. Raises StoreError."""
        if not self.contents:
            return await verify(store, tree, claims, contents=False)
        memory = RememberedDigests(self._app.home.verified, _COUNTS)
        sizes = {line.path: tree.entries[line.path].size for line in claims.listed if line.path in tree.entries}
        progress = Progress(len(sizes), sum(sizes.values()))
        progress.doing = "verifying: "

        def done(content: Content) -> None:
            size = sizes.get(content.path, 0)
            if content.remembered:
                progress.done_before(1, size)
            else:
                self._hashed += 1
                progress.hashed(size)

        view: AbstractAsyncContextManager[object] = view_for(progress, quiet=self.quiet) if sizes else nullcontext()
        try:
            if not self._resume:
                memory.forget(store.name, tree.root)
            async with view:
                found = await verify(store, tree, claims, done, memory=memory, processes=self._processes)
            memory.forget(store.name, tree.root)
            return found
        finally:
            memory.close()

    async def with_patience(self, attempt: Callable[[], Awaitable[T]]) -> T:
        """Try; with --resume again after a lost connection, as long as some of it is read now and then."""
        policy = RetryPolicy(self._app.connection().patience)
        failures, last, since = 0, 0, time.monotonic()
        while True:
            try:
                return await attempt()
            except (StoreError, CannotReach) as error:
                passing = error.passing if isinstance(error, CannotReach) else error.fault in CONNECTION_FAULTS
                if not (self._resume and passing):
                    raise
                if self._hashed > last:
                    failures, last, since = 0, self._hashed, time.monotonic()
                failures += 1
                wait = policy.wait_after(failures)
                if time.monotonic() + wait - since > policy.patience:
                    raise
                text.warn(f"{explain(error).message}; logging in again in {text.duration(wait)}")
                await asyncio.sleep(wait)
