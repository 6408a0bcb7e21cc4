"""A report's page as a test reads it."""

from __future__ import annotations

import csv
import io
from collections import Counter
from html.parser import HTMLParser
from pathlib import Path


class Page(HTMLParser):
    """What is in a page: elements, attributes, text."""

    def __init__(self, file: Path) -> None:
        super().__init__()
        self.elements: Counter[str] = Counter()
        self.attributes: list[tuple[str, str, str]] = []
        self.text = ""
        self.feed(file.read_text(encoding="utf-8"))

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements[tag] += 1
        self.attributes += [(tag, name, value or "") for name, value in attrs]

    def handle_data(self, data: str) -> None:
        self.text += data

    @property
    def harmless(self) -> bool:
        """Whether nothing runs in it and nothing is loaded from anywhere."""
        runs = self.elements["script"] or any(name.startswith("on") for _, name, _ in self.attributes)
        loads = [value for _, name, value in self.attributes if name in ("src", "href", "xlink:href", "action", "data")]
        policy = next(value for tag, name, value in self.attributes if (tag, name) == ("meta", "content"))
        ids = Counter(value for _, name, value in self.attributes if name == "id")
        loaded = any(not value.startswith("#") for value in loads)
        return not runs and not loaded and "default-src 'none'" in policy and max(ids.values(), default=1) == 1


def rows_of(file: Path) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(file.read_text(encoding="utf-8"))))
