"""What a timer of the system or the keeper of a node refuses, in words."""

from __future__ import annotations

from yatagan import errors as e
from yatagan.background.timer_errors import TimerFault, TimerTrouble
from yatagan.cli.terminal.text import command, show, typed


def explain_timer(error: TimerTrouble) -> tuple[str, str]:
    """Why a timer was not looked at, installed or removed, and what to do."""
    what, detail = show(error.what), show(error.detail)
    match error.fault:
        case TimerFault.PATH:
            return what, "use a directory without such characters"
        case TimerFault.NOT_WRITTEN:
            return f"{what} cannot be written: {detail}", ""
        case TimerFault.NOT_SAVED:
            return f"the crontab cannot be saved first, in {what}: {detail}", ""
        case TimerFault.CHANGED_MEANWHILE:
            return "the crontab is not what was written: another program changes it", f"what was there is in {what}"
        case TimerFault.NOT_READ:
            return f"the crontab cannot be read: {detail or 'no reason given'}", "nothing was changed"
        case TimerFault.MARKERS:
            lines = "the lines of yatagan in the crontab have no longer one beginning and one end"
            return lines, "put that right with: crontab -e"
        case TimerFault.SILENT:
            return f"{what} has not answered within {detail}", "nothing is known of what it has done"
        case TimerFault.NOT_THERE:
            return f"{what} cannot be run: {detail or 'this machine has none'}", ""
        case TimerFault.FAILED:
            return f"{what} failed: {detail}", ""


def explain_keeper(error: e.KeeperRefuses) -> tuple[str, str]:
    """What the keeper of a node does not do, or why there is none, and what to do."""
    what = show(error.what)
    anew = f"{command('node', 'close', error.what)}, then open it again"
    match error.fault:
        case e.KeeperFault.OTHER_VERSION:
            return f"{what} was opened by another version of Yatagan", anew
        case e.KeeperFault.NODE_CHANGED:
            return f"{what} was changed since it was opened", anew
        case e.KeeperFault.UNKNOWN_REQUEST:
            return f"the node's keeper does not know how to {what}", "close the node, and open it again"
        case e.KeeperFault.NO_DIRECTORY:
            return f"{what} cannot be made: {show(error.detail)}", "check XDG_RUNTIME_DIR"
        case e.KeeperFault.OPEN_DIRECTORY:
            why = f"{what} is not a directory of yours alone, so the socket of a login would not be safe in it"
            return why, f"remove it, or {typed(['chmod', '700', error.what])}"
        case e.KeeperFault.OPENED_TWICE:
            return f"{what} is being opened by another command, or is open", "yatagan node list"
