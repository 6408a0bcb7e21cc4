"""An answer in JSON: one object, or one a line."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from yatagan.cli.terminal import terminal
from yatagan.cli.terminal.terminating import leave_at_once
from yatagan.cli.words.exit_status import ExitStatus

#: The number of the form that JSON answers have; a new one when a script that reads them would break.
JSON_FORMAT = 1


def say_json(answer: Mapping[str, Any]) -> None:
    """One JSON object to standard output: the answer, after which a stop comes too late to be another one."""
    leave_at_once(ExitStatus.INTERRUPTED)
    terminal.say_json({"format": JSON_FORMAT, **answer})
