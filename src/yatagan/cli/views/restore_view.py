"""What `yatagan restore` has found, in words and for scripts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from yatagan.cli.terminal import terminal, text
from yatagan.ledger.tree_history import TreeHistory
from yatagan.planning.restoring import Copy, FoundCopies, Left, Losses

#: Names that are shown of each kind before the rest is only counted.
_SHOWN = 3


def show_findings(
    name: str, target: bytes, history: TreeHistory, losses: Losses, found: FoundCopies, trouble: Mapping[str, str]
) -> None:
    """Show what is lost, from where it would come back, what stays as it is, and what is wrong with other copies."""
    still = found.still(losses.lost)
    missing = [path for path, facts in losses.lost.items() if facts is None]
    terminal.say(terminal.style(f"Restore {name}: ", bold=True) + _verdict(losses, still))
    newest = history.newest
    rows = [
        ("in", f"{text.show(target)}, as on record of {text.ago(newest.recorded_at)}" if newest is not None else ""),
        ("missing", _kinds(missing, history)),
        ("damaged", _names(losses.damaged, "other contents, though the time is that on record")),
        ("as on record", text.count(losses.right, "file")),
        *((why.value, _names(paths, "left as it is")) for why, paths in _by_reason(losses.left)),
        ("unknown", _names(losses.unproven, "missing, and no digest of it is on record")),
        *(("from", f"{_place(copy)}: {_entries(len(paths))}") for copy, paths in found.sources.items()),
        *(("bad copy", f"{_place(copy)}: {_names(paths, 'not as on record')}") for copy, paths in _bad(found)),
        *(("not asked", f"{node}: {text.show(why)}") for node, why in trouble.items()),
        (
            "no copy",
            _names([path for path in still if path not in found.offers], "lost, and none as on record is left"),
        ),
    ]
    text.facts(rows)
    for path in [path for path in still if path in found.offers][:_SHOWN]:
        offer = found.offers[path]
        text.warn(
            f"{text.show(path)}: only an earlier version is left, of {text.ago(offer.version.record.recorded_at)}, "
            f"in {_place(offer.copy)}"
        )


def _verdict(losses: Losses, still: list[bytes]) -> str:
    """What it comes to, in words."""
    if not losses.lost:
        return text.tinted("nothing is lost", text.Tone.GOOD)
    lost = f"of {_entries(len(losses.lost))} that are lost"
    if len(losses.lost) == 1:
        lost = "of the one entry that is lost"
    if not still:
        return text.tinted("a good copy is left", text.Tone.GOOD) + f" {lost}"
    have = "has" if len(still) == 1 else "have"
    return text.tinted(f"{text.number(len(still))} {have} no good copy", text.Tone.TROUBLE) + f", {lost}"


def _place(copy: Copy) -> str:
    where = text.place(copy.place.node, copy.place.path)
    return f"{where} (kept when it was replaced)" if copy.kept else where


def _kinds(paths: Iterable[bytes], history: TreeHistory) -> str:
    """`720 files, 3 directories`."""
    files = directories = links = 0
    for path in paths:
        kind = history.entries[path].facts.kind.value if path in history.entries else "file"
        files, directories, links = (
            files + (kind == "file"),
            directories + (kind == "directory"),
            links + (kind == "link"),
        )
    counts = [(files, "file", "files"), (directories, "directory", "directories"), (links, "link", "links")]
    return ", ".join(text.count(many, one, more) for many, one, more in counts if many)


def _names(paths: list[bytes], why: str) -> str:
    """`2 files, other contents …: a.csv, b.csv`."""
    if not paths:
        return ""
    shown = ", ".join(text.show(path) for path in sorted(paths)[:_SHOWN])
    more = f" and {text.number(len(paths) - _SHOWN)} more" if len(paths) > _SHOWN else ""
    return f"{text.count(len(paths), 'file')}, {why}: {shown}{more}"


def _by_reason(left: Mapping[bytes, Left]) -> list[tuple[Left, list[bytes]]]:
    return [(why, [path for path, each in left.items() if each is why]) for why in Left if why in left.values()]


def _entries(many: int) -> str:
    return text.count(many, "entry", "entries")


def _bad(found: FoundCopies) -> list[tuple[Copy, list[bytes]]]:
    """Bad files by the copy that has them."""
    copies = dict.fromkeys(copy for copy, _ in found.bad)
    return [(copy, [path for each, path in found.bad if each == copy]) for copy in copies]
