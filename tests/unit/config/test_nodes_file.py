"""Saved nodes, and sizes and durations as people write them."""

from __future__ import annotations

from pathlib import Path

import pytest

from yatagan.config.nodes import Node, NodeBook, Role
from yatagan.config.units import parse_duration, parse_size
from yatagan.errors import BadConfig


@pytest.mark.parametrize(
    ("typed", "size"),
    [
        ("4096", 4096),
        ("500kB", 500_000),
        ("2.5 GB", 2_500_000_000),
        ("20MB/s", 20_000_000),
        ("1K", 1000),
        ("", None),
        ("many", None),
        ("-5", None),
        ("infM", None),
        ("1e3", None),
        ("20MBB", None),
    ],
)
def test_sizes_as_people_write_them(typed: str, size: int | None) -> None:
    if size is None:
        with pytest.raises(ValueError, match="is no size"):
            parse_size(typed)
    else:
        assert parse_size(typed) == size


@pytest.mark.parametrize(
    ("typed", "seconds"),
    [("90s", 90), ("10m", 600), ("15min", 900), ("2 min", 120), ("1.5h", 5400), ("2d", 172800), ("20ms", 0.02)],
)
def test_durations(typed: str, seconds: float) -> None:
    assert parse_duration(typed) == seconds


def test_the_node_file_keeps_its_comments_and_is_checked(tmp_path: Path) -> None:
    file = tmp_path / "nodes.toml"
    file.write_text('# our cluster\n[node.dunlin]\naddress = "login.fen.example" # the front door\nrole = "login"\n')
    book = NodeBook(file)
    book.put(Node("heron", "transfer.fen.example", port=2222, user="mara"))
    book.remove("heron")
    book.put(Node("heron", "transfer.fen.example", port=2222))
    assert "# our cluster" in file.read_text() and "# the front door" in file.read_text()
    again = NodeBook(file)
    assert [node.name for node in again] == ["dunlin", "heron"]
    assert again.get("dunlin").role is Role.LOGIN and again.get("heron").port == 2222
    for wrong in ("[node.x]\n", "[node.x]\naddress=1", '[node.x]\naddress="a"\nprot=1', "[node", '[node]\nx="y"'):
        file.write_text(wrong)
        with pytest.raises(BadConfig):
            NodeBook(file)
