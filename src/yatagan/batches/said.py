"""What a person has said of a batch: a small file beside its journal.

Only the process that holds a batch's lock may write its journal, and that may be another machine's. So what a person
says goes into a file of its own, which appears whole. Every process looks at it once it has the lock and before it does
anything, and while it carries the batch about once a second. It stays until a person says that the batch goes on.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
from enum import StrEnum
from typing import TYPE_CHECKING

from yatagan.config.guarded_files import parse_json, read_small
from yatagan.config.machine import machine_name
from yatagan.config.own_files import replace_file, sync_directory
from yatagan.errors import JournalError, NotBelieved

if TYPE_CHECKING:
    from yatagan.batches.batch_store import Batch


#: Seconds between looks while a batch is carried.
_LOOK = 1.0


class Said(StrEnum):
    """What a person has said."""

    #: Stop for now.
    HOLD = "hold"
    #: Stop for good.
    CANCEL = "cancel"


def say(batch: Batch, word: Said) -> None:
    """Say it. Durable on return. Raises JournalError."""
    try:
        data = json.dumps({"said": word.value, "on": machine_name()}).encode()
        replace_file(batch.said_file, data, durable=True)
    except OSError as error:
        raise JournalError(str(batch.said_file), error.strerror or str(error), batch=batch.name) from error


def take_back(batch: Batch) -> None:
    """A person says that it goes on. Durable on return. Raises JournalError."""
    try:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(batch.said_file)
            sync_directory(batch.directory)
    except OSError as error:
        raise JournalError(str(batch.said_file), error.strerror or str(error), batch=batch.name) from error


async def until_said(batch: Batch) -> Said:
    """Wait until a person says something of a batch that this process carries. Returns what it is."""
    while True:
        await asyncio.sleep(_LOOK)
        with contextlib.suppress(JournalError):  # a disk that fails for a moment says nothing
            if (word := said(batch)) is not None:
                return word


def said(batch: Batch) -> Said | None:
    """What a person has said; None for nothing. Raises JournalError where that cannot be read."""
    try:
        return Said(parse_json(read_small(batch.said_file, ours=True))["said"])
    except FileNotFoundError:
        return None
    except OSError as error:
        raise JournalError(str(batch.said_file), error.strerror or str(error), batch=batch.name) from error
    except NotBelieved as error:
        raise JournalError(str(batch.said_file), error.why, batch=batch.name) from error
    except (ValueError, TypeError, KeyError) as error:
        raise JournalError(str(batch.said_file), "it makes no sense", batch=batch.name) from error
