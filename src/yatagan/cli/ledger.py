"""`yatagan ledger`: the record of what was staged, listed and verified."""

from __future__ import annotations

from typing import Any

import click

from yatagan.cli import text
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, say_json
from yatagan.cli.exit_status import ExitStatus
from yatagan.ledger.records import Ledger, Record, RecordKind
from yatagan.places import name_from


@click.group("ledger", cls=CommandGroup)
def ledger_command() -> None:
    """The record of what was staged, listed and verified. Records are only ever added."""


@ledger_command.command(
    short_help="Show all records, and whether they are as written.", epilog="Example: yatagan ledger show --full"
)
@click.option("--full", is_flag=True, help="Show several lines for each record: who, from where to where, evidence.")
@as_json
def show(full: bool, json_: bool) -> None:
    """Show all records, oldest first, and whether every record and list is still what was written."""
    app = App.start()
    ledger = Ledger(app.home.ledger)
    records = list(ledger.records())
    broken = [record for record in records if not record.fits]
    missing = ledger.missing()
    if json_:
        say_json(
            {
                "directory": str(app.home.ledger),
                "holds": not broken and not missing,
                "missing_files": missing,
                "records": [_as_json(record) for record in records],
            }
        )
    elif not records and not missing:
        click.echo("Nothing is on record yet.")
    else:
        _show_verdict(ledger, records, broken, missing)
        for record in records if full else broken:
            _show_full(record)
        if not full:
            text.table(
                ("time (UTC)", "what", "outcome", "files", "bytes", "place"), _rows(records), (3, 4), squeeze=True
            )
    if broken or missing:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def _show_verdict(ledger: Ledger, records: list[Record], broken: list[Record], missing: list[str]) -> None:
    """Show whether the ledger is what was written, in front of all else."""
    count = text.count(len(records), "record")
    head = click.style(f"{count} in {text.show(str(ledger.directory))}: ", bold=True)
    if not broken and not missing:
        click.echo(head + text.tinted("all as they were written", text.Tone.GOOD))
        click.echo("  (a change to the newest record shows only after the next one is added)")
        return
    click.echo(head + text.tinted("NOT as they were written", text.Tone.TROUBLE))
    if broken:
        click.echo(f"  {text.count(len(broken), 'record')} cannot be trusted:")
    for name in missing:
        click.echo(f"  {text.show(name)} is missing, with the records in it")


def _rows(records: list[Record]) -> list[tuple[str, ...]]:
    """The records, a line each."""
    rows: list[tuple[str, ...]] = []
    for record in records:
        body = record.body
        try:
            what = _what(record, with_list=False)
            files, size = text.number(int(body.get("files", 0))), text.size(int(body.get("bytes", 0)))
        except (KeyError, TypeError, ValueError, AttributeError):
            what, files, size = f"damaged, in {record.file}", "", ""  # written by another program
        outcome = text.tinted(text.show(str(body.get("outcome", ""))), _tone(record))
        rows.append((_moment(record), record.kind.value, outcome, files, size, what))
    return rows


def _tone(record: Record) -> text.Tone:
    good = record.fits and record.body.get("outcome") == "good"
    return text.Tone.GOOD if good else text.Tone.TROUBLE


def _moment(record: Record) -> str:
    return text.show(record.time[:16].replace("T", " "))


#: Fields of a record's body that have another name in answers.
_RENAMED = {
    "bytes": "size_bytes",
    "format": "archive",
    "from": "from_node",
    "to": "to_node",
    "created": "made_at",
    "left": "left_as_is",
}


def _as_json(record: Record) -> dict[str, Any]:
    body = {_RENAMED.get(key, key): value for key, value in record.body.items()}
    if isinstance(evidence := body.get("evidence"), str):
        body["evidence"] = {evidence: body.get("files", 0)}
    return {
        "id": record.id,
        "kind": record.kind.value,
        "recorded_at": record.time,
        "who": record.who,
        "file": record.file,
        "digest": record.digest,
        "fits": record.fits,
        "problem": record.problem or None,
        **body,
    }


def _show_full(record: Record) -> None:
    body = record.body
    mark = "" if record.fits else text.tinted(f"  {record.problem}", text.Tone.TROUBLE)
    outcome = text.tinted(text.show(str(body.get("outcome", ""))), _tone(record))
    head = click.style(f"{_moment(record)} UTC  {record.kind.value}", bold=True)
    click.echo(f"{head}, {outcome}, by {text.show(record.who)}{mark}")
    try:
        rows = [
            ("command", text.typed(body["command"]) if record.kind is RecordKind.STAGED else ""),
            ("what", _what(record)),
            ("batch", text.show(str(body.get("batch", "")))),
            ("files", _files(body)),
            ("evidence", _evidence(body)),
            ("digests", f"lists/{body['list'][:16]}…" if body.get("list") else ""),
        ]
    except (KeyError, TypeError, ValueError, AttributeError):
        rows = [("", f"damaged, in {record.file}")]  # written by another program
    text.facts(rows)


def _evidence(body: dict[str, Any]) -> str:
    """The evidence of a record: one kind for all, or counts by kind."""
    known = body.get("evidence", "")
    if isinstance(known, dict):
        return ", ".join(f"{text.number(count)} {text.show(name)}" for name, count in known.items())
    return text.show(str(known))


def _what(record: Record, *, with_list: bool = True) -> str:
    """What a record is about: a destination or a place, and `with_list` what it was verified against."""
    body = record.body
    if record.kind is RecordKind.STAGED:
        origin = f"{body['from']} → " if body.get("from") else ""
        return text.show(origin) + text.place(str(body.get("to", "")), name_from(body, "destination"))
    where = text.place(str(body["node"]), name_from(body))
    return f"{where} against {text.show(str(body['against']))}" if with_list and "against" in body else where


def _files(body: dict[str, Any]) -> str:
    parts = [f"{text.count(int(body.get('files', 0)), 'file')}, {text.size(int(body.get('bytes', 0)))}"]
    if body.get("bundles"):
        parts.append(f"stored in {text.count(int(body['bundles']), 'bundle')}")
    parts += [
        f"{text.number(int(body[key]))} {word}"
        for key, word in (
            ("left", "left as is"),
            ("failed", "failed"),
            ("different", "different"),
            ("missing", "missing"),
            ("not_listed", "not listed"),
        )
        if body.get(key)
    ]
    return "; ".join(parts)
