"""Staging what the project declares: each dataset the way of its use, one after the other."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.commands.staging import How, stage
from yatagan.cli.context import App, fail, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.login_questions import confirm
from yatagan.cli.views.report import Report, say_event
from yatagan.cli.words.area_words import meaning
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.messages import explain
from yatagan.config.accepted import Accepted
from yatagan.config.areas import area_of
from yatagan.config.project import Dataset, Project, Towards, Use
from yatagan.errors import Refused, YataganError
from yatagan.operations.datasets import stage_of_dataset
from yatagan.operations.stage_request import DatasetStageRequest


def stage_datasets(app: App, requests: Sequence[DatasetStageRequest], how: How) -> int:
    """Stage datasets, each the way of its use, one after the other. Returns the worst exit status.

    The answer has one object for each when there are several. One that cannot be staged is said, and does
    not keep the others from being staged; a stop does.
    """
    project = app.project()
    chosen = [(project.dataset(request.dataset), request) for request in requests]
    answers: list[dict[str, Any]] = []
    several, worst = len(chosen) > 1, 0
    for dataset, request in chosen:
        way = request.towards or dataset.towards
        _begin(dataset, way, how.report)
        named = {"dataset": dataset.name, "towards": way.value}
        each = replace(how, answer=_gather(answers, named))
        try:
            _settle_area(app, project, dataset)
            status = run(stage(app, stage_of_dataset(app, project, request), each))
        except YataganError as error:
            if not several:
                raise
            known = explain(error)
            answers.append({**named, "error": {"kind": known.kind, "message": known.message}})
            status = fail(known, json_=False, lines=how.report is Report.JSON_LINES)
        worst = max(worst, status)
        if status == ExitStatus.INTERRUPTED:
            break
    if how.report is Report.JSON:
        say_json({"datasets": answers} if several else answers[0])
    return worst


def _gather(answers: list[dict[str, Any]], named: dict[str, Any]) -> Callable[[dict[str, Any]], None]:
    """Takes the answer about a dataset."""
    return lambda answer: answers.append({**named, **answer})


def _begin(dataset: Dataset, way: Towards, report: Report) -> None:
    """Say which dataset comes next."""
    if report is Report.JSON_LINES:
        say_event("dataset", {"dataset": dataset.name, "towards": way.value})
    elif report.in_words:
        arrow = "here → there" if way is Towards.THERE else "there → here"
        terminal.say(terminal.style(f"Dataset {dataset.name}", bold=True) + f", {dataset.use.value}: {arrow}")


def _settle_area(app: App, project: Project, dataset: Dataset) -> None:
    """Ask, once, about results that stay where nothing backs them up. Without a terminal it is said.

    Raises Refused where the answer is no.
    """
    if dataset.use is not Use.RESULT:
        return
    node = app.nodes().get(dataset.there.node)
    area = area_of(node.areas, dataset.there.path)
    if area is None or not (area.backed_up is False or area.purged_after is not None):
        return
    accepted, key = Accepted(app.home.accepted), f"area {project.root} {dataset.name} {node.name} {area.name}"
    if key in accepted:
        return
    better = [each for each in node.areas if each.backed_up and each.purged_after is None and not each.read_only]
    words = f"the results of {dataset.name} stay in {node.name}:@{area.name}, which is {meaning(area)}"
    if better:
        words += f"; {node.name}:@{better[0].name} is backed up"
    if not app.questions.attended:
        text.warn(words)
    elif confirm(f"{words}. Leave them there?"):
        accepted.add([key])
    else:
        raise Refused(words, f"name another place for {dataset.name} in {text.show(str(project.file))}")
