"""A plan in words, and for scripts."""

from __future__ import annotations

import itertools
import posixpath
from collections.abc import Iterator

from yatagan.batches.steps import Modes
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.caution_words import words_of
from yatagan.cli.words.earlier_words import earlier_words
from yatagan.cli.words.fault_words import fault
from yatagan.cli.words.proof_words import no_sync, proof
from yatagan.operations.stage import PlannedStage
from yatagan.operations.stage_request import StageRequest
from yatagan.operations.stage_sources import StageSources
from yatagan.places import KEPT_DIRECTORY
from yatagan.planning.plan import Plan
from yatagan.stores.interface import Store
from yatagan.trees.compare import Verdict

#: Files that are still being written, named before the rest is only counted.
_UNSETTLED_SHOWN = 3
#: Files that are newer there, named one by one before the rest is only counted.
_NEWER_SHOWN = 8


def show_plan(planned: PlannedStage) -> None:
    """Show the plan in a few lines, warnings first."""
    plan, cautions = planned.plan, [words_of(caution) for caution in planned.cautions]
    site = planned.header.modes is Modes.SITE
    terminal.say(terminal.style(_title(planned.sources, planned.request), bold=True))
    for caution in cautions:
        if caution.first:
            text.urgent(caution.text)
    for words in (*_newer(plan), *_losses(plan)):
        text.urgent(words)
    text.facts(
        [
            ("renamed", _renamed(planned.sources)),
            *_what_moves(planned),
            *_what_does_not(plan),
            *_how_it_moves(planned),
            ("modes", "as the site makes them; only the execute bit is the source's" if site else ""),
            *((caution.label, caution.text) for caution in cautions if not caution.first),
        ]
    )


def _what_moves(planned: PlannedStage) -> list[tuple[str, str]]:
    """The rows for what is carried and what becomes of what is there."""
    request, plan, counts = planned.request, planned.plan, planned.plan.summary
    kept = text.place(request.destination.node, posixpath.join(request.destination.path, KEPT_DIRECTORY))
    skipped = f"{text.count(counts.skipped, 'entry', 'entries')} left out by patterns"
    replaced = f"{text.count(counts.replaced, 'file')}; what was there is kept in {kept}"
    return [
        ("by way of", _way(request)),
        ("carry", _carried(plan)),
        ("begun", earlier_words(planned.earlier) if planned.earlier is not None else ""),
        ("together", _travel(plan)),
        ("stored as", _storing(plan)),
        ("as files", _as_files(plan)),
        ("hides", _hidden(plan)),
        ("left as is", _left(plan, request.by_digest)),
        ("skipped", skipped if counts.skipped else ""),
        ("for later", _unsettled(plan)),
        ("replace", replaced if counts.replaced else ""),
        ("in part", _in_part(plan)),
        ("set", _facts_set(plan)),
        ("growing", _growing(planned)),
    ]


def _what_does_not(plan: Plan) -> list[tuple[str, str]]:
    """The rows for what cannot be carried."""
    count = plan.summary.not_carried
    return [
        ("not carried", f"{text.count(count, 'entry', 'entries')}: {_specials(plan)}" if count else ""),
        ("not kept", _unkept(plan)),
        ("in the way", _in_the_way(plan)),
        ("name clash", _clashes(plan)),
        ("unreadable", _unread(plan)),
    ]


def _how_it_moves(planned: PlannedStage) -> list[tuple[str, str]]:
    """The rows for space, rate and proof."""
    request, plan, files = planned.request, planned.plan, planned.plan.summary.files
    source, destination = planned.source, planned.destination
    return [
        ("space", _space(plan, request.destination.node) if plan.summary.anything else ""),
        ("takes", _takes(plan)),
        ("at most", _rate(request, source, destination) if files else ""),
        ("proof", proof(planned.header.promised, request.prove, source, destination) if files else ""),
        ("no sync", no_sync(request.prove, destination) if files else ""),
    ]


def _takes(plan: Plan) -> str:
    """The row for how long it should take."""
    found = plan.expectation
    if found is None:
        return ""
    guess = "" if found.known else ", a guess: nothing is known of the connection yet"
    return f"about {text.about(found.seconds)}{guess}"


def _unsettled(plan: Plan) -> str:
    """The row for files that are still being written."""
    if not (many := len(plan.unsettled)):
        return ""
    names = ", ".join(text.show(name) for name in plan.unsettled[:_UNSETTLED_SHOWN])
    more = f" and {text.number(many - _UNSETTLED_SHOWN)} more" if many > _UNSETTLED_SHOWN else ""
    return f"{text.count(many, 'file is', 'files are')} still being written: {names}{more}"


def _renamed(sources: StageSources) -> str:
    """The row for new names."""
    pairs = zip(sources.originals, sources.pairs, strict=True)
    found = [f"{text.show(old)} → {text.show(new)}" for old, (_, new) in pairs if old != new]
    return ", ".join(found[:2]) + (f" and {len(found) - 2} more" if len(found) > 2 else "")


def _way(request: StageRequest) -> str:
    """The row for bytes that pass through this machine."""
    if not (request.source_node and request.destination.node):
        return ""
    twice = "; both ends are the same node" if request.source_node == request.destination.node else ""
    return f"this machine; nothing is written to its disk{twice}"


def _title(sources: StageSources, request: StageRequest) -> str:
    """What goes where: `Plan: fen to heron:campaign`; with its new name, if one source alone gets one."""
    into = request.destination.path or (b"" if request.destination.node else b".")
    names = [name for _, name in sources.pairs]
    old = posixpath.basename(sources.pairs[0][0])
    if len(names) == 1 and old not in (b"", b".", b"..", names[0]):
        names, into = [old], posixpath.join(into, names[0])
    shown = ", ".join(map(text.show, names[:3])) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
    origin = f" from {request.source_node}" if request.source_node else ""
    return f"Plan: {shown}{origin} to {text.place(request.destination.node, into)}"


def _carried(plan: Plan) -> str:
    counts = plan.summary
    if not (counts.files or counts.directories or counts.above or counts.links):
        return "nothing"
    parts = [f"{text.count(counts.files, 'file')}, {text.size(counts.size)}"]
    if counts.directories or counts.above:
        parts.append(text.directories(counts.directories, counts.above, "new "))
    if counts.links:
        parts.append(text.count(counts.links, "link"))
    return "; ".join(parts)


def _travel(plan: Plan) -> str:
    """The row for small files that travel in bundles, and what that saves."""
    if plan.travel is None:
        return ""
    found = plan.travel
    saved = found.alone - found.together
    saves = f", saves about {text.about(saved)}" if found.pays and saved >= 1 else ""
    bundles = text.count(found.bundles, "bundle")
    return f"{text.count(found.files, 'small file')} travel in {bundles}, unpacked on arrival{saves}"


def _storing(plan: Plan) -> str:
    """The row for directories that are stored as bundles."""
    found = []
    for storing in (each for arrival in plan.arrivals for each in arrival.storing):
        name = text.show(posixpath.basename(storing.bundle))
        if storing.present is None:
            found.append(f"{name} ({text.count(storing.files, 'file')})")
        else:
            changed = text.count(storing.changed, "entry", "entries")
            found.append(f"{name}, rebuilt for {changed} of {text.number(len(storing.differences))}")
    many = f"{text.number(len(found))} bundles: " if len(found) > 1 else "a bundle: "
    return many + ", ".join(found[:3]) + (" …" if len(found) > 3 else "") if found else ""


def _as_files(plan: Plan) -> str:
    """The row for directories that were to become bundles but are there as files."""
    found = [
        text.show(posixpath.join(arrival.name, path) if path else arrival.name)
        for arrival in plan.arrivals
        for path in arrival.as_files
    ]
    shown = ", ".join(found[:3]) + (" …" if len(found) > 3 else "")
    return f"{shown}: there already as a directory, and kept so" if found else ""


def _hidden(plan: Plan) -> str:
    """The row for stored bundles that are hidden once there is a directory."""
    found = [text.show(posixpath.basename(arrival.hidden)) for arrival in plan.arrivals if arrival.hidden]
    return f"{', '.join(found)}: stored there, and not seen any more once there are files" if found else ""


def _newer(plan: Plan) -> Iterator[str]:
    """The row for files that stay because they are newer at the destination."""
    many = plan.summary.newer
    if not many:
        return
    yield (
        f"{text.count(many, 'file stays as it is', 'files stay as they are')}: newer at the destination, or changed "
        "there since the last stage (--if-newer-there replace brings yours, and keeps what was there):"
    )
    newer = ((arrival, each) for arrival in plan.arrivals for each in arrival.differences.of(Verdict.NEWER_THERE))
    for arrival, each in itertools.islice(newer, _NEWER_SHOWN):
        label = posixpath.join(arrival.name, each.path) if each.path else arrival.name
        there = text.moment(each.other.mtime_ns) if each.other is not None else "?"
        yield f"  {text.show(label)}  there {there}, to come {text.moment(each.facts.mtime_ns)}"
    if many > _NEWER_SHOWN:
        yield f"  and {text.number(many - _NEWER_SHOWN)} more"


def _losses(plan: Plan) -> Iterator[str]:
    """The row for bundles that will hold less than now."""
    for storing in (each for arrival in plan.arrivals for each in arrival.storing):
        if storing.gone:
            yield (
                f"{text.show(posixpath.basename(storing.bundle))} holds "
                f"{text.count(storing.gone, 'entry', 'entries')} that the source has no more: "
                "the new one will be without, and the old one is kept"
            )


def _left(plan: Plan, by_digest: bool) -> str:
    counts = plan.summary
    if not counts.left:
        return ""
    left = f"{text.count(counts.left, 'file')}, {text.size(counts.left_size)}, already there"
    if by_digest:
        remembered = f", {text.number(counts.remembered)} of them remembered" if counts.remembered else ""
        return f"{left} by digest{remembered}"
    looked = f", {text.number(counts.looked_into)} of them too new for that and by digest" if counts.looked_into else ""
    measure = text.size_and_time(max((arrival.step_ns for arrival in plan.arrivals), default=1))
    return f"{left} by {measure}{looked}"


def _facts_set(plan: Plan) -> str:
    """The row for what is there with other modes or times."""
    counts = plan.summary
    files, directories = counts.facts_of_files, counts.facts_of_directories
    parts = [text.count(files, "file")] * bool(files)
    parts += [text.count(directories, "directory", "directories")] * bool(directories)
    return f"modes and times of {' and '.join(parts)}; their contents stay" if parts else ""


def _in_part(plan: Plan) -> str:
    """The row for files of which only changed parts are sent."""
    counts = plan.summary
    if not counts.in_part:
        return ""
    many = f"{text.number(counts.in_part)} of them, {text.size(counts.in_part_size)}"
    return f"{many}: only what differs is sent, where that is less"


def _growing(planned: PlannedStage) -> str:
    """The row for files that only grow."""
    counts, promised = planned.plan.summary, planned.header.promised
    if not counts.growing:
        return ""
    many = f"{text.count(counts.growing, 'file')}, {text.size(counts.growing_size)}, as far as now"
    if not counts.growing_there:
        return many
    if promised is None or not promised.is_proof:
        return f"{many}; without a proof all of it is sent, and what was there is kept (try --prove read-back)"
    return f"{many}; only the last {text.size(counts.growing_size - counts.growing_there)} are sent"


def _specials(plan: Plan) -> str:
    if not plan.summary.not_carried:
        return ""
    found = [
        f"{text.show(difference.path)} (a {difference.facts.kind.value})"
        for arrival in plan.arrivals
        for difference in arrival.differences
        if not difference.facts.kind.carried
    ]
    return ", ".join(found[:3]) + (" …" if len(found) > 3 else "")


def _unkept(plan: Plan) -> str:
    """The row for what files and directories will lose."""
    found = plan.unkept
    if found is None:
        return ""
    counts = [
        (plan.set_ids(), "the set-id bits of {}", ("file", "files")),
        (found.names, "the further names (hard links) of {}: each arrives as a file of its own", ("file", "files")),
        (found.lists, "the access lists of {}", ("entry", "entries")),
        (found.attributes, "the extended attributes of {}", ("entry", "entries")),
    ]
    least = "" if found.all else "at least "
    parts = [words.format(least + text.count(many, *noun)) for many, words, noun in counts if many]
    return "; ".join(parts) + ". A bundle keeps none of that either" if parts else ""


def _in_the_way(plan: Plan) -> str:
    found = [
        text.show(difference.path or arrival.name)
        for arrival in plan.arrivals
        for difference in arrival.differences.of(Verdict.IN_THE_WAY)
        if difference.facts.kind.carried
    ]
    return ", ".join(found[:3]) + (" …" if len(found) > 3 else "")


def _clashes(plan: Plan) -> str:
    """The row for names that clash."""
    found = [
        f"{text.show(path or arrival.name)} and {text.show(other)}"
        for arrival in plan.arrivals
        for path, other in arrival.clashes.items()
    ]
    if not found:
        return ""
    shown = ", ".join(found[:3]) + (" …" if len(found) > 3 else "")
    below = plan.summary.clashes - len(found)
    more = f", and {text.count(below, 'entry', 'entries')} below such directories" if below > 0 else ""
    return (
        f"the disk there ignores case, and each pair would be one name: {shown}{more}; the first of each is not carried"
    )


def _unread(plan: Plan) -> str:
    found = [
        f"{text.show(path or arrival.name)} ({fault(why)})"
        for arrival in plan.arrivals
        for path, why in sorted(arrival.tree.unread.items())
    ]
    found += [
        f"{text.show(path)} (a name that no directory can hold)"
        for arrival in plan.arrivals
        for path in arrival.tree.dropped_names
    ]
    return ", ".join(found[:3]) + (" …" if len(found) > 3 else "")


def _space(plan: Plan, node: str) -> str:
    if plan.free is None:
        return f"{node or 'the disk'} does not tell"
    enough = (
        "" if plan.free > plan.summary.size - plan.safe else text.tinted(", which is not enough", text.Tone.TROUBLE)
    )
    return f"{text.size(plan.free)} free on {node or 'this machine'}{enough}"


def _rate(request: StageRequest, source: Store, destination: Store) -> str:
    """The row for the rate limit, and who set it."""
    caps = [(request.max_rate, "--max-rate")]
    caps += [(store.max_rate or 0, f"the entry of {store.name}") for store in (source, destination)]
    rate, who = min((cap for cap in caps if cap[0]), default=(0, ""))
    return f"{text.size(rate)}/s, as {who} says" if rate else ""
