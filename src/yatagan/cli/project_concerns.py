"""What is strange about a project, asked about once and then gone by."""

from __future__ import annotations

from yatagan.cli import text
from yatagan.cli.login_questions import confirm
from yatagan.config.accepted import Accepted
from yatagan.config.guarded_files import account_name
from yatagan.config.project import Concern, Project
from yatagan.errors import Refused


def settle(project: Project, accepted: Accepted, *, questions: bool) -> None:
    """Ask about what was not accepted yet. Raises Refused where it is not accepted, or it cannot be asked about."""
    open_ = [concern for concern in project.concerns if concern.key not in accepted]
    if not open_:
        return
    words = [words_of(concern) for concern in open_]
    if not (questions and confirm(f"{'. '.join(words)}. Go by it?")):
        raise Refused("; ".join(words), f"look at it; then go by it: {text.command('project', 'accept')}")
    accepted.add(concern.key for concern in open_)


def words_of(concern: Concern) -> str:
    """A concern in words."""
    if concern.owner is not None:
        return f"{text.show(concern.file)} belongs to another account, {text.show(account_name(concern.owner))}"
    if concern.writable:
        return f"what is in {text.show(concern.file)} can be changed by {text.show(concern.writable)}"
    return f"{text.show(concern.file)} leads out of the project: {text.show(', '.join(concern.paths))}"
