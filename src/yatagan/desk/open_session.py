"""A store that is open already, for whoever opens it next."""

from __future__ import annotations

from yatagan.stores.interface import Source, Store


class OpenSession:
    """A source whose first session is open already, so that planning and carrying share one login."""

    def __init__(self, store: Store, source: Source) -> None:
        self._store: Store | None = store
        self._source = source

    async def open(self) -> Store:
        if self._store is not None:
            store, self._store = self._store, None
            return store
        return await self._source.open()

    def pins(self) -> dict[str, tuple[str, int]]:
        return self._source.pins()

    async def release(self) -> None:
        """Close a session that was not used."""
        if self._store is not None:
            await self._store.close()
            self._store = None
