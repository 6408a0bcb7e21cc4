"""Names that were given in directories are made to outlast a power cut."""

from __future__ import annotations

from collections.abc import Iterable

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.coalescing import gather_few
from yatagan.stores.interface import Store

#: Directories that are synced at once.
_AT_ONCE = 16
#: What a directory meets that was moved away, and whose name something else has.
TAKEN_AWAY = frozenset({Fault.IS_LINK, Fault.NOT_A_DIRECTORY, Fault.MISSING, Fault.DENIED})


async def sync_directories(store: Store, directories: Iterable[bytes]) -> None:
    """Sync directories, several at once; those that were taken away are passed over. Raises StoreError."""

    async def sync(directory: bytes) -> None:
        try:
            await store.sync_directory(directory)
        except StoreError as error:
            if error.fault not in TAKEN_AWAY:
                raise

    if not store.traits.names_last:
        await gather_few(_AT_ONCE, map(sync, directories))
