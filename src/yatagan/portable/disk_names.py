"""Which disk a directory is on, by a name that stays the same when it is mounted again.

Runs here and on nodes: kept to the standard library and to what Python 3.6 understands.
"""

import os
from typing import Any, Callable, Dict, Iterable, Tuple

#: A question and its answer, as JSON carries them: values by name.
Request = Dict[str, Any]
Reply = Dict[str, Any]

_MOUNTS, _UUIDS = "/proc/self/mountinfo", "/dev/disk/by-uuid"


def mounted(path: str, lines: Iterable[str]) -> Tuple[str, str]:
    """The file system type and the source of what a real path is on, by the lines of mountinfo (proc(5))."""
    best, found = "", ("", "")
    for line in lines:
        left, _, right = line.partition(" - ")
        fields, more = left.split(" "), right.split(" ")
        if len(fields) < 5 or len(more) < 2:
            continue
        point = fields[4].replace("\\040", " ").replace("\\011", "\t").replace("\\012", "\n").replace("\\134", "\\")
        if (path == point or path.startswith(point.rstrip("/") + "/")) and len(point) >= len(best):
            best, found = point, (more[0], more[1].replace("\\040", " "))
    return found


def name_of(kind: str, source: str, uuids: Dict[str, str]) -> str:
    """A disk's name: its UUID, or server and export, or its kind alone; "" where nothing is known.

    `uuids`: by the device that has it. A device number says nothing: it is another one after the next mount.
    """
    if source in uuids:
        return "uuid " + uuids[source]
    elsewhere = ":" in source or source.startswith("//") or "@" in source
    return "%s %s" % (kind, source) if elsewhere else kind


def disk_of(path: bytes) -> str:
    """The name of the disk that a directory is on; "" where that cannot be known."""
    try:
        with open(_MOUNTS, encoding="utf-8", errors="surrogateescape") as stream:
            kind, source = mounted(os.fsdecode(os.path.realpath(path)), stream)
    except OSError:
        return ""
    uuids = {}
    try:
        for name in os.listdir(_UUIDS):
            uuids[os.path.realpath(os.path.join(_UUIDS, name))] = name
    except OSError:
        pass
    return name_of(kind, os.path.realpath(source) if source.startswith("/dev/") else source, uuids)


def disk(request: Request, alive: Callable[[], None]) -> Reply:
    """`disk_of`, as a helper is asked for it."""
    return {"disk": disk_of(request["root"].encode("latin-1"))}


HANDLERS = {"disk": disk}
