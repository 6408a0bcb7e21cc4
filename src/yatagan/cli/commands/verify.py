"""`yatagan verify`: a place against a checksum list, a batch against what it has put there, a dataset against the
ledger."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import click

from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.verdict_answer import verified_json
from yatagan.cli.context import App, as_json, checked, no_questions, one_of, run
from yatagan.cli.named_file import open_descriptor, read_named
from yatagan.cli.pattern_options import choosing, parse_choice
from yatagan.cli.terminal import text
from yatagan.cli.views.scan_progress import Shown
from yatagan.cli.views.verdict_view import show_one_line, show_verdicts
from yatagan.cli.words.dataset_words import not_good_words
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.record_words import warn_of
from yatagan.config.project import By, Towards
from yatagan.digests.algorithms import ALGORITHMS
from yatagan.digests.any_lists import Reading
from yatagan.operations.verify import verify
from yatagan.operations.verify_request import VerifyRequest
from yatagan.trees.checksum_record import LARGEST_LIST


@click.command(
    "verify",
    epilog="""\b
Examples:
  yatagan verify heron:fen                  # against heron:fen/SHA256SUMS
  yatagan verify heron:fen --against fen/SHA256SUMS
  yatagan verify heron:fen --against published.md5 --drop-leading 1
  yatagan verify --batch k7qd               # is it still there as it was put?
  yatagan verify --dataset chambers         # of the project, as on record
  yatagan verify heron:fen --by size-and-time
  yatagan verify heron:archive --resume     # goes on where it was cut off
In a job script:
  yatagan verify --dataset chambers --side here --no-questions || exit 1""",
)
@click.argument("place", required=False, shell_complete=shell_completion.places)
@click.option(
    "--against", metavar="FILE", help="The checksum list, here or on a node. Default: SHA256SUMS in the tree."
)
@click.option(
    "--batch",
    "batch",
    metavar="ID",
    shell_complete=shell_completion.batches,
    help="Verify what this batch has put into its destination, instead of a PLACE.",
)
@click.option(
    "--dataset",
    metavar="NAME",
    shell_complete=shell_completion.datasets,
    help="Verify a dataset of the project against what the ledger has of it, instead of a PLACE.",
)
@click.option(
    "--side",
    type=one_of(Towards),
    help="Verify the dataset here or there. Default: where it is carried to.",
)
@click.option(
    "--digest",
    type=click.Choice([each.name for each in ALGORITHMS]),
    metavar="NAME",
    help="The algorithm of the list, where neither its lines nor its name say it: sha256, sha512, blake2b, blake3, md5 "
    "and others.",
)
@click.option(
    "--below", metavar="DIRECTORY", help="Take only the paths of the list below this directory, relative to it."
)
@click.option(
    "--drop-leading",
    "drop",
    type=click.IntRange(min=0),
    default=0,
    metavar="N",
    help="Drop the first N names of every path on the list.",
)
@click.option(
    "--by",
    type=one_of(By),
    default=By.DIGEST.value,
    show_default=True,
    help="Contents (digest), or a quick look that goes by size and time and does not see what keeps both.",
)
@click.option(
    "--processes",
    type=click.IntRange(min=1, max=256),
    metavar="N",
    help="Let N processors hash, of those that the machine has: on a login node at most 2. They give way to others.",
)
@click.option(
    "--resume",
    is_flag=True,
    help="Go on where a run of the last 24 hours was cut off, and log in again when the connection is lost. What has "
    "moved since is read again.",
)
@choosing
@no_questions
@as_json
@click.pass_context
def verify_command(context: click.Context, /, no_questions: bool, json_: bool, **asked: Any) -> None:
    """Verify PLACE against a checksum list, or a batch or dataset against what is on record of it.

    Says what is the same, different, missing or not listed, and by which evidence. Lists of any open form are read:
    lines HEX PATH or NAME (PATH) = HEX, of MD5, SHA-1, SHA-2, BLAKE2 and BLAKE3. With patterns, only what they choose,
    there and on the list. Exit status 0 when everything on the list is there and the same, 1 otherwise.
    """
    app = App.start(questions=not no_questions)
    request = verify_asked(app, context)
    if request.dataset:
        _check_bag(app, request, json_=json_)
    found = run(verify(app, request, Shown(app, quiet=json_), given=_piped(asked["against"])))
    if json_:
        say_json(verified_json(found))
    elif request.dataset and no_questions and found.good:
        show_one_line(found)
    else:
        show_verdicts(found)
    for words in not_good_words(request.dataset, found.still_not_good) if not json_ else ():
        text.warn(f"{request.dataset}, {words}")
    warn_of(found.record)
    if not found.good:
        raise click.exceptions.Exit(ExitStatus.DIFFERENCES)


def verify_asked(app: App, context: click.Context) -> VerifyRequest:
    """What a verify as typed asks for. Raises UsageError and others."""
    asked = context.params
    place, against = asked["place"], asked["against"]
    if [place, asked["batch"], asked["dataset"]].count(None) != 2:
        raise click.UsageError("name a PLACE, or --batch ID, or --dataset NAME", context)
    if place is None and (against or asked["digest"] or asked["below"] or asked["drop"]):
        raise click.UsageError("only a PLACE is verified against a list", context)
    if asked["side"] is not None and asked["dataset"] is None:
        raise click.UsageError("--side goes with --dataset", context)
    return checked(
        lambda: VerifyRequest(
            app.place(place) if place is not None else None,
            asked["batch"] or "",
            asked["dataset"] or "",
            against=app.place(against) if against is not None else None,
            reading=Reading(asked["digest"], os.fsencode(asked["below"] or ""), asked["drop"]),
            side=Towards(asked["side"]) if asked["side"] else None,
            choice=parse_choice(asked["only"], asked["skip"]),
            by=By(asked["by"]),
            processes=asked["processes"] or 0,
            resume=asked["resume"],
        )
    )


def _piped(against: str | None) -> bytes | None:
    """The list, where it is piped in; None for one in a place."""
    if against is None or open_descriptor(against) is None:
        return None
    return read_named(Path(against), "name a list with --against FILE", LARGEST_LIST)


def _check_bag(app: App, request: VerifyRequest, *, json_: bool) -> None:
    """A dataset that is stored as a bag is checked as one, and then the command is over."""
    from yatagan.operations.bagging import bag_asked_for  # which other verdicts can do without

    bag = bag_asked_for(app, request)
    if bag is not None:
        from yatagan.cli.commands.bag import check_place

        raise click.exceptions.Exit(check_place(app, bag, json_=json_))
