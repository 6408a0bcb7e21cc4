"""`yatagan ledger`: the record of what was staged, listed, verified, bundled, removed; who vouches for it."""

from __future__ import annotations

import csv
import os
import sys
from collections.abc import Callable, Iterator
from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.commands import ledger_check, ledger_group
from yatagan.cli.context import App, as_json, options, written
from yatagan.cli.terminal import terminal, text
from yatagan.cli.terminal.terminal import csv_cell
from yatagan.cli.words.record_words import DIGITS, unsigned_words
from yatagan.config.units import parse_date
from yatagan.ledger.ledger import Ledger
from yatagan.ledger.records import Record, RecordedPlace
from yatagan.ledger.selection import Selection

#: Counts of a record in words, where they are not files.
_COUNTS = {
    "directories": "directories",
    "directories_above": "more above",
    "links": "links",
    "left_as_is": "left as is",
    "replaced": "replaced",
    "removed": "removed",
    "not_carried": "not carried",
    "newer_there": "newer there",
    "failed": "failed",
    "different": "different",
    "missing": "missing",
    "facts_differ": "with other facts",
    "unreadable": "unreadable",
    "not_listed": "not listed",
}
#: The columns of an export, and where a record has them.
_COLUMNS = (
    "recorded_at",
    "kind",
    "outcome",
    "who",
    "files",
    "size_bytes",
    "from_node",
    "from_path",
    "to_node",
    "to_path",
    "evidence",
    "batch",
    "command",
    "version",
    "list",
    "file",
    "number",
    "digest",
)


@click.group("ledger", cls=CommandGroup)
def ledger_command() -> None:
    """The record of what was staged, listed, verified, bundled, renamed and removed. Records are only ever added."""


ledger_command.add_command(ledger_check.check_)
ledger_command.add_command(ledger_group.merge_)
ledger_command.add_command(ledger_group.accept)
ledger_command.add_command(ledger_group.trust)
ledger_command.add_command(ledger_group.revoke)
ledger_command.add_command(ledger_group.signers)


def moment(*, end: bool) -> Callable[[click.Context, click.Parameter, Any], Any]:
    """A callback for an option that is a date or an age; with `end` all of that day counts."""
    return written(lambda given: parse_date(given, end=end))


_selecting = options(
    click.option(
        "--node",
        default="",
        metavar="NODE",
        help="Only records of what was on NODE.",
        shell_complete=shell_completion.nodes,
    ),
    click.option("--person", default="", metavar="WHO", help="Only those of an account, as mara or mara@moor."),
    click.option("--since", metavar="WHEN", callback=moment(end=False), help="From then: 2026-11-27, or 7d."),
    click.option("--until", metavar="WHEN", callback=moment(end=True), help="Until then, all of that day."),
    click.option("--command", "typed", default="", metavar="WORDS", help="Of a command or kind: stage, removed."),
    click.option("--trouble", is_flag=True, help="Only those that were not good."),
    click.option("--file", "path", default="", metavar="PATH", help="Only those about a file: a path, or its end."),
)


def _selection(chosen: dict[str, Any]) -> Selection:
    return Selection(
        chosen["node"],
        chosen["person"],
        chosen["since"],
        chosen["until"],
        chosen["typed"],
        chosen["trouble"],
        os.fsencode(chosen["path"]),
    )


@ledger_command.command(
    "show",
    short_help="Show what is on record, the newest first.",
    epilog="Example: yatagan ledger show --node heron --since 7d",
)
@_selecting
@click.option("--full", is_flag=True, help="Show several lines for each: command, from where to where, evidence.")
@as_json
def show_(full: bool, json_: bool, **chosen: Any) -> None:
    """Show what is on record, the newest first. Nothing is checked here: that does yatagan ledger check."""
    app, selection = App.start(), _selection(chosen)
    ledger = app.ledger_to_read()
    records = list(_selected(ledger, selection))
    waiting = ledger.waiting()
    if json_:
        say_json(
            {
                "directory": str(ledger.directory.path),
                "waiting": len(waiting),
                "records": [_as_json(record) for record in records],
            }
        )
        return
    if not records:
        terminal.say("Nothing is on record yet." if selection.everything else "Nothing like that is on record.")
    else:
        text.paged(_shown(ledger, records, full=full))
    if waiting:
        text.warn(f"{text.count(len(waiting), 'record')} could not be written yet: {text.show(ledger.why_waiting)}")


def _selected(ledger: Ledger, selection: Selection) -> Iterator[Record]:
    selection.unread = ledger.unread
    return (record for record in ledger.records(selection.from_time) if selection.takes(record, ledger.directory))


def _shown(ledger: Ledger, records: list[Record], *, full: bool) -> Iterator[str]:
    count = text.count(len(records), "record")
    yield terminal.style(f"{count} in {text.show(str(ledger.directory.path))}", bold=True)
    if full:
        for record in records:
            yield from _full(record)
    else:
        several = len({record.who for record in records}) > 1
        head = ["time (UTC)", *(["who"] if several else []), "what", "outcome", "files", "bytes", "place"]
        rows = [_row(record, several=several) for record in records]
        at = head.index("files")
        yield from text.table_lines(head, rows, (at, at + 1), squeeze=True)


def _row(record: Record, *, several: bool) -> tuple[str, ...]:
    outcome = text.tinted(text.show(record.outcome), _tone(record))
    who = [text.show(record.who)] if several else []
    files, size = text.number(record.count("files")), text.size(record.size)
    return _minute(record), *who, text.show(record.kind), outcome, files, size, _what(record)


def _tone(record: Record) -> text.Tone:
    return text.Tone.GOOD if record.outcome == "good" else text.Tone.TROUBLE


def _minute(record: Record) -> str:
    return text.show(record.recorded_at[:16].replace("T", " "))


def _what(record: Record) -> str:
    """From where to where, short enough for a line."""
    origins, target = _ends(record)
    if record.kind == "staged" and target is not None:
        # What is staged has its name there too.
        return f"{origins[0].node} → {_place(target)}" if origins and origins[0].node else _place(target)
    if record.kind == "renamed" and origins and target is not None:
        return f"{_place(origins[0])} → {text.show(target.path.rpartition(b'/')[2])}"
    if record.kind == "unpacked" and origins and target is not None:
        return f"{_place(origins[0])} → {_place(target)}"
    if target is not None and (record.kind == "bundled" or not origins):
        return _place(target)
    more = f" and {text.number(len(origins) - 1)} more" if len(origins) > 1 else ""
    return _place(origins[0]) + more if origins else ""


def _place(place: RecordedPlace) -> str:
    return text.place(place.node, place.path)


def _ends(record: Record) -> tuple[list[RecordedPlace], RecordedPlace | None]:
    """From where and to where; nothing where another program wrote nonsense."""
    try:
        return record.origins, record.target
    except (KeyError, ValueError, TypeError, AttributeError):
        return [], None


def _full(record: Record) -> Iterator[str]:
    outcome = text.tinted(text.show(record.outcome), _tone(record))
    head = terminal.style(f"{_minute(record)} UTC  {text.show(record.kind)}", bold=True)
    yield f"{head}, {outcome}, by {text.show(record.who)}"
    fields, (origins, target) = record.fields, _ends(record)
    against = fields.get("against")
    counts = [f"{text.number(count)} {words}" for name, words in _COUNTS.items() if (count := record.count(name))]
    yield from text.fact_lines(
        [
            ("command", _command(record)),
            ("from", ", ".join(_place(place) for place in origins[:3]) + (" …" if len(origins) > 3 else "")),
            ("to", _place(target) if target is not None else ""),
            ("against", _against(against) if against else ""),
            ("batch", text.show(str(fields.get("batch", "")))),
            ("files", "; ".join([f"{text.count(record.count('files'), 'file')}, {text.size(record.size)}", *counts])),
            ("evidence", _evidence(record)),
            ("digests", f"lists/{text.show(record.list_digest)}" if record.list_digest else ""),
            ("unsigned", unsigned_words(str(fields["unsigned"])) if "unsigned" in fields else ""),
            ("record", f"{text.number(record.number)} of {text.show(record.file)}, digest {record.digest[:DIGITS]}"),
        ]
    )


def _command(record: Record) -> str:
    words = record.fields.get("command", [])
    return text.typed(str(word) for word in words) if isinstance(words, list) else ""


def _against(against: object) -> str:
    if isinstance(against, dict):
        try:
            return _place(RecordedPlace(str(against["node"]), os.fsencode(str(against["path"]))))
        except KeyError:
            return ""
    return text.show(str(against))


def _evidence(record: Record) -> str:
    known = record.fields.get("evidence", {})
    if not isinstance(known, dict):
        return text.show(str(known))
    return ", ".join(
        f"{text.number(count)} {text.show(name)}" for name, count in known.items() if isinstance(count, int)
    )


def _as_json(record: Record) -> dict[str, Any]:
    """A record for scripts: as it is on disk, with its digest and file."""
    fields = {key: value for key, value in record.fields.items() if key != "format"}
    return {**fields, "digest": record.digest, "file": record.file}


@ledger_command.command(
    "export",
    short_help="Print records for other programs.",
    epilog="Example: yatagan ledger export --csv --since 2026-11-01 > november.csv",
)
@_selecting
@click.option(
    "--csv", "form", flag_value="csv", help="A line for each record, by RFC 4180, with a first line of names."
)
@click.option("--json", "form", flag_value="json", help="One JSON object, with the records as they are on disk.")
def export(form: str | None, **chosen: Any) -> None:
    """Print records for other programs, the newest first."""
    if form is None:
        raise click.UsageError("--csv or --json is missing", click.get_current_context())
    ledger = App.start().ledger_to_read()
    records = _selected(ledger, _selection(chosen))
    if form == "json":
        say_json({"directory": str(ledger.directory.path), "records": [_as_json(record) for record in records]})
        return
    out = csv.writer(sys.stdout)
    out.writerow(_COLUMNS)
    for record in records:
        out.writerow(_cells(record))


def _cells(record: Record) -> list[object]:
    origins, target = _ends(record)
    origin = origins[0] if origins else None
    known = {
        "files": record.count("files"),
        "size_bytes": record.size,
        "from_node": origin.node if origin is not None else "",
        "from_path": text.show(origin.path) if origin is not None else "",
        "to_node": target.node if target is not None else "",
        "to_path": text.show(target.path) if target is not None else "",
        "evidence": _evidence(record),
        "command": _command(record),
        "digest": record.digest,
        "file": record.file,
    }
    cells = [known[name] if name in known else str(record.fields.get(name, "")) for name in _COLUMNS]
    return [csv_cell(text.show(cell) if isinstance(cell, str) else cell) for cell in cells]
