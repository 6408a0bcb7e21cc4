"""Which modules of this room a node is sent, each after those that it imports."""

from typing import Tuple


def _of(*names: str) -> Tuple[str, ...]:
    return tuple(["yatagan.portable." + name for name in names])


#: What every node gets at its login.
PROGRAM = _of("directories", "placing", "small_files", "program")
#: What is sent when it is first needed: finding and copying what a file has of another one,
DELTA = _of("block_sums", "delta_handlers")
#: making, reading and unpacking archives,
ARCHIVES = _of(
    "tar",
    "tar_reader",
    "index",
    "zstd_frames",
    "holes",
    "tar_input",
    "tar_writer",
    "member_names",
    "unpack_directories",
    "unpacking",
    "archives",
)
#: counting what of a tree does not arrive.
NOT_KEPT = _of("facts_not_kept")
#: naming the disk that something is on.
DISKS = _of("disk_names")
