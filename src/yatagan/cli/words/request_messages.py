"""Requests that cannot be, in words: what is wrong with each, and what to ask for instead."""

from __future__ import annotations

from yatagan import request_errors as r
from yatagan.archives.compression import Form
from yatagan.cli.terminal.text import command, show
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.fault_words import fault
from yatagan.errors import YataganError
from yatagan.faults import Fault

_SEE_LEDGER = "see: yatagan ledger show"

#: The kinds of errors, for scripts.
REQUEST_KINDS: dict[type[YataganError], str] = {
    r.BadStage: "bad-stage",
    r.BadVerify: "bad-verify",
    r.BadRestore: "bad-restore",
    r.AllGone: "all-gone",
    r.NeverWrittenInto: "never-written-into",
    r.BadRoutine: "bad-routine",
    r.BadEntry: "bad-entry",
    r.BadBag: "bad-bag",
    r.BadBundle: "bad-bundle",
}
#: What is refused for safety, and not for what was typed.
_REFUSED = {
    r.WrongStage.IN_ITSELF,
    r.WrongStage.BUNDLE_NAME,
    r.WrongStage.GROWING_INTO_BUNDLE,
    r.WrongStage.LEFT_OUT_OF_BUNDLE,
    r.WrongStage.UNREAD_IN_BUNDLE,
    r.WrongEntry.END_OF_PACKED,
    r.WrongEntry.ROOT,
    r.WrongEntry.PROTECTED,
    r.WrongEntry.NEEDED,
    r.WrongBag.KINDS,
    r.WrongBag.NAMES,
    r.WrongBag.UNREAD,
    r.WrongBundle.UNREAD,
    r.WrongBundle.EXISTS,
}
_BESIDE = "take --store files to bring files beside it"


def explain_request(error: r.WrongRequest) -> tuple[str, str, ExitStatus]:
    """What was asked for that cannot be, what to ask for instead, and the exit status."""
    status = ExitStatus.REFUSED if getattr(error, "why", None) in _REFUSED else ExitStatus.USAGE
    match error:
        case r.BadStage():
            why, remedy = _explain_stage(error)
        case r.BadVerify():
            why, remedy = _explain_verify(error)
        case r.BadRestore():
            why, remedy = _explain_restore(error)
        case r.BadRoutine():
            why, remedy = _explain_routine(error)
        case r.BadEntry():
            why, remedy = _explain_entry(error)
        case r.BadBag():
            why, remedy = _explain_bag(error)
        case r.BadBundle():
            why, remedy = _explain_bundle(error)
        case r.AllGone():
            why, status = (
                f"all that was on record was gone when it was last staged, on {error.when}",
                ExitStatus.REFUSED,
            )
            before = f"bring back what was staged before: {command('restore', '--batch', error.batch)}"
            remedy = before if error.batch else _SEE_LEDGER
        case _:
            why, remedy = "it is stored as a bundle, which is never written into", "name another place: --output FILE"
    return f"{show(error.about)}: {why}", remedy, status


def _explain_stage(error: r.BadStage) -> tuple[str, str]:
    """What cannot be staged, and what to do instead."""
    detail, why, remedy = show(error.detail), "", ""
    match error.why:
        case r.WrongStage.SEVERAL_MACHINES:
            why, remedy = "all sources must be on the same machine", "stage them one after the other"
        case r.WrongStage.STORED_FROM_A_NODE:
            why = f"--store {detail} stores directories of this machine"
            remedy = f"make a bundle there with: {command('bundle', 'make', error.about)}"
        case r.WrongStage.GROWING_IN_A_BUNDLE:
            why = f"--growing and --store {detail} exclude each other: a bundle is written whole"
        case r.WrongStage.NO_NAME:
            why, remedy = "it has no name of its own to arrive under", "give one with --as NAME"
        case r.WrongStage.NAME_TEMPLATE:
            why = f"--as cannot be read: {detail}"
        case r.WrongStage.NAME_FIELDS:
            why = f"--as takes {detail}"
        case r.WrongStage.ONE_NAME:
            why = f"--as gives {detail} sources one name"
            remedy = "put something in it that differs, such as {stem}, {parent} or {number}"
        case r.WrongStage.SAME_NAME:
            why = f"{show(error.other)} would arrive under the same name, {detail}"
            remedy = "give both other names with --as, by {parent} or {number} for example"
        case r.WrongStage.NO_COMMANDS:
            why, remedy = "it does not run commands, so it cannot hash files", "use --prove read-back or auto"
        case r.WrongStage.OTHER_DISK:
            why, remedy = fault(Fault.OTHER_DISK), "use --prove read-back, or none to do without proof"
        case r.WrongStage.NOTHING_THERE:
            why, remedy = "there is nothing there", "check the spelling"
        case r.WrongStage.NO_DIRECTORY:
            why, remedy = f"it is a {detail}, and the destination must be a directory", "name another destination"
        case r.WrongStage.IN_ITSELF:
            why, remedy = "the destination lies inside the source", "stage to a directory outside it"
        case r.WrongStage.BUNDLE_NAME:
            why, remedy = (
                f"it is a {detail}, and a bundle would have that name",
                "rename it, or stage with --store files",
            )
        case r.WrongStage.GROWING_INTO_BUNDLE:
            why = "a growing file would go into it, and a bundle is always written whole"
            remedy = f"leave out --growing, or {_BESIDE}"
        case r.WrongStage.LEFT_OUT_OF_BUNDLE:
            why = "it would be rebuilt with less in it: a bundle is always written whole"
            remedy = f"leave out --only and --skip, or {_BESIDE}"
        case r.WrongStage.UNREAD_IN_BUNDLE:
            why = "it would be rebuilt without what cannot be read here"
            remedy = f"make it readable, or {_BESIDE}"
    return why, remedy


def _explain_verify(error: r.BadVerify) -> tuple[str, str]:
    """What cannot be verified, and what to do instead."""
    why = remedy = ""
    match error.why:
        case r.WrongVerify.NO_LIST:
            why, make = "there is no checksum list", command("checksums", error.of)
            remedy = f"name one with --against FILE, or make one with: {make}"
        case r.WrongVerify.NOT_ON_LIST:
            why, remedy = "the list does not name this file", "give another list with --against"
        case r.WrongVerify.NOTHING_CHOSEN:
            why, remedy = "the patterns choose nothing that is on the list", "look at the list"
        case r.WrongVerify.BARE_LIST:
            why = "a bare list has no sizes and no times"
            remedy = "leave out --by, and contents are compared"
        case r.WrongVerify.NOTHING_ON_RECORD:
            why = "nothing is on record of it, so there is nothing to compare it with"
            remedy = command("stage", "--dataset", error.about)
        case r.WrongVerify.NOTHING_PUT:
            why, remedy = "it has put nothing there yet", command("batch", "resume", error.about)
        case r.WrongVerify.A_BAG:
            why, remedy = "it is stored as a bag", command("bag", "check", error.about)
        case r.WrongVerify.OTHER_ALGORITHM:
            why, remedy = f"its digests are {error.right}, not {error.taken}", f"say so: --digest {error.right}"
    return why, remedy


def _explain_restore(error: r.BadRestore) -> tuple[str, str]:
    """What cannot be restored, and what to do instead."""
    why = remedy = ""
    match error.why:
        case r.WrongRestore.INTO_A_NODE:
            why, remedy = "what was lost here comes back to this machine", "name a directory here"
        case r.WrongRestore.ON_A_NODE:
            why, remedy = "restore brings back what was lost on this machine", "stage it to the node again"
        case r.WrongRestore.NOTHING_ON_RECORD:
            why, remedy = "nothing is on record of it", _SEE_LEDGER
        case r.WrongRestore.NO_RECORD_OF_BATCH:
            why, remedy = "no record says what this batch has carried from here or to here", _SEE_LEDGER
    return why, remedy


def _explain_entry(error: r.BadEntry) -> tuple[str, str]:
    """What cannot be done with it, and what can."""
    detail, below, why, remedy = show(error.detail), "name what is to go below it", "", ""
    match error.why:
        case r.WrongEntry.PATTERN:
            why = f"the pattern cannot be read: {detail}"
        case r.WrongEntry.NO_MATCH:
            why, remedy = "nothing there has such a name", "look with: yatagan list"
        case r.WrongEntry.NOT_A_FILE:
            why = f"it is a {detail}, and only files can be looked into"
            remedy = "see what is in a directory with: yatagan list"
        case r.WrongEntry.END_OF_PACKED:
            why = "its end is known only when all of it is unpacked"
            remedy = "stage it here first, or leave out --end"
        case r.WrongEntry.NEW_NAME:
            why, remedy = "a new name is one name, not a path", "to move something elsewhere, stage it there"
        case r.WrongEntry.ROOT:
            why, remedy = "that is the root of everything", below
        case r.WrongEntry.PROTECTED:
            why = f"it {detail} a home, a start directory, an area or the working directory"
            remedy = below
        case r.WrongEntry.NEEDED:
            why = f"batch {detail} will go on in this file"
            remedy = f"give the batch up with: {command('batch', 'cancel', error.detail)}"
    return why, remedy


def _explain_bag(error: r.BadBag) -> tuple[str, str]:
    """What a bag has no place for, and what to do with it."""
    names = ", ".join(map(show, error.names)) + (f" and {error.more} more" if error.more else "")
    one = len(error.names) == 1
    match error.why:
        case r.WrongBag.OF_A_NODE:
            return "a bag is made on this machine", "stage the directory here first"
        case r.WrongBag.ON_A_NODE:
            return "a bag is made on this machine", "stage it from here: yatagan stage BAG NODE:"
        case r.WrongBag.IN_ITSELF:
            return "the bag would lie in the directory that goes into it", "name --output"
        case r.WrongBag.NO_DIRECTORY:
            return "it is no directory, and a bag is made of one", ""
        case r.WrongBag.KINDS:
            return f"a bag holds files alone, and {names} {'is' if one else 'are'} none", "leave them out with --skip"
        case r.WrongBag.NAMES:
            return f"a bag's names are UTF-8, and {names} {'is' if one else 'are'} not", "rename what is not"
        case _:
            return f"{names} cannot be read", "make that readable, or leave it out with --skip"


def _explain_bundle(error: r.BadBundle) -> tuple[str, str]:
    """What cannot be done with a bundle, and what to do instead."""
    detail = show(error.detail)
    match error.why:
        case r.WrongBundle.SEVERAL_MACHINES:
            return "all that goes into a bundle must be on one machine", "bundle them one by one"
        case r.WrongBundle.MADE_ELSEWHERE:
            remedy = f"write --output {detail}:…, and bring the bundle here with yatagan stage"
            return f"what is on {detail} is bundled there", remedy
        case r.WrongBundle.SAME_NAME:
            return "two of them have the same name", "bundle them one by one"
        case r.WrongBundle.NEEDS_NAME:
            return "a bundle of several directories needs a name", f"--output NAME{detail}"
        case r.WrongBundle.OTHER_ENDING:
            return f"it ends in {detail}, and a bundle is one of {', '.join(Form)}", ""
        case r.WrongBundle.ENDING_AND_FORM:
            return f"it does not end in .{detail}, which --format asks for", ""
        case r.WrongBundle.LEVEL:
            return f"it has levels from {detail}" if detail else "it has no level", "leave out --level"
        case r.WrongBundle.UNREAD:
            more = f", and {error.more} more" if error.more else ""
            why = f"it cannot be read ({fault(Fault(error.detail))}){more}; a bundle must hold all that was chosen"
            return why, "make it readable, or leave it out with --skip"
        case r.WrongBundle.EXISTS:
            remedy = "name another one with --output, or rename or remove it"
            return "it exists already, and nothing is ever replaced by a bundle", remedy
        case r.WrongBundle.NO_DIRECTORY:
            return "there is no such directory", f"make it with: {command('mkdir', error.about)}"
        case r.WrongBundle.NOT_AN_ARCHIVE:
            return f"it is a {detail}, not an archive", ""
        case r.WrongBundle.NOT_A_DIRECTORY:
            return f"it is a {detail}, not a directory", ""
        case r.WrongBundle.INTO_ANOTHER_NODE:
            return "an archive is unpacked here or on the node that it is on", "stage it there first"
    return "it has no index that fits it, so there are no digests", "unpack it first"


def _explain_routine(error: r.BadRoutine) -> tuple[str, str]:
    if error.why is r.WrongRoutine.NAME:
        return "it cannot be a routine's name", "letters, digits, - and _, at most 32"
    return "there is such a routine already", f"remove it first: {command('routine', 'remove', error.about)}"
