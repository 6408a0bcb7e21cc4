"""Files that are still being written: a stage that comes again and again leaves them for the next time.

A file counts as settled when neither its contents nor its facts have changed for a while, by its own machine's clock,
and when no process of this machine has it open for writing, as far as that can be seen.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Container
from pathlib import Path

from yatagan.stores.interface import Kind
from yatagan.trees.scan import Tree

#: Whether the time of the last change of a file's facts counts too; no program can set that one.
_CHANGE_TIMES = True


def leave_unsettled(
    tree: Tree, now_ns: int, span_ns: int, opened: Collection[bytes], but: Container[bytes] = ()
) -> list[bytes]:
    """Take the files out of a tree that have changed within `span_ns` before now, or are among the `opened`.

    All `but` these.

    Returns their paths. A time in the future is a wrong clock's, and says nothing.
    """
    found = []
    for path in tree.entries.of_kind(Kind.FILE):
        if path in but:
            continue
        facts = tree.entries[path]
        changed = facts.changed_ns if _CHANGE_TIMES and facts.changed_ns is not None else facts.mtime_ns
        changes = facts.mtime_ns, changed
        if any(0 <= now_ns - each < span_ns for each in changes) or tree.absolute(path) in opened:
            found.append(path)
    for path in found:
        del tree.entries[path]
    return sorted(found)


def opened_for_writing() -> frozenset[bytes]:
    """The files of this machine that processes have open for writing, as far as we may look at them (proc(5))."""
    found = set()
    for process in Path("/proc").glob("[0-9]*"):
        try:
            numbers = os.listdir(process / "fd")
        except OSError:  # another user's, or gone
            continue
        for number in numbers:
            try:
                path = os.readlink(os.fsencode(process / "fd" / number))
                if path.startswith(b"/") and _is_writing(process / "fdinfo" / number):
                    found.add(path)
            except OSError:
                continue
    return frozenset(found)


def _is_writing(info: Path) -> bool:
    for line in info.read_text().splitlines():
        name, _, value = line.partition(":")
        if name == "flags":
            return bool(int(value, 8) & (os.O_WRONLY | os.O_RDWR))
    return False
