"""A small file written whole: under a part name, on disk, before it gets its final name."""

from __future__ import annotations

import contextlib
import posixpath
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from yatagan.errors import StoreError
from yatagan.places import PART_PREFIX, PART_SUFFIX
from yatagan.stores.interface import Store, Writer


@asynccontextmanager
async def small_part(store: Store, directory: bytes, what: str, data: bytes) -> AsyncIterator[tuple[bytes, Writer]]:
    """The path of a part file with these contents, and the file, open. `what` it is for is in its name.

    If it is not placed after all, it is removed; what cannot be is found by `parts`. Raises StoreError.
    """
    name = PART_PREFIX + f"{what}-{secrets.token_hex(4)}".encode() + PART_SUFFIX
    part = posixpath.join(directory, name)
    writer = await store.create_part(part)
    try:
        for offset in range(0, len(data), store.traits.write_size):
            await writer.write(offset, data[offset : offset + store.traits.write_size])
        await writer.sync()
        yield part, writer
    except BaseException:
        with contextlib.suppress(StoreError):
            await store.remove(part)
        raise
    finally:
        await writer.close()
