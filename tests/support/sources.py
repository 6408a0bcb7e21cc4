"""The program's own source."""

from __future__ import annotations

from pathlib import Path

import yatagan

SOURCE = Path(yatagan.__file__).parent


MODULES = {path.relative_to(SOURCE).as_posix(): path.read_text() for path in sorted(SOURCE.rglob("*.py"))}
