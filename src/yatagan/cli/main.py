"""The program: finds the command, loads only that, and turns errors into words and exit statuses."""

from __future__ import annotations

import gc
import os
import sys
from typing import NoReturn

import click
import click.globals

from yatagan.cli.command_group import LazyGroup
from yatagan.cli.terminal import terminal
from yatagan.version import __version__

#: Command -> module in `commands/`, and the line that `--help` shows.
_COMMANDS = {
    "node": ("node", "Save nodes under short names; check them; log in."),
    "config": ("config", "Change settings, and which directories may be touched."),
    "area": ("area", "Name directories on nodes, and say what they are for."),
    "project": ("project", "Declare datasets, and see how they stand."),
    "list": ("listing", "Show what is in a place."),
    "peek": ("peek", "Look into a file without fetching it."),
    "edit": ("edit", "Change a small file where it is, with your editor."),
    "stage": ("stage", "Carry files and directories to a node, or back."),
    "bundle": ("bundle", "Make archives of directories; list, unpack and check them."),
    "bag": ("bag", "Make and check bags (RFC 8493)."),
    "batch": ("batch", "Show, watch, hold, resume and cancel batches."),
    "parts": ("parts", "Find and remove unfinished files."),
    "kept": ("kept", "Find, restore and remove files that were replaced."),
    "compare": ("compare", "Compare two places, side by side."),
    "checksums": ("checksums", "Write the checksum list of a tree."),
    "verify": ("verify", "Verify a place, a batch or a dataset against a record."),
    "restore": ("restore", "Bring back what was lost here, checked against the ledger."),
    "mkdir": ("mkdir_rename_remove", "Make a directory, here or on a node."),
    "rename": ("mkdir_rename_remove", "Give something another name where it is."),
    "remove": ("mkdir_rename_remove", "Remove files and directories, after asking."),
    "ledger": ("ledger", "What was staged and verified, on record: show and check it."),
    "report": ("report_page", "A page of what was staged and verified, with figures."),
    "completion": ("completion", "Set up shell completion."),
    "service": ("service", "Carry batches in the background, also after a restart."),
    "routine": ("routine", "Stage again and again, by time or on a change."),
    "notice": ("notice", "Send yourself a test notice."),
    "practice": ("practice", "Start practice nodes on this machine."),
    "demo": ("demo", "Show a whole staging at work, offline."),
}

EPILOG = """\
A place is a local path or NODE:PATH; a path on a node starts in its start directory.

\b
Exit statuses:
  0  good
  1  differences, failed steps, or output that is lost
  2  usage: a wrong option, place or name
  3  a node cannot be reached, or refuses the login
  4  interrupted; yatagan batch resume goes on
  5  refused for safety
"""


@click.group(
    cls=LazyGroup,
    lazy=_COMMANDS,
    epilog=EPILOG,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(__version__, message="yatagan %(version)s")
def program() -> None:
    """Stage datasets between this machine and cluster nodes: planned, resumed, proven, on record."""


def main(arguments: list[str] | None = None) -> NoReturn:
    """Run the program and exit."""
    from yatagan.cli.terminal.standard_output import missed_output, open_streams
    from yatagan.cli.terminal.terminating import as_interrupt, leave_at_once

    open_streams()
    if "_YATAGAN_COMPLETE" in os.environ:
        from yatagan.cli.shell_completion import answer_shell

        answer_shell(program, os.environ.get("_YATAGAN_TYPED", ""))
        sys.exit(0)
    as_interrupt()
    # A tree of a million entries is a million objects that stay: to look through them again and again finds nothing.
    gc.set_threshold(50_000, 50, 100)
    # No colour where the user wants none (no-color.org), or the terminal knows none.
    colour = False if os.environ.get("NO_COLOR") or os.environ.get("TERM") == "dumb" else None
    click.globals.push_context(click.Context(program, color=colour))  # for what is said when the command has ended
    status = _run(arguments, colour)
    if (stopping := sys.modules.get("yatagan.cli.terminal.stop_signals")) is not None:
        stopping.ignore()
    if why := missed_output():
        terminal.say(f"yatagan: standard output cannot be written, and what was said there is lost: {why}", err=True)
        terminal.say("  the command itself has ended as usual; send its output elsewhere", err=True)
        status = status or 1
    leave_at_once(status)
    sys.exit(status)


def _run(arguments: list[str] | None, colour: bool | None) -> int:
    """Run the program. Returns its exit status."""
    from yatagan.errors import JournalError, YataganError

    try:
        return int(program.main(arguments, prog_name="yatagan", standalone_mode=False, color=colour) or 0)
    except YataganError as error:
        return _fail(error, arguments)
    except click.exceptions.NoArgsIsHelpError as error:
        error.show()
        return 2
    except click.ClickException as error:
        return _fail(error, arguments)
    except (click.Abort, KeyboardInterrupt):
        terminal.say(err=True)
        return _fail(click.Abort(), arguments)
    except OSError as error:  # our own files: configuration, ledger, the terminal
        what = JournalError(str(error.filename or "this machine's disk"), error.strerror or str(error))
        return _fail(what, arguments)


def _fail(error: Exception, arguments: list[str] | None) -> int:
    """Report an error. Returns its exit status."""
    from yatagan.cli.context import fail
    from yatagan.cli.usage_errors import explain_usage
    from yatagan.cli.words.messages import STOPPED, explain
    from yatagan.errors import YataganError

    words = sys.argv[1:] if arguments is None else arguments
    options = words[: words.index("--")] if "--" in words else words
    match error:
        case YataganError():
            known = explain(error)
        case click.ClickException():
            known = explain_usage(error)
        case _:
            known = STOPPED
    return fail(known, json_="--json" in options, lines="--json-lines" in options)
