"""Stopping what another process carries."""

from __future__ import annotations

import asyncio
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

from yatagan.batches.locks import Holder
from yatagan.cli.commands.batch_stop import _ask_to_stop


def test_one_that_has_ended_meanwhile_is_not_asked() -> None:
    """It ended between the look at the lock and this; a process of its number may be anybody's."""
    app: Any = SimpleNamespace(nodes=list)
    batch: Any = SimpleNamespace(name="261127-k7qd")
    holder = replace(Holder.this_process(), started=1)
    assert not holder.is_alive
    asyncio.run(_ask_to_stop(app, batch, holder))  # a signal would end the tests
