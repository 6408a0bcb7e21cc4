"""`yatagan bag`: bags by RFC 8493, which archives and libraries take."""

from __future__ import annotations

from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import evidence_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.command_group import CommandGroup
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.views.verdict_view import ORIGINS
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import record_row, warn_of
from yatagan.ledger.ledger import OnRecord
from yatagan.operations.bagging import BagRequest, bag_directory, verify_bag
from yatagan.places import Place, name_fields
from yatagan.verdicts.bag_check import BagVerdict

#: Algorithms that every reader of bags must know (RFC 8493, 2.4).
_ALGORITHMS = ("md5", "sha1", "sha256", "sha512")
#: Problems that are shown before the rest is only counted.
_SHOWN = 20


@click.group("bag", cls=CommandGroup)
def bag_command() -> None:
    """A bag is a directory with its files in data/ and lists of their checksums beside it (RFC 8493)."""


def _info(context: click.Context, parameter: click.Parameter, given: tuple[str, ...]) -> list[tuple[str, str]]:
    """Lines of bag-info.txt from an option. Raises UsageError."""
    found = []
    for line in given:
        label, colon, value = line.partition(":")
        if not (colon and label.strip() == label and label) or any(char in line for char in "\r\n"):
            raise click.UsageError(f"{line!r} is not LABEL: VALUE", context)
        found.append((label, value.strip()))
    return found


@bag_command.command(
    "make",
    short_help="Make a bag of a directory.",
    epilog="""\b
Examples:
  yatagan bag make fen                       # fen-bag, beside it
  yatagan bag make fen --output fen-2026 --info 'Contact-Name: fen-flux'
  yatagan bag make fen --algorithm sha256 --algorithm sha512""",
)
@click.argument("directory", shell_complete=shell_completion.places)
@click.option("--output", metavar="BAG", help="The directory to make. Default: DIRECTORY-bag, beside it.")
@click.option(
    "--algorithm",
    "algorithms",
    multiple=True,
    type=click.Choice(_ALGORITHMS),
    default=("sha256",),
    show_default=True,
    metavar="NAME",
    help="Write manifests of md5, sha1, sha256 or sha512 (repeatable).",
)
@click.option(
    "--info", multiple=True, callback=_info, metavar="LABEL: VALUE", help="A line of bag-info.txt (repeatable)."
)
@choosing
@no_questions
@as_json
def make(
    directory: str,
    output: str | None,
    algorithms: tuple[str, ...],
    info: list[tuple[str, str]],
    only: tuple[str, ...],
    skip: tuple[str, ...],
    no_questions: bool,
    json_: bool,
) -> None:
    """Make a bag of a DIRECTORY of this machine: a copy of its files, with manifests and bag-info.txt.

    DIRECTORY itself stays as it is. The bag has its name only when all of it is on disk.
    """
    app = App.start(questions=not no_questions)
    request = BagRequest(
        app.place(directory),
        app.place(output, new=True) if output is not None else None,
        algorithms,
        tuple(info),
        parse_choice(only, skip),
    )
    bag = run(bag_directory(app, request, Shown(app, quiet=json_)))
    if json_:
        fields = {
            **name_fields(bag.place.path),
            "algorithms": list(bag.algorithms),
            "files": bag.files,
            "size_bytes": bag.size,
        }
        say_json({**fields, **record_json(bag.record)})
    else:
        terminal.say(terminal.style(f"Made the bag {text.show(bag.place.path)}", bold=True))
        rows = [("holds", f"{text.count(bag.files, 'file')}, {text.size(bag.size)}, in data/")]
        rows += [("manifests", ", ".join(bag.algorithms)), ("check", text.command("bag", "check", bag.place))]
        text.facts([*rows, record_row(bag.record)])
    warn_of(bag.record)


@bag_command.command(
    "check",
    short_help="Check a bag, wherever it is.",
    epilog="""\b
Examples:
  yatagan bag check fen-bag
  yatagan bag check heron:archive/fen-bag    # hashed by the node
  yatagan bag check fen-bag.tar.gz           # inside an archive""",
)
@click.argument("place", shell_complete=shell_completion.places)
@no_questions
@as_json
def check(place: str, no_questions: bool, json_: bool) -> None:
    """Check the bag PLACE, here, on a node, or in an archive: whether it is complete and valid.

    Each problem names the clause of RFC 8493. What fetch.txt lists is reported and not fetched. Exit status 0 for a
    valid bag, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    if status := check_place(app, app.place(place), json_=json_):
        raise click.exceptions.Exit(status)


def check_place(app: App, where: Place, *, json_: bool) -> ExitStatus:
    """Check the bag in a place, and say what was found. Returns the exit status."""
    checked = run(verify_bag(app, where, Shown(app, quiet=json_)))
    if json_:
        say_json({**_verdict_json(where, checked.verdict), **record_json(checked.record)})
    else:
        _show(where, checked.verdict, checked.record)
    warn_of(checked.record)
    return ExitStatus.GOOD if checked.verdict.valid else ExitStatus.DIFFERENCES


def _show(where: Place, verdict: BagVerdict, record: OnRecord) -> None:
    bag = verdict.bag
    if verdict.valid:
        said = text.tinted("a valid bag", text.Tone.GOOD)
    elif verdict.complete:
        said = text.tinted("complete, but NOT VALID", text.Tone.TROUBLE)
    else:
        said = text.tinted("NOT A VALID BAG", text.Tone.TROUBLE)
    terminal.say(terminal.style(f"{text.place(where.node, where.path)}: ", bold=True) + said)
    algorithms = dict.fromkeys(manifest.algorithm for manifest in bag.manifests)
    text.facts(
        [
            ("holds", f"{text.count(verdict.files, 'file')}, {text.size(verdict.size)}"),
            ("version", bag.version),
            ("manifests", ", ".join(algorithms)),
            *((text.show(label), text.show(value)) for label, value in bag.info),
            (
                "fetch",
                f"{text.count(len(bag.fetched), 'file')} in fetch.txt, which are not fetched" if bag.fetched else "",
            ),
            ("how", ORIGINS[verdict.origin] if bag.manifests else ""),
            record_row(record),
        ]
    )
    for problem in verdict.problems[:_SHOWN]:
        path = f"{text.show(problem.path)}: " if problem.path else ""
        terminal.say(
            "  " + text.tinted(f"RFC 8493, {problem.clause}", text.Tone.TROUBLE) + f"  {path}{text.show(problem.why)}"
        )
    if len(verdict.problems) > _SHOWN:
        terminal.say(f"  and {text.number(len(verdict.problems) - _SHOWN)} more: --json shows all")


def _verdict_json(where: Place, verdict: BagVerdict) -> dict[str, Any]:
    bag = verdict.bag
    return {
        "node": where.node,
        **name_fields(where.path),
        "valid": verdict.valid,
        "complete": verdict.complete,
        "version": bag.version,
        "algorithms": list(dict.fromkeys(manifest.algorithm for manifest in bag.manifests)),
        "files": verdict.files,
        "size_bytes": verdict.size,
        "evidence": evidence_json({verdict.origin: verdict.files}),
        "info": [{"label": label, "value": value} for label, value in bag.info],
        "to_fetch": [{**name_fields(path), "url": url} for path, url in sorted(bag.fetched.items())],
        "problems": [
            {**name_fields(problem.path), "clause": problem.clause, "reason": problem.why}
            for problem in verdict.problems
        ],
    }
