"""`yatagan report`: what was staged and verified, how it is known, and how it went, as a page with figures."""

from __future__ import annotations

import os
import platform
import time
from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path
from typing import TypeVar

import click

from yatagan.batches.batch_store import Batches
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.commands.ledger import moment
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.dataset_words import since_words
from yatagan.cli.words.fault_words import fault
from yatagan.config.own_files import replace_file
from yatagan.config.project import Project
from yatagan.errors import BadPlace, NoProject, NotAccepted, Refused
from yatagan.ledger.memory import user
from yatagan.ledger.records import Record
from yatagan.operations.dataset_states import DatasetState, look_at_datasets
from yatagan.places import name_fields
from yatagan.reports.drawings import figures_of
from yatagan.reports.figures import NAMES, DatasetLine, FigureSpec, as_file
from yatagan.reports.gathering import Chosen, Gathered, gather, gather_batches
from yatagan.reports.numbers import numbers_of
from yatagan.reports.page import PageFacts, render
from yatagan.reports.verdict import CHANGED, DatasetRow, Level
from yatagan.stores.connection_history import recall
from yatagan.version import __version__

T = TypeVar("T")
_FORMS = ("png", "svg", "pdf")


@click.command(
    "report",
    epilog="""\b
Examples:
  yatagan report --project --output campaign.html
  yatagan report --dataset chambers --output chambers.html --data numbers
  yatagan report k7qd --figure rate.png
  yatagan report --since 2026-09-01 --output autumn.html""",
)
@click.argument("batches", nargs=-1, metavar="[BATCH]...", shell_complete=shell_completion.batches)
@click.option(
    "--dataset",
    metavar="NAME",
    shell_complete=shell_completion.datasets,
    help="Report what is on record of one dataset of the project.",
)
@click.option("--project", "of_project", is_flag=True, help="Report what is on record of the whole project.")
@click.option(
    "--since", metavar="WHEN", callback=moment(end=False), help="Only what is from then on: 2026-11-27, or 7d."
)
@click.option("--output", metavar="FILE", help="Write the page there: one HTML file with everything in it.")
@click.option(
    "--figure",
    metavar="FILE",
    help=f"Write one figure alone, named {', '.join(NAMES[:-1])} or {NAMES[-1]}: rate.png, rate.svg or rate.pdf.",
)
@click.option("--data", metavar="DIRECTORY", help="Write the numbers behind the figures there, as CSV.")
@click.option("--replace", is_flag=True, help="Replace files that are there already.")
@no_questions
@as_json
def report_command(
    batches: tuple[str, ...],
    dataset: str | None,
    of_project: bool,
    since: datetime | None,
    output: str | None,
    figure: str | None,
    data: str | None,
    replace: bool,
    no_questions: bool,
    json_: bool,
) -> None:
    """Report what was staged and verified, how that is known, and how it went.

    Of some BATCHes, a dataset, the project, or all that is on record; without a choice the project, if there is one.
    The page needs no network and no script, and says how a colleague can check it without Yatagan.
    """
    if sum((bool(batches), dataset is not None, of_project)) > 1:
        raise click.UsageError("name batches, or --dataset, or --project", click.get_current_context())
    if not (output or figure or data):
        raise click.UsageError("say what to write: --output, --figure or --data", click.get_current_context())
    app = App.start(questions=not no_questions)
    wanted = _figure_name(figure)
    gathered = _gather(app, batches, dataset, since, of_project=of_project)
    specs = figures_of(gathered.found, gathered.lines, _best_rate(app, gathered.found))
    files: dict[Path, bytes] = {}
    if output:
        files[Path(output)] = _page(gathered, specs).encode("utf-8")
    if figure is not None and wanted is not None:
        spec = next((each for each in specs if each.name == wanted[0]), None)
        if spec is None:
            raise BadPlace(figure, "there are no numbers for this figure", "see which there are: --data DIRECTORY")
        files[Path(figure)] = _with_library(lambda: as_file(spec, wanted[1]))
    if data:
        for name, content in numbers_of(gathered.found, specs).items():
            files[Path(data, name)] = content.encode("utf-8")
    _write(files, replace=replace)
    _tell(files, gathered, json_=json_)


class _Chosen:
    """What was chosen, gathered, and what the page says of it."""

    def __init__(self, found: Gathered, title: str, about: str, states: Sequence[DatasetState] = ()) -> None:
        self.found = found
        self.title = title
        self.about = about
        self.states = states

    @property
    def lines(self) -> list[DatasetLine]:
        """The datasets along time."""
        names = {each.dataset.name: each for each in self.states}
        marks: dict[str, list[tuple[str, str]]] = {name: [] for name in names}
        for staging in self.found.stagings:
            if staging.dataset:
                marks.setdefault(staging.dataset, []).append((staging.at, "staged" if staging.good else "trouble"))
        for each in self.found.verifications:
            if each.dataset:
                marks.setdefault(each.dataset, []).append((each.at, "verified" if each.good else "trouble"))
        return [
            DatasetLine(text.show(name), tuple(sorted(found)), _changed(names.get(name)))
            for name, found in marks.items()
        ]

    @property
    def rows(self) -> list[DatasetRow]:
        """The datasets as they stand."""
        return [_row(state) for state in self.states]


def _changed(state: DatasetState | None) -> str | None:
    """What has changed here; "" for nothing, None where that was not looked at."""
    if state is None or state.here is None:
        return None
    return "" if state.here.nothing else since_words(state.here)


def _row(state: DatasetState) -> DatasetRow:
    staged, verified = state.staged, state.verified
    evidence = verified if verified is not None else staged
    known = evidence.fields.get("evidence", {}) if evidence is not None else {}
    return DatasetRow(
        text.show(state.dataset.name),
        _when(staged),
        staged.count("files") if staged is not None else None,
        staged.size if staged is not None else None,
        _when(verified),
        ", ".join(text.show(str(each)) for each in known) if isinstance(known, dict) else "",
        since_words(state.here) if state.here is not None else "",
        *_wanting(state),
    )


def _wanting(state: DatasetState) -> tuple[str, Level]:
    """What is not good about a dataset, and how bad that is."""
    if state.staged is None:
        return "not staged", Level.WARNING
    if state.staged.outcome != "good":
        return "not wholly staged", Level.TROUBLE
    if state.emptied:
        return "gone", Level.TROUBLE
    if state.not_good:
        return "not as on record", Level.TROUBLE
    return ("", Level.GOOD) if state.settled else (CHANGED, Level.WARNING)


def _when(record: Record | None) -> str:
    """When it was, and with which outcome."""
    if record is None:
        return "never"
    when = f"{record.recorded_at[:16].replace('T', ' ')} UTC"
    return when if record.outcome == "good" else f"{when}, {text.show(record.outcome)}"


def _gather(
    app: App, batches: tuple[str, ...], dataset: str | None, since: datetime | None, *, of_project: bool
) -> _Chosen:
    ledger, store = app.ledger_to_read(), Batches(app.home.batches)
    if batches:
        chosen = [store.find(name) for name in dict.fromkeys(batches)]
        found = gather_batches(ledger, chosen, fault)
        names = ", ".join(batch.name for batch in chosen)
        return _Chosen(
            found,
            f"Batch {names}" if len(chosen) == 1 else f"{len(chosen)} batches",
            f"Of batch {names}" if len(chosen) == 1 else f"Of {names}",
        )
    project = _project(app, wanted=of_project or dataset is not None)
    begin = since.astimezone().strftime("%Y-%m-%dT%H:%M:%S") if since is not None else ""
    period = f" since {since:%Y-%m-%d}" if since is not None else ""
    if project is None:
        found = gather(ledger, store, fault, Chosen(since=begin))
        return _Chosen(found, "What was staged and verified", f"All that is on record{period}")
    name = project.dataset(dataset).name if dataset is not None else None

    states = [each for each in run(look_at_datasets(app, project, there=False)) if name in (None, each.dataset.name)]
    shown = text.show(project.name)
    about = f"Dataset {text.show(name)} of project {shown}{period}" if name else f"Project {shown}{period}"
    title = f"{shown}: {text.show(name)}" if name else f"{shown}: what was staged and verified"
    return _Chosen(gather(ledger, store, fault, Chosen(project.name, name or "", begin)), title, about, states)


def _project(app: App, *, wanted: bool) -> Project | None:
    """The project; None where there is none and none was asked for. Raises NoProject, NotAccepted, BadProject."""
    try:
        return app.project()
    except (NoProject, NotAccepted):
        if wanted:
            raise
        return None


def _best_rate(app: App, found: Gathered) -> float | None:
    """The best rate so far of the connection that the figure of the rate is about."""
    nodes = {place.partition(":")[0] for each in found.stagings for place in (each.source, each.target) if ":" in place}
    rates = [recall(app.home, node).rate for node in nodes if node in app.nodes()]
    return max(rates, default=0.0) or None


def _figure_name(figure: str | None) -> tuple[str, str] | None:
    """Which figure a file's name asks for, and in which form. Raises UsageError."""
    if figure is None:
        return None
    name, _, form = os.path.basename(figure).rpartition(".")
    if name not in NAMES or form not in _FORMS:
        why = f"{text.show(figure)} names no figure: there are {', '.join(NAMES)}, each as {', '.join(_FORMS)}"
        raise click.UsageError(why, click.get_current_context())
    return name, form


def _page(gathered: _Chosen, specs: Sequence[FigureSpec]) -> str:
    made_at = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
    facts = PageFacts(gathered.title, gathered.about, f"{user()}@{platform.node()}", made_at, __version__)
    return _with_library(lambda: render(facts, gathered.found, gathered.rows, specs))


def _with_library(make: Callable[[], T]) -> T:
    """What needs the libraries for reports. Raises Refused where they are not installed."""
    try:
        return make()
    except ModuleNotFoundError as error:
        why = f"a report needs {text.show(str(error.name))}, which is not installed"
        remedy = "install it: pip install 'yatagan[report]'; without it: yatagan batch show --rate-over-time"
        raise Refused(why, remedy) from error


def _write(files: dict[Path, bytes], *, replace: bool) -> None:
    """Write files, each whole. Raises BadPlace for one that is there."""
    for file in files:
        if os.path.lexists(file) and not replace:
            raise BadPlace(str(file), "it is there already", "name another, or add --replace")
    for file, content in files.items():
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            replace_file(file, content, durable=False)
            file.chmod(0o666 & ~_umask())
        except (OSError, ValueError) as error:
            why = error.strerror if isinstance(error, OSError) else error
            raise BadPlace(str(file), f"cannot be written: {why}") from error


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _tell(files: dict[Path, bytes], gathered: _Chosen, *, json_: bool) -> None:
    found = gathered.found
    if json_:
        written = [name_fields(os.fsencode(os.path.abspath(file))) for file in files]
        say_json({"written": written, "batches": len(found.stagings), "verifications": len(found.verifications)})
        return
    for file, content in files.items():
        terminal.say(terminal.style(f"Wrote {text.show(str(file))}", bold=True) + f", {text.size(len(content))}")
    what = [text.count(len(found.stagings), "batch", "batches"), text.count(len(found.verifications), "verdict")]
    terminal.say(f"  {gathered.about}: " + ("nothing is on record of it" if found.nothing else ", ".join(what)))
