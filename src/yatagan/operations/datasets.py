"""Datasets of a project as requests, and what is on record of them."""

from __future__ import annotations

import os
import posixpath
from dataclasses import fields

from yatagan.batches.journal_data import Purpose
from yatagan.config.project import By, Dataset, Project, Towards
from yatagan.desk.desk import Desk
from yatagan.ledger.tree_history import history_of_dataset
from yatagan.operations.stage_request import DatasetStageRequest, StageOptions, StageRequest
from yatagan.places import Place
from yatagan.planning.gone import OnRecordBefore
from yatagan.planning.stored_bundles import BUNDLED
from yatagan.trees.patterns import Choice


def choice_of(dataset: Dataset) -> Choice:
    """What the patterns of a dataset choose."""
    return Choice(map(os.fsencode, dataset.only), map(os.fsencode, dataset.skip))


def stage_of_dataset(desk: Desk, project: Project, request: DatasetStageRequest) -> StageRequest:
    """What is asked for when a dataset is staged: its root here and its root there are the same.

    Raises BadStage, BadProject, NotAccepted.
    """
    dataset = project.dataset(request.dataset)
    way = request.towards or dataset.towards
    here, there = Place("", dataset.here), dataset.there
    source, target = (here, there) if way is Towards.THERE else (there, here)
    options = {each.name: getattr(request, each.name) for each in fields(StageOptions)}
    if dataset.by is By.DIGEST:
        options["by"] = dataset.by
    return StageRequest(
        (source,),
        Place(target.node, posixpath.dirname(target.path)),
        name=target.name,
        choice=choice_of(dataset),
        stored=dataset.stored if dataset.stored in BUNDLED and way is Towards.THERE else None,
        purpose=Purpose(project.name, dataset.name, way.value, desk.project_ledger()),
        **options,
    )


def on_record(desk: Desk, purpose: Purpose) -> OnRecordBefore:
    """What is on record of a dataset that is staged the way of its use, of what its patterns choose."""
    project = desk.project()
    dataset = project.dataset(purpose.dataset)
    if purpose.restores or purpose.towards != dataset.towards.value:
        return OnRecordBefore()
    history = history_of_dataset(desk.ledger(), project.name, dataset.name).chosen(choice_of(dataset).chooses)
    if history.newest is None:
        return OnRecordBefore()
    entries = dict.fromkeys(history.versions) | history.entries
    return OnRecordBefore(entries, history.newest.recorded_at, str(history.newest.fields.get("from_disk", "")))
