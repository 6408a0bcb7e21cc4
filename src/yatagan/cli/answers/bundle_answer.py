"""What is in an archive, for scripts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from yatagan.cli.terminal import text
from yatagan.places import Place, name_fields
from yatagan.portable.index import IndexEntry


def listing_json(where: Place, path: bytes, lines: Sequence[IndexEntry], damage: str, fits: bool) -> dict[str, Any]:
    """Members as JSON."""
    members = []
    for line in lines:
        member = line.member
        members.append(
            {
                **name_fields(member.name),
                "kind": member.kind,
                "size_bytes": member.size,
                "mode": f"{member.mode:04o}",
                "modified_at": text.timestamp(member.mtime_ns),
                **(name_fields(member.target, "target") if member.target else {}),
                **({"sha256": line.digest} if line.digest else {}),
            }
        )
    return {"node": where.node, **name_fields(path), "has_index": fits, "members": members, "damage": damage}
