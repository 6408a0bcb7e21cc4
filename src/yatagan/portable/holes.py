"""Holes of sparse files: where a file has data, and the digest of contents in which holes are zeros."""

import errno
import os
from hashlib import sha256
from typing import Any, List, Optional, Tuple

from yatagan.portable.tar import Regions

_ZEROS = bytes(1 << 20)
#: Regions of one file beyond which the rest counts as data.
_MOST_REGIONS = 4096


def hash_zeros(value: Any, count: int) -> None:
    """Hash so many zero bytes."""
    while count > 0:
        size = min(count, len(_ZEROS))
        value.update(_ZEROS if size == len(_ZEROS) else _ZEROS[:size])
        count -= size


class SparseDigest:
    """The digest of contents that come as (offset, bytes), in order: SHA-256, or what another hasher makes.

    What is skipped counts as zeros. Without `holes` it is left out: a stranger's file may have an exabyte of it.
    """

    def __init__(self, holes: bool = True, value: Any = None) -> None:
        self._value = sha256() if value is None else value
        self._holes = holes
        self._at = 0

    def add(self, offset: int, data: bytes) -> None:
        """Hash the zeros up to an offset, and the bytes there."""
        if self._holes:
            hash_zeros(self._value, offset - self._at)
        self._value.update(data)
        self._at = offset + len(data)

    def finish(self, size: int) -> str:
        """The digest of a file of so many bytes."""
        if self._holes:
            hash_zeros(self._value, size - self._at)
        return self._value.hexdigest()


def data_regions(descriptor: int, status: os.stat_result) -> Optional[Regions]:
    """Where a file has data, as (offset, size); None when it has no holes, or the disk does not tell."""
    if status.st_blocks * 512 >= status.st_size:
        return None
    regions: List[Tuple[int, int]] = []
    at = 0
    try:
        while at < status.st_size and len(regions) < _MOST_REGIONS:
            try:
                at = os.lseek(descriptor, at, os.SEEK_DATA)
            except OSError as error:
                if error.errno != errno.ENXIO:  # a hole up to the end
                    raise
                break
            end = os.lseek(descriptor, at, os.SEEK_HOLE)
            regions.append((at, end - at))
            at = end
        else:
            if at < status.st_size:
                regions.append((at, status.st_size - at))
    except (OSError, ValueError):
        return None
    return None if regions == [(0, status.st_size)] else tuple(regions)
