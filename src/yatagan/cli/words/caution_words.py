"""What should be known of a plan before it is carried out, in words."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from yatagan.cli.terminal import text
from yatagan.cli.words.area_words import age, meaning
from yatagan.planning import cautions as c
from yatagan.planning.gone import NoLongerThere, WhyAsk

#: Names that are shown before the rest is only counted.
_SHOWN = 3
_REASONS = {
    WhyAsk.EMPTY: "nothing is left there; is its disk mounted?",
    WhyAsk.MANY: "that is more than is taken for meant",
    WhyAsk.OTHER_DISK: "and it lies on another disk than then",
}


@dataclass(frozen=True, slots=True)
class CautionWords:
    """A caution as a row of a plan; `first`: it is shown before the plan. Without `text` there is nothing to say."""

    label: str
    text: str
    first: bool = False


def words_of(caution: c.Caution) -> CautionWords:
    """A caution in words."""
    match caution:
        case c.MatchesNothing(pattern):
            return CautionWords("only", f"{text.show(pattern)} matches nothing")
        case c.ShellTooSlow(node, seconds):
            longer = text.command("config", "set", "connection.shell", "3min")
            waited = text.duration(seconds)
            words = f"the shell of {node} has started nothing within {waited}, so nothing is proven there"
            return CautionWords("", f"{words}; to wait longer: {longer}", first=True)
        case c.ShellSlow(node, seconds):
            return CautionWords("shell", f"that of {node} took {text.duration(seconds)} to start a command")
        case c.LeadsOut(area, node, path):
            lands = text.place(node, path)
            return CautionWords("leads out", f"a link leads out of @{area}: what is staged lands in {lands}")
        case c.LandsIn(area):
            return CautionWords("area", f"@{area.name}: {meant}" if (meant := meaning(area)) else "")
        case c.TooOld():
            return _too_old(caution)
        case c.BecomesDirectory(source, name, directory, above):
            other = text.command("stage", source, above, "--as", directory)
            words = f"{text.show(directory)} will be a directory with {text.show(name)} in it; to rename, use --as"
            return CautionWords("new directory", f"{words}: {other}", first=True)
        case c.LittleRoomHere(needed, free, directory):
            largest = f"the largest bundle comes to {text.size(needed)} at most and is made here before it is sent"
            return CautionWords(
                "space here", f"{largest}, where {text.size(free)} are free (in {text.show(directory)})"
            )
        case c.OneLogin(node, round_trip, rate):
            words = (
                f"a person logs in to {node}, so all goes over one connection: at {round_trip * 1000:.0f} ms a round "
                f"trip about {text.size(rate)}/s at most. Where a key alone opens, several connections share it"
            )
            return CautionWords("one login", words)
        case c.LoginNode():
            return _login_node(caution)
        case c.GoneHere():
            return _gone(caution)


def _too_old(caution: c.TooOld) -> CautionWords:
    one, area = caution.files == 1, caution.area
    assert area.purged_after is not None
    words = (
        f"{text.count(caution.files, 'file')} {'is' if one else 'are'} older than {age(area.purged_after)}: "
        f"@{area.name} may remove {'it' if one else 'them'} at once; --times now gives them the time of arrival"
    )
    return CautionWords("too old", words, first=True)


def _login_node(caution: c.LoginNode) -> CautionWords:
    node, better = caution.node, caution.better
    words = (
        f"{node} is made for logging in: long processes are killed there, and its network is everyone's; "
        f"this is {text.size(caution.size)}, about {text.duration(caution.seconds)}"
    )
    if better:
        words += f". {better} is made for moving data and sees the same disks: write {better}: for {node}:"
    return CautionWords("login node", words)


def _gone(caution: c.GoneHere) -> CautionWords:
    """The line of the plan; the first one where a person is to decide."""
    gone, said = caution.gone, gone_words(caution.gone, caution.node)
    names = ", ".join(text.show(path) for path in itertools.islice(gone.paths, _SHOWN))
    more = len(gone.paths) - _SHOWN
    names += f" and {text.number(more)} more" if more > 0 else ""
    if gone.why is not None and not caution.decided:
        return CautionWords("", f"{said}: {_REASONS[gone.why]} ({names})", first=True)
    return CautionWords("gone", f"{said}, and go on record as gone: {names}")


def gone_words(gone: NoLongerThere, node: str) -> str:
    """`412 files (3.1 GB) that were staged on 2026-11-28 are no longer here`."""
    many = text.count(gone.files, "file") if gone.files else text.count(len(gone.paths), "directory", "directories")
    size = f" ({text.size(gone.size)})" if gone.size else ""
    are, where = "is" if len(gone.paths) == 1 else "are", f"on {node}" if node else "here"
    was = "was" if len(gone.paths) == 1 else "were"
    return f"{many}{size} that {was} staged on {gone.recorded_at[:10]} {are} no longer {where}"
