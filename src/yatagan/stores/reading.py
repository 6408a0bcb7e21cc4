"""Reading a file, or its beginning, through a store."""

from __future__ import annotations

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.interface import Readable


async def read_start(store: Readable, path: bytes, most: int) -> bytes:
    """The first `most` bytes of a file, or all of one that has no more.

    Raises StoreError; SOURCE_CHANGED for one that is cut while it is read.
    """
    reader = await store.open(path)
    try:
        size, data = min((await reader.facts()).size, most), bytearray()
        while len(data) < size:
            piece = await reader.read(len(data), min(store.traits.read_size, size - len(data)))
            if not piece:
                raise StoreError(Fault.SOURCE_CHANGED, path, store=store.name)
            data += piece
        return bytes(data)
    finally:
        await reader.close()
