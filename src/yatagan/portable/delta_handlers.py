"""Handlers for changed parts: checksums of a file's blocks, and copying matches into a part file."""

import errno
import os
from base64 import b64encode
from typing import Any, Callable, Dict, Iterable, List

from yatagan.portable.block_sums import checksums, run_digest
from yatagan.portable.directories import facts, open_regular

#: A question and its answer, as JSON carries them: values by name.
Request = Dict[str, Any]
Reply = Dict[str, Any]

Alive = Callable[[], None]
#: Bytes that are copied at once.
_PIECE = 4 << 20


def block_sums(request: Request, alive: Alive) -> Reply:
    """Compute the checksums of a file's blocks, and its facts before and after."""
    descriptor = open_regular(request["path"].encode("latin-1"), os.O_RDONLY)
    try:
        before = facts(os.fstat(descriptor))
        rolling, other = checksums(_pieces(descriptor, 0, before[1], request["block"], alive))
        after = facts(os.fstat(descriptor))
    finally:
        os.close(descriptor)
    spelled = [b64encode(each).decode("ascii") for each in (rolling, other)]
    return {"rolling": spelled[0], "other": spelled[1], "before": before, "facts": after}


def copy_matches(request: Request, alive: Alive) -> Reply:
    """Copy matches of an old file into a part file and sync that. Returns which of them were what they should be.

    A match is (offset in the old file, offset in the part file, bytes, digest or "").
    """
    part = open_regular(request["part"].encode("latin-1"), os.O_RDWR)
    try:
        old = open_regular(request["path"].encode("latin-1"), os.O_RDONLY)
        try:
            good = [_copy(old, part, match, alive) for match in request["matches"]]
        finally:
            os.close(old)
        os.fsync(part)
    finally:
        os.close(part)
    return {"good": good}


def _copy(old: int, part: int, match: List[Any], alive: Alive) -> bool:
    offset, at, size, digest = match
    if not digest and hasattr(os, "copy_file_range"):
        try:
            return _copied_by_the_disk(old, part, offset, at, size, alive)
        except OSError as error:
            if error.errno not in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP):
                raise
    same = run_digest(_copied(old, part, offset, at, size, alive))
    return not digest or bool(same == digest)


def _copied_by_the_disk(old: int, part: int, offset: int, at: int, size: int, alive: Alive) -> bool:
    end = offset + size
    while offset < end:
        count = os.copy_file_range(old, part, min(_PIECE, end - offset), offset, at)  # novermin: asked for first
        if not count:
            return False
        alive()
        offset, at = offset + count, at + count
    return True


def _copied(old: int, part: int, offset: int, at: int, size: int, alive: Alive) -> Iterable[bytes]:
    """The pieces, each once it is written."""
    for piece in _pieces(old, offset, size, _PIECE, alive):
        view = memoryview(piece)
        while view:
            count = os.pwrite(part, view, at)
            view, at = view[count:], at + count
        yield piece


def _pieces(descriptor: int, offset: int, size: int, piece_size: int, alive: Alive) -> Iterable[bytes]:
    """Part of a file, piece by piece; less if the file has become shorter."""
    end = offset + size
    while offset < end:
        piece = os.pread(descriptor, min(piece_size, end - offset), offset)
        if not piece:
            return
        alive()
        yield piece
        offset += len(piece)


HANDLERS = {"block_sums": block_sums, "copy_matches": copy_matches}
