"""What a person has accepted once and for all: project files of other accounts, places that nothing backs up."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path

from yatagan.config.guarded_files import parse_json, read_small
from yatagan.config.own_files import write_whole


class Accepted:
    """The list of what was accepted, in a file of the user's. One that cannot be read has nothing.

    Raises NotBelieved for one that another account could have written.
    """

    def __init__(self, file: Path) -> None:
        self._file = file

    def __contains__(self, key: str) -> bool:
        return key in self._read()

    def add(self, keys: Iterable[str]) -> None:
        """Accept. Raises BadConfig where that cannot be written."""
        write_whole(self._file, json.dumps(sorted({*self._read(), *keys}), indent=1) + "\n")

    def _read(self) -> list[str]:
        try:
            found = parse_json(read_small(self._file, ours=True))
        except (OSError, ValueError):  # then nothing was accepted: it is asked about again
            return []
        return [each for each in found if isinstance(each, str)] if isinstance(found, list) else []
