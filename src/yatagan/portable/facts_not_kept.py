"""What entries have that a stage does not bring: further names, access lists, extended attributes. Only counted.

Runs here and on nodes: kept to the standard library and to what Python 3.6 understands.
"""

import os
import stat
from typing import Any, Callable, Dict, Iterable, List

#: A question and its answer, as JSON carries them: values by name.
Request = Dict[str, Any]
Reply = Dict[str, Any]

#: Access lists of POSIX. Those of other kinds are there for every file of a disk that has them, and tell nothing.
_ACCESS_LISTS = ("system.posix_acl_access", "system.posix_acl_default")


def count(paths: Iterable[bytes], alive: Callable[[], None] = lambda: None) -> List[int]:
    """Of how many of these paths there is something: files with further names, access lists, extended attributes.

    What cannot be looked at counts as having nothing. Nothing is opened, and no link is followed.
    """
    names = lists = attributes = 0
    for path in paths:
        alive()
        try:
            found = os.lstat(path)
            names += stat.S_ISREG(found.st_mode) and found.st_nlink > 1
            extended = os.listxattr(path, follow_symlinks=False)
        except (OSError, AttributeError):  # gone by now, or a system without such things
            continue
        lists += any(name in _ACCESS_LISTS for name in extended)
        attributes += any(name.startswith("user.") or name == "security.capability" for name in extended)
    return [names, lists, attributes]


def with_lists(paths: Iterable[bytes], alive: Callable[[], None] = lambda: None) -> List[bytes]:
    """Those of these paths that have an access list of their own. Nothing is opened, and no link is followed."""
    found = []
    for path in paths:
        alive()
        try:
            if _ACCESS_LISTS[0] in os.listxattr(path, follow_symlinks=False):
                found.append(path)
        except (OSError, AttributeError):
            pass
    return found


def lists(request: Request, alive: Callable[[], None]) -> Reply:
    """`with_lists`, as a helper is asked for it."""
    return {"paths": [os.fsdecode(path) for path in with_lists(map(os.fsencode, request["paths"]), alive)]}


def not_kept(request: Request, alive: Callable[[], None]) -> Reply:
    """`count` for paths below one directory, as a helper is asked for it."""
    root = os.fsencode(request["root"])
    return {"counts": count((os.path.join(root, os.fsencode(path)) for path in request["paths"]), alive)}


HANDLERS = {"not_kept": not_kept, "with_lists": lists}
