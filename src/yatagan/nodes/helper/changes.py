"""What of a file's bytes is there already: what the helper does on a node when it has learned this module.

Kept to the standard library and to what Python 3.6 understands.
"""

import os
from base64 import b64encode
from typing import Any, Callable, Dict, Iterable, List

from yatagan.digests.blocks import block_digests, run_digest, strong_digest
from yatagan.nodes.helper.parcels import facts, open_regular


def blocks(request: Dict[str, Any], alive: Callable[[], None]) -> Dict[str, Any]:
    """The digests of a file's blocks, its facts before and after, and, if wanted, its SHA-256."""
    descriptor = open_regular(request["path"].encode("latin-1"), os.O_RDONLY)
    try:
        before = facts(os.fstat(descriptor))
        pieces = _pieces(descriptor, 0, before[1], request["block"], alive)
        weak, strong, whole = block_digests(pieces, request["whole"])
        after = facts(os.fstat(descriptor))
    finally:
        os.close(descriptor)
    spelled = [b64encode(each).decode("ascii") for each in (weak, strong)]
    return {"weak": spelled[0], "strong": spelled[1], "whole": whole, "before": before, "facts": after}


def reuse(request: Dict[str, Any], alive: Callable[[], None]) -> Dict[str, Any]:
    """Copy runs of one file's blocks into a part file, and sync that; which of them were still what they should be.

    A run is (offset in the old file, offset in the part file, bytes, digest).
    """
    part = open_regular(request["part"].encode("latin-1"), os.O_RDWR)
    try:
        old = open_regular(request["path"].encode("latin-1"), os.O_RDONLY)
        try:
            same = [_copy(old, part, run, request["block"], alive) for run in request["runs"]]
        finally:
            os.close(old)
        os.fsync(part)
    finally:
        os.close(part)
    return {"same": same}


def _copy(old: int, part: int, run: List[Any], block: int, alive: Callable[[], None]) -> bool:
    offset, at, size, digest = run
    strong = []
    for piece in _pieces(old, offset, size, block, alive):
        strong.append(strong_digest(piece))
        view = memoryview(piece)
        while view:
            count = os.pwrite(part, view, at)
            view, at = view[count:], at + count
    return bool(run_digest(b"".join(strong)) == digest)


def _pieces(descriptor: int, offset: int, size: int, block: int, alive: Callable[[], None]) -> Iterable[bytes]:
    """A part of a file, block by block; less of it where the file has become shorter."""
    end = offset + size
    while offset < end:
        piece = os.pread(descriptor, min(block, end - offset), offset)
        if not piece:
            return
        alive()
        yield piece
        offset += len(piece)


HANDLERS = {"blocks": blocks, "reuse": reuse}
