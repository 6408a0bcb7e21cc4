"""Pythons of other versions on this machine."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from conftest import ALL_NEEDED

PYENV = Path(os.environ.get("PYENV_ROOT", "~/.pyenv")).expanduser() / "versions"


def directory_of(version: str) -> str:
    """Where a Python of this version is; the test is skipped where there is none."""
    found = sorted(PYENV.glob(f"{version}.*/bin/python3")) if os.access(PYENV, os.X_OK) else []
    if not found:
        assert not ALL_NEEDED, f"here there must be a Python {version}"
        pytest.skip(f"no Python {version} on this machine")
    return str(found[-1].parent)
