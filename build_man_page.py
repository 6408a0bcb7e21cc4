"""Makes the man page yatagan(1) of docs/reference/commands.md, while the package is built.

A hook of the build (hatchling). It needs nothing but the page, which tests keep equal to what `--help` says.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

try:
    from hatchling.builders.hooks.plugin.interface import BuildHookInterface
except ImportError:  # where only the page is made, as in tests
    BuildHookInterface = object  # type: ignore[assignment,misc]


class ManPageHook(BuildHookInterface):  # type: ignore[misc,type-arg]
    """Puts yatagan.1 where the wheel takes it from."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """See hatchling's `BuildHookInterface.initialize`."""
        root = Path(self.root)
        text = (root / "docs" / "reference" / "commands.md").read_text(encoding="utf-8")
        made = root / "build" / "yatagan.1"
        made.parent.mkdir(exist_ok=True)
        made.write_text(man_page(text, self.metadata.version), encoding="utf-8")
        build_data.setdefault("shared_data", {})[str(made)] = "share/man/man1/yatagan.1"


def man_page(text: str, version: str) -> str:
    """The page in the man macros, from its Markdown."""
    lines = [
        f'.TH YATAGAN 1 "" "yatagan {version}" "User Commands"',
        ".SH NAME",
        r"yatagan \- stage datasets between this machine and cluster nodes",
        ".SH SYNOPSIS",
        ".B yatagan",
        ".I COMMAND",
        "[OPTIONS] [ARGS]...",
    ]
    inside = False
    for line in text[text.index("\n## ") :].splitlines():
        if line.startswith("```"):
            inside = not inside
            lines.append(".EX" if inside else ".EE")
        elif inside:
            lines.append(_plain(line))
        elif found := re.fullmatch(r"(##+) (.*)", line):
            lines.append(f"{'.SH' if len(found[1]) == 2 else '.SS'} {_plain(found[2])}")
        elif found := re.fullmatch(r"- `(.*?)`: (.*)", line):
            lines += [".TP", rf"\fB{_plain(found[1])}\fR", _plain(found[2])]
        elif line:
            lines.append(_plain(line))
        else:
            lines.append(".PP")
    return "\n".join(lines) + "\n"


def _plain(line: str) -> str:
    """Text without marks, safe from being read as a request."""
    line = line.replace("\\", r"\e").replace("-", r"\-").replace("`", "")
    return rf"\&{line}" if line.startswith((".", "'")) else line
