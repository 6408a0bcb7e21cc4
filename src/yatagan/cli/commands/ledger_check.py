"""`yatagan ledger check`: whether every record is what was written, and what confirms that."""

from __future__ import annotations

import os
from pathlib import Path

import click

from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.ledger_answer import checked_json
from yatagan.cli.context import App, as_json
from yatagan.cli.named_file import read_named
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.ledger_words import finding_lines, vouching_rows
from yatagan.cli.words.record_words import DIGITS
from yatagan.errors import BadPlace
from yatagan.ledger.checking import Check
from yatagan.ledger.directory import LedgerDirectory
from yatagan.ledger.findings import Checked
from yatagan.ledger.memory import LedgerMemory

#: Findings that are shown one by one.
_SHOWN = 30


@click.command(
    "check",
    short_help="Check that no record was changed or removed.",
    epilog="""\b
Examples:
  yatagan ledger check
  yatagan ledger check /media/copy/ledger --last 3f9a2b1c4d5e6f70""",
)
@click.argument("directory", required=False, type=click.Path(path_type=Path))
@click.option("--last", metavar="HEX", default="", help="A digest that was noted: its record must be there.")
@click.option("--signers", metavar="FILE", type=click.Path(path_type=Path), help="Trust these keys, not the ledger's.")
@as_json
def check_(directory: Path | None, last: str, signers: Path | None, json_: bool) -> None:
    """Check the ledger, or a copy of one in DIRECTORY: no record changed, removed, added or out of order.

    Exit status 0 when all is as it was written, 1 otherwise. A change to the newest record of a file, or an end that
    was cut off, is found only when another writer, this machine or a note has seen what was there.
    """
    app = App.start()
    last = _digest(last)
    files = ledger_in(directory) if directory is not None else app.ledger_to_read().directory
    memory = LedgerMemory(app.home.ledger_memory, files.path)
    keys = read_named(signers, "name an allowed-signers file") if signers is not None else None
    check = Check(files, memory.seen(), memory.expected(), keys)
    checked = check.run(last)
    memory.keep_seen(check.heads())
    if json_:
        say_json(checked_json(files, checked))
    else:
        _show_checked(files, checked)
    if not checked.good:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def _digest(given: str) -> str:
    """A digest, or its beginning, as it was noted. Raises BadParameter."""
    digest = given.replace(" ", "").lower()
    if given and (len(digest) < 16 or set(digest) - set("0123456789abcdef")):
        raise click.BadParameter("a digest is at least 16 of the digits 0 to 9 and a to f", param_hint="--last")
    return digest


def ledger_in(directory: Path) -> LedgerDirectory:
    """The ledger in a directory. Raises BadPlace where there is none."""
    files = LedgerDirectory(Path(os.path.abspath(directory)))
    if not os.path.isdir(directory):
        raise BadPlace(str(directory), "there is no such directory")
    if not files.writer_files():
        raise BadPlace(str(directory), "there is no ledger in it", "name the directory that holds writers and lists")
    return files


def _show_checked(files: LedgerDirectory, checked: Checked) -> None:
    where = terminal.style(f"{text.show(str(files.path))}: ", bold=True)
    if not checked.records and checked.good:
        terminal.say("Nothing is on record yet.")
    elif checked.good:
        terminal.say(where + text.tinted("all as it was written", text.Tone.GOOD))
    else:
        terminal.say(where + text.tinted("NOT as it was written", text.Tone.TROUBLE))
    lines = finding_lines(checked.findings)
    for line in lines[:_SHOWN]:
        terminal.say("  " + text.tinted(line, text.Tone.TROUBLE))
    if len(lines) > _SHOWN:
        terminal.say(f"  and {text.number(len(lines) - _SHOWN)} more: --json shows all")
    forks = ((text.show(fork.writer), text.show(who)) for fork, who in checked.forks.items())
    text.facts(
        [
            ("records", _counts(files, checked)),
            *vouching_rows(checked),
            *(("fork", f"two continuations of {writer}, accepted by {who}") for writer, who in forks),
            *(("skipped", f"{text.show(each.name)}: {each.what}") for each in checked.strange[:_SHOWN]),
            *(("not read", f"line {line} of {name}") for name, line in checked.odd_lines[:_SHOWN]),
            ("newest", f"digest {checked.newest[1][:DIGITS]}" if checked.newest[1] else ""),
        ]
    )


def _counts(files: LedgerDirectory, checked: Checked) -> str:
    total, in_files = checked.records, len(files.writer_files())
    lists = f", {text.count(checked.lists, 'list')}" if checked.lists else ""
    return f"{text.number(total)} in {text.count(in_files, 'file')}{lists}" if total else ""
