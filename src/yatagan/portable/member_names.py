"""What names of members tell: why one cannot be unpacked, and which are chosen by patterns.

Kept to the standard library and to what Python 3.6 understands, since the helper learns it.
"""

from typing import Any, Sequence, Tuple

# Why it was refused.
ABSOLUTE, CLIMBS, EMPTY, OURS = "absolute", "climbs", "empty", "ours"
THROUGH_LINK, THROUGH_FILE, LEADS_OUT = "through a link", "through a file", "leads out"
SPECIAL, NO_TARGET, DIFFERENT, TOO_DEEP = "special", "no target", "different", "too deep"

#: Directories above each other. Every one of them is kept open while one below it is.
_DEEPEST = 200


def refusal(name: bytes) -> str:
    """Why a name cannot be unpacked; "" when it can."""
    if name.startswith(b"/"):
        return ABSOLUTE
    parts = name.split(b"/")
    if b".." in parts:
        return CLIMBS
    if b"\0" in name or not any(part not in (b"", b".") for part in parts):
        return EMPTY
    if any(_is_ours(part) for part in parts):
        return OURS
    return TOO_DEEP if len(parts) > _DEEPEST else ""


def _is_ours(part: bytes) -> bool:
    return part == b".yatagan-kept" or (part.startswith(b".yatagan-") and part.endswith(b".part"))


def parts_of(name: bytes) -> Tuple[bytes, ...]:
    """The components of a path."""
    return tuple([part for part in name.split(b"/") if part not in (b"", b".")])


def leads_out(name: bytes, target: bytes) -> bool:
    """Whether a link of this name, relative to the root, points out of it."""
    if target.startswith(b"/"):
        return True
    depth = len(parts_of(name)) - 1
    for part in parts_of(target):
        depth += -1 if part == b".." else 1
        if depth < 0:
            return True
    return False


def chosen(name: bytes, only: Sequence[Any], skip: Sequence[Any]) -> bool:
    """Whether a member is chosen by compiled patterns, however oddly its path is written.

    Patterns are compared with the whole path, with what is below the directory that a bundle begins with, and with
    every directory above either: what one writes to stage a directory chooses the same from its bundle.
    """
    if not only and not skip:
        return True
    parts = parts_of(name)
    paths = [b"/".join(parts[start:end]) for start in (0, 1) for end in range(start + 1, len(parts) + 1)]
    wanted = not only or len(parts) < 2 or any(pattern.fullmatch(path) for pattern in only for path in paths)
    return wanted and not any(pattern.fullmatch(path) for pattern in skip for path in paths)
