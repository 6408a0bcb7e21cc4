"""`yatagan ledger merge, accept, trust, revoke, signers`: a ledger of several people and machines."""

from __future__ import annotations

import os
from datetime import datetime
from pathlib import Path

import click

from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import seconds_at
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.commands.ledger_check import ledger_in
from yatagan.cli.context import App, as_json, written
from yatagan.cli.named_file import read_named
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.units import parse_date
from yatagan.errors import BadConfig, BadPlace, Refused
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.forks import find_fork, fork_fields
from yatagan.ledger.merging import Merged
from yatagan.ledger.records import RecordKind
from yatagan.operations.put_on_record import Done, put_on_record


@click.command(
    "merge",
    short_help="Bring in the records of another copy.",
    epilog="Example: yatagan ledger merge /media/laptop/ledger",
)
@click.argument("directory", type=click.Path(path_type=Path))
@as_json
def merge_(directory: Path, json_: bool) -> None:
    """Bring the records of the ledger in DIRECTORY, another copy, into this one. Nothing that is here is changed.

    Where both go on differently from one record on, both are kept, and a check reports it until ledger accept. Keys
    that the other copy trusts are not taken over.
    """
    ledger, theirs = App.start().ledger_to_read(), ledger_in(directory)
    if os.path.realpath(directory) == os.path.realpath(ledger.directory.path):
        raise BadPlace(str(directory), "it is this ledger", "name another copy")
    try:
        merged = ledger.merge(theirs)
    except OSError as error:
        raise Refused(
            f"the ledger cannot be merged: {error.strerror or error}", "what was brought is kept; merge again"
        ) from error
    if json_:
        say_json(
            {
                "directory": str(ledger.directory.path),
                "records": merged.records,
                "lists": merged.lists,
                "forks": merged.forks,
                "refused": [{"file": name, "record": number or None} for name, number in merged.refused],
            }
        )
    else:
        _tell_merged(merged, theirs)
    if merged.refused:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def _tell_merged(merged: Merged, theirs: LedgerDirectory) -> None:
    if merged.records or merged.lists:
        lists = f" and {text.count(merged.lists, 'checksum list')}" if merged.lists else ""
        terminal.say(f"Brought {text.count(merged.records, 'record')}{lists} from {text.show(str(theirs.path))}.")
    else:
        terminal.say(f"Nothing new is in {text.show(str(theirs.path))}.")
    for name in merged.forks:
        text.warn(f"two continuations: {text.show(name)}; see them with: {text.command('ledger', 'accept', name)}")
    for name, number in merged.refused:
        where = f", from record {text.number(number)} on" if number else ""
        text.warn(f"{text.show(name)} is not what was written{where}, and was left out: check that copy")


@click.command(
    "accept",
    short_help="Accept two continuations of a file.",
    epilog="\b\nExample:\n  yatagan ledger accept mara-0c5d1f2e3a4b5c6d.fork-9a8b7c6d5e4f3a2b.jsonl",
)
@click.argument("file")
@click.option("--yes", is_flag=True, help="Do not ask; needed without a terminal.")
@as_json
def accept(file: str, yes: bool, json_: bool) -> None:
    """Show how FILE and its writer's own file go on differently, ask, and put on record that you accept that.

    Both stay in the ledger, and a check no longer reports them.
    """
    app = App.start()
    ledger = app.ledger_to_read()
    found = find_fork(ledger.directory, file)
    if found is None:
        raise BadPlace(file, "there is no such fork", f"see what there is: {text.command('ledger', 'check')}")
    if not json_:
        terminal.say(terminal.style(f"Two continuations from record {text.number(found.fork.number)} on", bold=True))
        for name, records in found.continuations:
            terminal.say(f"  {text.show(name)}: {text.count(len(records), 'record')}")
            for each in records[:5]:
                what = f"{each.recorded_at[:16].replace('T', ' ')}  {each.kind}, {each.outcome}, by {each.who}"
                terminal.say(f"    {text.show(what)}")
            if len(records) > 5:
                terminal.say(f"    and {text.number(len(records) - 5)} more")
    if not app.may("Accept that there are two?", yes=yes):
        terminal.say("Nothing was put on record.")
        return
    record = put_on_record(app, Done(RecordKind.FORK_ACCEPTED, "good", details=fork_fields(found.fork)))
    if json_:
        say_json({"writer": found.fork.writer, "record": found.fork.number, **record_json(record)})
    else:
        terminal.say("It is on record that you accept both.")
    warn_of(record)


@click.command(
    "trust",
    short_help="Trust a person's key to sign records.",
    epilog="Example: yatagan ledger trust jo jo.pub --until 2027-12-31",
)
@click.argument("name")
@click.argument("key")
@click.option("--from", "after", metavar="DATE", callback=written(parse_date), help="Only for records from then on.")
@click.option(
    "--until",
    "before",
    metavar="DATE",
    callback=written(lambda given: parse_date(given, end=True)),
    help="Only for records until then, all of that day.",
)
@as_json
def trust(name: str, key: str, after: datetime | None, before: datetime | None, json_: bool) -> None:
    """Trust KEY, a public key or a file that holds one, to sign records as NAME.

    It goes into the file allowed_signers of the ledger, which the OpenSSH key tool reads too.
    """
    from yatagan.ledger.signatures import fingerprint
    from yatagan.ledger.signers import add_trusted

    files, data = App.start().ledger().directory, _key(key)
    try:
        add_trusted(files, name, data, after, before)
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="NAME") from None
    if json_:
        say_json({"name": name, "fingerprint": fingerprint(data), "file": str(files.allowed_signers)})
    else:
        where = text.show(str(files.allowed_signers))
        terminal.say(f"{text.show(name)} is trusted with {fingerprint(data)}, in {where}.")


@click.command("revoke", short_help="Never trust a key again.", epilog="Example: yatagan ledger revoke stolen.pub")
@click.argument("key")
@as_json
def revoke(key: str, json_: bool) -> None:
    """Refuse every signature by KEY, a public key or a file that holds one, whenever it was made."""
    from yatagan.ledger.signatures import fingerprint
    from yatagan.ledger.signers import add_revoked

    files, data = App.start().ledger().directory, _key(key)
    add_revoked(files, data)
    if json_:
        say_json({"fingerprint": fingerprint(data), "file": str(files.revoked_keys)})
    else:
        terminal.say(f"{fingerprint(data)} is revoked, in {text.show(str(files.revoked_keys))}.")


@click.command("signers", short_help="Show whose signatures are trusted.", epilog="Example: yatagan ledger signers")
@as_json
def signers(json_: bool) -> None:
    """Show whose keys are trusted to sign records, and from when to when."""
    from yatagan.ledger.signatures import fingerprint
    from yatagan.ledger.signers import Signers

    files = App.start().ledger().directory
    try:
        known = Signers.of(files)
    except OSError as error:
        raise BadConfig(str(error.filename), f"cannot be read: {error.strerror}") from error
    if json_:
        keys = [
            {
                "names": list(key.names),
                "fingerprint": fingerprint(key.key),
                "valid_after_at": _seconds_at(key.after),
                "valid_before_at": _seconds_at(key.before),
                "revoked": key.key in known.revoked,
            }
            for key in known.keys
        ]
        say_json({"file": str(files.allowed_signers), "keys": keys})
        return
    if not known.keys:
        terminal.say(f"No key is trusted yet. Trust one with: {text.command('ledger', 'trust')} NAME KEY")
        return
    rows = [
        (
            text.show(", ".join(key.names)),
            fingerprint(key.key),
            "revoked" if key.key in known.revoked else _dates(key.after, key.before),
        )
        for key in known.keys
    ]
    text.table(("name", "key", "valid"), rows)


def _seconds_at(when: datetime | None) -> str | None:
    return seconds_at(when.timestamp() if when is not None else None)


def _dates(after: datetime | None, before: datetime | None) -> str:
    parts = [
        f"from {after:%Y-%m-%d %H:%M} UTC" if after is not None else "",
        f"before {before:%Y-%m-%d %H:%M} UTC" if before is not None else "",
    ]
    return " ".join(part for part in parts if part) or "always"


def _key(given: str) -> bytes:
    """A public key as typed, or from a file. Raises BadPlace."""
    from yatagan.ledger.signers import public_key

    try:
        return public_key(given)
    except ValueError:
        pass
    for line in read_named(Path(given), "name a file that holds a public key").decode("utf-8", "replace").splitlines():
        try:
            return public_key(line)
        except ValueError:
            continue
    raise BadPlace(given, "there is no public key in it", "name the file that ends in .pub")
