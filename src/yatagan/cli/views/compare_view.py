"""Two places side by side, in words and for scripts."""

from __future__ import annotations

import itertools
import sys
from collections.abc import Iterable, Iterator

from yatagan.cli.terminal import terminal, text
from yatagan.cli.views.strip_view import Look, is_plain
from yatagan.cli.views.verdict_view import ORIGINS
from yatagan.cli.words import fault_words
from yatagan.operations.compare_places import Sides
from yatagan.stores.interface import Facts, Kind
from yatagan.verdicts.comparison import Aspect, Compared, Comparison, Outcome, TreeTotals
from yatagan.verdicts.groups import Group, grouped

#: Lines of each outcome, before the rest is only counted.
_SHOWN = 10
_STRIP = 60
#: How outcomes look in the strip; their names depend on the places.
_LOOKS = {
    Outcome.SAME: Look("█", "#", text.Tone.GOOD, "same"),
    Outcome.FACTS_DIFFER: Look("▓", "+", text.Tone.WARNING, "facts differ"),
    Outcome.MOVED: Look("▒", "=", 31, "moved"),
    Outcome.DIFFERENT: Look("×", "x", text.Tone.TROUBLE, "different"),
    Outcome.UNREADABLE: Look("?", "?", text.Tone.TROUBLE, "unreadable"),
    Outcome.ONLY_FIRST: Look("◂", "<", 31, ""),
    Outcome.ONLY_SECOND: Look("▸", ">", 31, ""),
}
_PLURALS = {Kind.FILE: ("file", "files"), Kind.DIRECTORY: ("directory", "directories"), Kind.LINK: ("link", "links")}


def _names(sides: Sides) -> tuple[str, str]:
    """What each side is called: here and there, by its node, or by its order."""
    first, second = (place.node for place in sides.places)
    if bool(first) is not bool(second):
        return ("there", "here") if first else ("here", "there")
    return (f"on {first}", f"on {second}") if first != second else ("in the first", "in the second")


def _outcome(sides: Sides, outcome: Outcome) -> str:
    """An outcome in words."""
    match outcome:
        case Outcome.ONLY_FIRST:
            return f"only {_names(sides)[0]}"
        case Outcome.ONLY_SECOND:
            return f"only {_names(sides)[1]}"
        case _:
            return outcome.value


def show_comparison(comparison: Comparison, sides: Sides, *, one_by_one: bool) -> None:
    """Show the verdict, both sides, how it is known, and what differs: directories that are wholly one thing as one."""
    spelled = [text.place(place.node, place.path or b".") for place in sides.places]
    terminal.say(terminal.style(f"{spelled[0]} and {spelled[1]}: ", bold=True) + _verdict(comparison))
    _show_strip(comparison, sides)
    text.facts(
        [
            *_sides(comparison, sides),
            *(
                (_outcome(sides, outcome), _count(comparison, outcome))
                for outcome in Outcome
                if comparison.counts[outcome]
            ),
            ("how", _how(comparison, sides)),
        ]
    )
    for tree, name in ((comparison.first, spelled[0]), (comparison.second, spelled[1])):
        if tree.dropped:
            text.warn(f"{name}: {text.count(tree.dropped, 'name')} left out that no directory can hold")
    if one_by_one:
        for entry in comparison.entries:
            _say(comparison, sides, Group(entry.path, entry, 1, 0, 0, entry.new_path))
        return
    for outcome, groups in _by_outcome(grouped(comparison)):
        for group in groups[:_SHOWN]:
            _say(comparison, sides, group)
        if len(groups) > _SHOWN:
            more = text.number(sum(group.entries for group in groups[_SHOWN:]))
            terminal.say(f"  {_outcome(sides, outcome)}: {more} more, which --all shows")


def _verdict(comparison: Comparison) -> str:
    if comparison.same:
        return text.tinted("the same" if comparison.by_digest else "the same by size and time", text.Tone.GOOD)
    if comparison.contents_same:
        contents = "the same contents" if comparison.by_digest else "the same by size and time"
        return text.tinted(contents, text.Tone.GOOD) + text.tinted(", facts differ", text.Tone.WARNING)
    return text.tinted("they differ", text.Tone.TROUBLE)


def _sides(comparison: Comparison, sides: Sides) -> Iterator[tuple[str, str]]:
    """The rows for what either side holds, and whether that agrees."""
    totals = TreeTotals.of(comparison.first), TreeTotals.of(comparison.second)
    for name, total, inside in zip(_names(sides), totals, sides.inside, strict=True):
        where = f"; in its directory {text.show(inside)}" if inside else ""
        yield name, _total(total) + where
    if totals[0] == totals[1]:
        yield "totals", "agree"
    else:
        files, size = totals[1].files - totals[0].files, totals[1].size - totals[0].size
        more = f"{text.count(abs(files), 'file')} {'fewer' if files < 0 else 'more'}" if files else ""
        bytes_more = f"{text.size(abs(size))} {'less' if size < 0 else 'more'}" if size else ""
        said = " and ".join(filter(None, (more, bytes_more)))
        yield "totals", f"differ: {said} {_names(sides)[1]}" if said else "of files agree; directories or links do not"


def _total(total: TreeTotals) -> str:
    others = [(total.directories, ("directory", "directories")), (total.links, ("link",)), (total.others, ("other",))]
    found = [text.count(total.files, "file"), text.size(total.size)]
    return ", ".join(found + [text.count(many, *noun) for many, noun in others if many])


def _count(comparison: Comparison, outcome: Outcome) -> str:
    many = text.count(comparison.counts[outcome], "entry", "entries")
    size = comparison.sizes[outcome]
    return f"{many}, {text.size(size)}" if size else many


def _how(comparison: Comparison, sides: Sides) -> str:
    """The row for the evidence."""
    if not comparison.by_digest:
        measure = text.size_and_time(comparison.step_ns)
        return f"by {measure}: a change that keeps both is not seen (--by digest reads contents)"
    first, second = (ORIGINS[origin] for origin in sides.origins)
    names = _names(sides)
    return f"by contents: {first}" if first == second else f"by contents: {names[0]} {first}, {names[1]} {second}"


def _show_strip(comparison: Comparison, sides: Sides) -> None:
    """Draw both sides as one strip, by bytes."""
    whole = sum(comparison.sizes.values())
    if not whole or not sys.stdout.isatty():
        return
    plain = is_plain(sys.stdout)
    cells = min(_STRIP, text.width() - 4)
    shown = {outcome: max(1, cells * size // whole) for outcome in _LOOKS if (size := comparison.sizes[outcome])}
    widest = max(shown, key=lambda outcome: shown[outcome])
    shown[widest] += cells - sum(shown.values())
    looks = {outcome: _LOOKS[outcome].ascii if plain else _LOOKS[outcome].shape for outcome in shown}
    strip = "".join(terminal.style(looks[each] * many, fg=_LOOKS[each].colour) for each, many in shown.items())
    terminal.say(f"  {strip}")
    terminal.say("  " + "  ".join(f"{looks[outcome]} {_outcome(sides, outcome)}" for outcome in shown))


def _by_outcome(groups: Iterable[Group]) -> Iterator[tuple[Outcome, list[Group]]]:
    """Groups by outcome, in the order of outcomes."""
    order = list(Outcome)
    found = sorted(groups, key=lambda group: order.index(group.outcome))
    for outcome, alike in itertools.groupby(found, key=lambda group: group.outcome):
        yield outcome, list(alike)


def _say(comparison: Comparison, sides: Sides, group: Group) -> None:
    """Show one entry that differs, or a directory of such."""
    outcome = group.outcome
    path = text.show(group.path or b".") + ("/" if group.is_whole and group.path else "")
    if outcome is Outcome.MOVED:
        slash = "/" if group.is_whole else ""
        path += f" → {text.show(group.new_path)}{slash}"
    if group.is_whole:
        detail = f"{text.count(group.files, 'file')}, {text.size(group.size)}"
    else:
        detail = _detail(comparison, sides, group.entry)
    wide = max(len(_outcome(sides, each)) for each in Outcome)
    tone = text.Tone.TROUBLE if outcome in (Outcome.DIFFERENT, Outcome.UNREADABLE) else text.Tone.WARNING
    head = f"  {text.tinted(_outcome(sides, outcome).ljust(wide), tone)}  {path}"
    if detail and len(terminal.plain(head)) + len(detail) + 4 <= text.width():
        terminal.say(f"{head}  ({detail})")
        return
    terminal.say(head)
    if detail:
        terminal.say(" " * (wide + 6) + detail)


def _detail(comparison: Comparison, sides: Sides, entry: Compared) -> str:
    """In what an entry differs."""
    if entry.fault is not None:
        return fault_words.fault(entry.fault)
    one, other = comparison.first.entries.get(entry.path), comparison.second.entries.get(entry.path)
    if one is None or other is None or entry.outcome is Outcome.MOVED:
        alone = one or other
        return text.size(alone.size) if alone is not None and alone.kind is Kind.FILE else ""
    parts = [_aspect(comparison, sides, entry, aspect, one, other) for aspect in entry.aspects]
    return ", ".join(parts)


def _aspect(comparison: Comparison, sides: Sides, entry: Compared, aspect: Aspect, one: Facts, other: Facts) -> str:
    first, second = _names(sides)
    match aspect:
        case Aspect.KIND:
            return f"a {one.kind.value} {first}, a {other.kind.value} {second}"
        case Aspect.SIZE:
            return f"{text.number(one.size)} B {first}, {text.number(other.size)} B {second}"
        case Aspect.CONTENTS:
            return "contents" if Aspect.TIME in entry.aspects else "contents, with the same size and time"
        case Aspect.TARGET:
            targets = comparison.first.targets.get(entry.path), comparison.second.targets.get(entry.path)
            return f"to {text.show(targets[0] or b'?')} {first}, to {text.show(targets[1] or b'?')} {second}"
        case Aspect.TIME:
            newer = first if one.mtime_ns > other.mtime_ns else second
            return f"newer {newer}"
        case Aspect.MODE:
            return f"mode {one.mode:04o} {first}, {other.mode:04o} {second}"
