"""Places that are none, in words: what is wrong with each, and how it is written."""

from __future__ import annotations

from yatagan import errors as e
from yatagan.cli.terminal.text import show
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.near_names import nearest

#: What is wrong with what was typed, {} what stands before its colon, and what to do.
_FAULTS: dict[e.PlaceFault, tuple[str, str]] = {
    e.PlaceFault.EMPTY: ("an empty name is no place", "write . for the current directory"),
    e.PlaceFault.NUL: ("a path cannot hold a NUL byte", ""),
    e.PlaceFault.NO_NODE_NAME: (
        "{} cannot be a node's name, and there is no such file here",
        "a node's name has letters, digits, - and _; a local name with a colon is written ./NAME",
    ),
    e.PlaceFault.RELATIVE: ("there is no directory that it is relative to", "give an absolute path"),
    e.PlaceFault.NOTHING_BELOW: ("it names nothing below that directory", "look at the paths in it"),
}


def explain_place(
    error: e.NoPlace | e.BadPlace | e.NodeMeant | e.NoSuchArea | e.OutOfArea,
) -> tuple[str, str, ExitStatus]:
    """What is wrong with a place, what to do, and the exit status."""
    match error:
        case e.NoPlace():
            why, remedy = _FAULTS[error.fault]
            before = repr(show(error.text.partition(":")[0]))
            what = f"{show(error.text)}: " if error.text else ""
            return f"{what}{why.format(before)}", remedy, ExitStatus.USAGE
        case e.BadPlace():
            return f"{show(error.text)}: {error.why}", error.remedy, ExitStatus.USAGE
        case e.NodeMeant():
            local = f"a local {error.name} is written ./{error.name}"
            return f"{error.name} is a node: write {error.name}:", local, ExitStatus.USAGE
        case e.NoSuchArea():
            where = f"{error.node}:@{show(error.name)}"
            return f"{where}: there is no such area", _unknown_area(error), ExitStatus.USAGE
        case e.OutOfArea():
            where = f"{error.node}:@{error.area}/{show(error.rest)}"
            return f"{where} climbs out of the area", "name the place without the area", ExitStatus.REFUSED


def _unknown_area(error: e.NoSuchArea) -> str:
    """What to do about an area's name that is not saved."""
    real = "a real name that starts with @ is written ./@…"
    if near := nearest(error.name, error.known):
        return f"did you mean {error.node}:@{near}? ({real})"
    known = ", ".join(f"@{each}" for each in error.known)
    have = f"{error.node} has {known}; " if known else f"{error.node} has none yet; "
    return f"{have}save it with: yatagan area add {error.node} NAME PATH ({real})"
