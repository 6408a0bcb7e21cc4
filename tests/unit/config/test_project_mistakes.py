"""All mistakes of a project file are said at once."""

from __future__ import annotations

from pathlib import Path

import pytest

from yatagan.config.project import load_project
from yatagan.errors import BadProject


def test_a_broken_file_raises_all_mistakes(tmp_path: Path) -> None:
    (tmp_path / "yatagan.toml").write_bytes(b"\xff")
    with pytest.raises(BadProject) as caught:
        load_project(tmp_path)
    assert [each.why for each in caught.value.mistakes] == ["cannot be read: it is not UTF-8"]
