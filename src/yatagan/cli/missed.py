"""What a dataset has on record and its source has no more: said, asked about, and put on record where that is right."""

from __future__ import annotations

import itertools
from typing import Any

from yatagan.cli import text
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.login_questions import confirm
from yatagan.cli.plan_warnings import Caution
from yatagan.cli.stage_request import Request
from yatagan.places import name_fields
from yatagan.planning.gone import NoLongerThere, WhyAsk

#: Names that are shown before the rest is only counted.
_SHOWN = 3
_REASONS = {
    WhyAsk.EMPTY: "nothing is left there; is its disk mounted?",
    WhyAsk.MANY: "that is more than is taken for meant",
    WhyAsk.OTHER_DISK: "and it lies on another disk than then",
}


class Missed:
    """What is gone from the source of a stage, and whether that goes on record."""

    def __init__(self, gone: NoLongerThere | None, request: Request) -> None:
        self._gone = gone
        self._request = request
        self._accepted = gone is not None and (gone.why is None or request.accept_gone)

    def ask(self) -> None:
        """Ask a person whether it goes on record as gone, unless that is clear."""
        if self._gone is None or self._accepted or not self._request.app.questions:
            return
        self._accepted = confirm("Put on record that they are gone? They are no longer verified or restored then")

    @property
    def labels(self) -> tuple[bytes, ...]:
        """What goes on record as gone, by its names at the destination."""
        return self._gone.labels if self._gone is not None and self._accepted else ()

    @property
    def _words(self) -> str:
        """`412 files, 3.1 GB, that were staged on 2026-11-28 are no longer here`."""
        assert self._gone is not None
        gone, node = self._gone, self._request.source_node
        many = text.count(gone.files, "file") if gone.files else text.count(len(gone.paths), "directory", "directories")
        size = f" ({text.size(gone.size)})" if gone.size else ""
        are, where = "is" if len(gone.paths) == 1 else "are", f"on {node}" if node else "here"
        was = "was" if len(gone.paths) == 1 else "were"
        return f"{many}{size} that {was} staged on {gone.recorded_at[:10]} {are} no longer {where}"

    @property
    def cautions(self) -> list[Caution]:
        """The line of the plan; the first one where a person is to decide."""
        if self._gone is None:
            return []
        names = ", ".join(text.show(path) for path in itertools.islice(self._gone.paths, _SHOWN))
        more = len(self._gone.paths) - _SHOWN
        names += f" and {text.number(more)} more" if more > 0 else ""
        if self._gone.why is not None and not self._request.accept_gone:
            return [Caution("", f"{self._words}: {_REASONS[self._gone.why]} ({names})", first=True)]
        return [Caution("gone", f"{self._words}, and go on record as gone: {names}")]

    @property
    def verdict(self) -> str:
        """What is said at the end where nothing of it went on record; "" otherwise."""
        if self._gone is None or self._accepted:
            return ""
        return f"{self._words}; they stay on record. If they are meant to be gone: --accept-gone"

    @property
    def status(self) -> ExitStatus:
        """Whether something is missed that a person has not accepted."""
        return ExitStatus.DIFFERENCES if self.verdict else ExitStatus.GOOD

    def as_json(self) -> dict[str, Any] | None:
        """For scripts; None where nothing is gone."""
        gone = self._gone
        if gone is None:
            return None
        return {
            "files": gone.files,
            "size_bytes": gone.size,
            "recorded_at": gone.recorded_at,
            "asked_because": gone.why,
            "on_record": self._accepted,
            "first": [name_fields(path) for path in gone.paths[:_SHOWN]],
        }
