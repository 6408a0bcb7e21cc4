"""The user's crontab, and what it takes to have one."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator

import pytest

NEEDED = "YATAGAN_NEED_SSHD" in os.environ


@pytest.fixture
def crontab() -> Iterator[None]:
    """This user's crontab, put back in the end."""
    before = subprocess.run(["crontab", "-l"], capture_output=True, text=True, check=False)
    subprocess.run(["crontab", "-r"], capture_output=True, check=False)
    yield
    if before.returncode == 0:
        subprocess.run(["crontab", "-"], input=before.stdout, text=True, check=True)
    else:
        subprocess.run(["crontab", "-r"], capture_output=True, check=False)
