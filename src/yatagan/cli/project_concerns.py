"""What is strange about a project, asked about once and then gone by."""

from __future__ import annotations

import pwd

from yatagan.cli import text
from yatagan.cli.area import meaning
from yatagan.cli.context import App
from yatagan.cli.login_questions import confirm
from yatagan.config.accepted import Accepted
from yatagan.config.areas import area_of
from yatagan.config.project import Concern, Dataset, Project, Use
from yatagan.errors import Refused


def settle(app: App, project: Project) -> None:
    """Ask about what was not accepted yet. Raises Refused where it is not accepted, or it cannot be asked about."""
    accepted = Accepted(app.home.accepted)
    open_ = [concern for concern in project.concerns if concern.key not in accepted]
    if not open_:
        return
    words = [words_of(concern) for concern in open_]
    if not (app.questions and confirm(f"{'. '.join(words)}. Go by it?")):
        raise Refused("; ".join(words), f"look at it; then go by it: {text.command('project', 'accept')}")
    accepted.add(concern.key for concern in open_)


def settle_area(app: App, project: Project, dataset: Dataset) -> None:
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
    if not app.questions:
        text.warn(words)
    elif confirm(f"{words}. Leave them there?"):
        accepted.add([key])
    else:
        raise Refused(words, f"name another place for {dataset.name} in {text.show(str(project.file))}")


def words_of(concern: Concern) -> str:
    """A concern in words."""
    if concern.owner is not None:
        return f"{text.show(concern.file)} belongs to another account, {_account(concern.owner)}"
    return f"{text.show(concern.file)} leads out of the project: {text.show(', '.join(concern.paths))}"


def _account(number: int) -> str:
    try:
        return text.show(pwd.getpwuid(number).pw_name)
    except KeyError:
        return f"number {number}"
