"""What a disk is known by."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.portable.disk_names import mounted, name_of

MOUNTS = r"""22 27 0:20 / /proc rw - proc proc rw
27 1 8:2 / / rw,relatime shared:1 - ext4 /dev/sda2 rw
40 27 0:35 /a /home rw - nfs4 heron:/export/home rw
41 40 0:36 / /home/with\040space rw shared:9 - fuse.sshfs mara@heron:data rw
42 27 8:5 / /data rw - xfs /dev/sdb1 rw
43 27 8:6 / /data rw - xfs /dev/sdc1 rw
nonsense
"""


@pytest.mark.parametrize(
    ("path", "name"),
    [
        ("/data/fen", "uuid 22-22"),  # what was mounted last
        ("/database", "ext4"),
        ("/home/mara", "nfs4 heron:/export/home"),
        ("/home/with space/fen", "fuse.sshfs mara@heron:data"),
        ("/proc/1", "proc"),
        ("/", "ext4"),
    ],
)
def test_a_disk_is_known_by_its_uuid_or_its_server(path: str, name: str) -> None:
    uuids = {"/dev/sdb1": "11-11", "/dev/sdc1": "22-22"}
    assert name_of(*mounted(path, MOUNTS.splitlines()), uuids) == name


@given(st.lists(st.text(max_size=40), max_size=5), st.text(max_size=20))
def test_no_line_of_mounts_breaks_it(lines: list[str], path: str) -> None:
    assert len(mounted("/" + path, lines)) == 2
