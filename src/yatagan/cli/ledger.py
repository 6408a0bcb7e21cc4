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


@ledger_command.command(epilog="Example: yatagan ledger show --json")
@as_json
def show(json_: bool) -> None:
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
        for record in records:
            _show(record)
        click.echo(
            click.style(f"{text.count(len(records), 'record')} in {text.show(str(ledger.directory))}", bold=True)
        )
        for name in missing:
            click.echo("  " + click.style(f"{text.show(name)} is missing, with the records in it", fg="red"))
        if broken:
            click.echo("  " + click.style(f"{text.count(len(broken), 'record')} cannot be trusted", fg="red"))
        elif not missing:
            click.echo("  " + click.style("every record and list is as it was written", fg="green"))
            click.echo("  (a change to the newest record shows only after the next one is added)")
    if broken or missing:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def _as_json(record: Record) -> dict[str, Any]:
    return {
        "id": record.id,
        "kind": record.kind.value,
        "time": record.time,
        "who": record.who,
        "file": record.file,
        "digest": record.digest,
        "fits": record.fits,
        "problem": record.problem,
        **record.body,
    }


def _show(record: Record) -> None:
    body = record.body
    mark = "" if record.fits else click.style(f"  {record.problem}", fg="red")
    when = record.time[:19].replace("T", " ") + " UTC"
    outcome = text.show(str(body.get("outcome", "")))
    colour = "green" if outcome == "good" else "red"
    click.echo(
        click.style(f"{when}  {record.kind.value}", bold=True)
        + f", {click.style(outcome, fg=colour)}, by {text.show(record.who)}{mark}"
    )
    try:
        rows = [
            ("what", _what(record)),
            ("files", _files(body)),
            ("evidence", _evidence(body)),
            ("digests", f"lists/{body['list'][:16]}…" if body.get("list") else ""),
        ]
    except (KeyError, TypeError, ValueError, AttributeError):
        rows = [("", f"damaged, in {record.file}")]  # somebody wrote in it who is not us
    text.facts(rows)


def _evidence(body: dict[str, Any]) -> str:
    """The evidence of a record: one kind for all, or counts by kind."""
    known = body.get("evidence", "")
    if isinstance(known, dict):
        return ", ".join(f"{text.number(count)} {text.show(name)}" for name, count in known.items())
    return text.show(str(known))


def _what(record: Record) -> str:
    body = record.body
    if record.kind is RecordKind.STAGED:
        return f"{text.typed(body['command'])}  (batch {body['batch']})"
    where = text.place(str(body["node"]), name_from(body))
    return f"{where} against {text.show(str(body['against']))}" if "against" in body else where


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
