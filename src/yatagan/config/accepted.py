"""What a person has accepted once and for all: project files of other accounts, places that nothing backs up."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path

from yatagan.config.home import write_whole


class Accepted:
    """The list of what was accepted, in a file of the user's. One that cannot be read has nothing."""

    def __init__(self, file: Path) -> None:
        self._file = file

    def __contains__(self, key: str) -> bool:
        return key in self._read()

    def add(self, keys: Iterable[str]) -> None:
        """Accept. Raises BadConfig where that cannot be written."""
        write_whole(self._file, json.dumps(sorted({*self._read(), *keys}), indent=1) + "\n")

    def _read(self) -> list[str]:
        try:
            found = json.loads(self._file.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return []
        return [each for each in found if isinstance(each, str)] if isinstance(found, list) else []
