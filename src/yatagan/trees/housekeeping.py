"""Making directories, renaming and removing. Nothing is ever replaced, and links are never followed."""

from __future__ import annotations

import posixpath
from collections.abc import Iterable

from yatagan.errors import FileTrouble, StoreError
from yatagan.faults import Fault
from yatagan.request_errors import BadEntry, WrongEntry
from yatagan.stores.interface import Kind, Store
from yatagan.trees.removing import Failed, remove_files
from yatagan.trees.scan import Tree


async def make_directories(store: Store, path: bytes) -> list[bytes]:
    """Make a directory and what is missing above it. Returns those made, the uppermost first.

    Raises StoreError: NOT_A_DIRECTORY when something else has one of the names.
    """
    missing: list[bytes] = []
    above = path
    while (found := await store.look(above)) is None:
        missing.append(above)
        above = posixpath.dirname(above)
    if found.kind is Kind.LINK:
        found = await store.look(await store.resolve(above, follow=True))
    if found is None or found.kind is not Kind.DIRECTORY:
        raise StoreError(Fault.NOT_A_DIRECTORY if missing else Fault.EXISTS, above, store=store.name)
    for directory in reversed(missing):
        await store.make_directory(directory, 0o777)
    return missing[::-1]


async def rename(store: Store, path: bytes, new_name: bytes) -> bytes:
    """Rename in place. Returns the new path. Raises BadEntry, or StoreError (EXISTS, MISSING)."""
    if not new_name or b"/" in new_name or new_name in (b".", b".."):
        raise BadEntry(WrongEntry.NEW_NAME, new_name.decode("utf-8", "surrogateescape"))
    if await store.look(path) is None:
        raise StoreError(Fault.MISSING, path, store=store.name)
    new = posixpath.join(posixpath.dirname(path), new_name)
    await store.rename(path, new)
    return new


def refuse_to_remove(path: bytes, protected: Iterable[bytes]) -> None:
    """Raise BadEntry for a root, and for a protected directory or what holds one."""
    if posixpath.dirname(path) == path:
        raise BadEntry(WrongEntry.ROOT, path.decode("utf-8", "surrogateescape"))
    for directory in protected:
        if directory == path or directory.startswith(path + b"/"):
            what = "is" if directory == path else "holds"
            raise BadEntry(WrongEntry.PROTECTED, path.decode("utf-8", "surrogateescape"), what)


async def remove(store: Store, tree: Tree, failed: Failed) -> int:
    """Remove a tree that was scanned with `ours`, deepest first. Returns how many entries are gone.

    What cannot be removed is reported to `failed`, by its path below the root, and stays, as does what came after the
    scan. Raises StoreError when the connection is lost.
    """
    removed = 0
    holding: set[bytes] = set()  # directories that something below could not be removed from
    by_directory: dict[bytes, list[bytes]] = {}
    for path, facts in tree.entries.items():
        if facts.kind is not Kind.DIRECTORY:
            by_directory.setdefault(posixpath.dirname(path) if path else b"", []).append(path)
        else:
            by_directory.setdefault(path, [])

    def left(path: bytes, fault: Fault, detail: str) -> None:
        failed(path, fault, detail)
        while path:
            path = posixpath.dirname(path)
            holding.add(path)

    for directory in sorted(by_directory, key=lambda path: path.count(b"/") if path else -1, reverse=True):
        is_directory = tree.entries[directory].kind is Kind.DIRECTORY
        if is_directory:
            found = await store.look(tree.absolute(directory))
            if found is None or found.kind is not Kind.DIRECTORY:
                # Replaced since the scan: whatever it leads to now is not ours to empty.
                left(directory, Fault.KIND_IN_THE_WAY, found.kind.value if found else "")
                continue
        files = {tree.absolute(path): path for path in by_directory[directory]}
        removed += len(await remove_files(store, files, lambda whole, *why, files=files: left(files[whole], *why)))
        if is_directory and directory not in holding:
            try:
                await store.remove_directory(tree.absolute(directory))
                removed += 1
            except FileTrouble as error:
                left(directory, error.fault, error.detail)
    return removed
