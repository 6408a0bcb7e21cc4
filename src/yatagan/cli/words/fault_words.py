"""Faults in words: what happened, what to do about it, and the exit status of a command that met it."""

from __future__ import annotations

import re

from yatagan.cli.terminal.text import command, quoted, show
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.faults import CONNECTION_FAULTS, Fault

_FAULTS = {
    Fault.CONNECTION_LOST: "the connection was lost",
    Fault.SILENT: "the server stopped answering",
    Fault.NO_SPACE: "no space left on the disk",
    Fault.READ_ONLY: "the disk there is read-only",
    Fault.DENIED: "permission denied",
    Fault.MISSING: "there is no such file or directory",
    Fault.EXISTS: "something with this name exists already",
    Fault.IS_LINK: "a symbolic link is in the way",
    Fault.IS_DIRECTORY: "it is a directory",
    Fault.NOT_A_DIRECTORY: "something above it is not a directory",
    Fault.NAME_TOO_LONG: "the name is too long there",
    Fault.BITS_DROPPED: "its set-group-id or sticky bit was dropped there: the group is not yours",
    Fault.TIME_RANGE: "its time is before 1970 or after 2106, which SFTP cannot carry: the node shows another one",
    Fault.NAME_CLASH: "the disk there ignores case, and another name is the same but for that",
    Fault.NAME_REFUSED: "the disk there does not allow this name",
    Fault.UNSUPPORTED: "not possible there",
    Fault.DISK: "the disk reports an error",
    Fault.REFUSED: "refused, no reason given",
    Fault.SOURCE_CHANGED: "the source changed while it was read",
    Fault.SOURCE_KIND: "it was a file when it was planned",
    Fault.DIGEST_DIFFERS: "the contents that arrived differ from what was sent",
    Fault.APPEARED: "something else has taken the name since the plan; it was left alone",
    Fault.KIND_IN_THE_WAY: "something of another kind has the name",
    Fault.SPECIAL: "not a file, directory or link",
    Fault.UNREADABLE: "it could not be read when planned",
    Fault.PART_TAKEN: "unfinished files of an earlier try are in the way",
    Fault.PART_CHANGED: "another program changed or replaced the part file",
    Fault.NONSENSE: "the server's answer breaks the protocol",
    Fault.HELPER_BROKEN: "the helper on the node failed: a defect of Yatagan, not of the node",
    Fault.LISTING: "its listing contradicts itself: the same name comes again and again, or with different facts",
    Fault.WITH_DIRECTORY: "a directory above it could not be made or written",
    Fault.ABOVE_GONE: "its directory is gone",
    Fault.OTHER_DISK: "commands and file transfer see different disks there, so commands cannot prove what has arrived",
    Fault.NO_PROOF: "the node runs no commands any more, so it cannot prove what has arrived as the plan said",
    Fault.DESTINATION_GONE: "it is gone, with what the batch had put there",
    Fault.DESTINATION_MOVED: "it is another directory than the batch was planned for",
    Fault.KEPT_TAKEN: "another file is kept already under the name of the one to be replaced",
    Fault.LEADS_OUT: "a link leads out of what this command may touch",
    Fault.FOREIGN_LINK: "a link that another account made, where others can make links, leads to it",
    Fault.ONLY_READ: "it is in a directory that config allow has opened for reading alone",
    Fault.NO_SPACE_HERE: "no space here for the bundle, which is made before it is sent",
    Fault.NEWER_THERE: "the file there is newer, or was changed since it was staged; it was left as it is",
    Fault.NOT_KEPT: "nothing like that is kept of it",
    Fault.WOULD_LOSE: "a file cannot be read, and the bundle there would lose it",
    Fault.WITH_BUNDLE: "the bundle that it was to be in could not be stored",
    Fault.NOT_IN_BUNDLE: "the bundle was made without it",
    Fault.DAMAGED: "the bundle that holds it is damaged, or not what its index says",
    Fault.LEADS_ELSEWHERE: "it leads elsewhere now, which is not what was planned",
    Fault.NO_SUCH_NODE: "this node is not saved any more",
    Fault.GONE_THERE: "it was in place, and is gone again",
    Fault.CHANGED_THERE: "it was in place, and has been changed there since",
    Fault.BUSY: "the disk or the server is busy",
    Fault.STALE: "the disk there has lost track of it (stale handle), or does not answer in time",
    Fault.NO_PROGRESS: "its process ended three times without being asked to, and nothing had moved",
}

_REMEDIES = {
    Fault.NO_SPACE: "free some space, then resume the batch",
    Fault.DENIED: "check who owns it and its mode",
    Fault.APPEARED: "look at it, then stage again: the plan will name it",
    Fault.KIND_IN_THE_WAY: "rename or remove one of the two, then resume the batch",
    Fault.NAME_CLASH: "give one of them another name; or a bundle keeps both: --store bundle",
    Fault.NAME_REFUSED: "give it another name, or stage its directory with --store bundle, which keeps the name",
    Fault.UNREADABLE: "check who owns it and its mode, then stage again",
    Fault.SOURCE_KIND: "stage again: the plan will say what is to be done",
    Fault.SOURCE_CHANGED: "wait until nothing writes to it, then resume the batch",
    Fault.ONLY_READ: "name another place, or: yatagan config allow DIR --write",
    Fault.NO_SPACE_HERE: "free some space, then resume the batch",
    Fault.WOULD_LOSE: "make it readable, then stage again; or take --store files to bring files beside the bundle",
    Fault.NOT_IN_BUNDLE: "make it readable, then stage again: the bundle is rebuilt",
    Fault.DESTINATION_GONE: "put it back if it was only renamed, then resume the batch; or carry everything again: "
    "yatagan batch resume --make-again",
    Fault.DESTINATION_MOVED: "put the right one back, then resume the batch; or stage again",
    Fault.LEADS_ELSEWHERE: "put it back as it was, then resume the batch; or stage again",
    Fault.NO_SUCH_NODE: "save it again with yatagan node add, then resume the batch",
    Fault.NO_PROGRESS: "see yatagan batch log; then resume the batch",
    Fault.NOT_KEPT: "see what is kept with: yatagan kept list PLACE",
    Fault.SILENT: "check the node, then try again",
    Fault.CONNECTION_LOST: "check the network, then try again",
}

#: The same for a step that has failed, or a batch that is held, where there is more to say.
_REMEDIES_OF_STEPS = {
    Fault.BUSY: "resume the batch later",
    Fault.STALE: "resume the batch later",
    Fault.REFUSED: "look at it there, or ask the site; then resume the batch",
    Fault.READ_ONLY: "ask the site, or see that it can be written; then resume the batch",
    Fault.DENIED: "check who owns it and its mode, then resume the batch",
    Fault.DISK: "look at the disk, or ask the site; then resume the batch",
    Fault.OTHER_DISK: "have it read back instead: yatagan batch resume --prove read-back",
    Fault.NO_PROOF: "have it read back instead: yatagan batch resume --prove read-back",
    Fault.LEADS_OUT: "allow it with yatagan config allow, then resume the batch",
    Fault.FOREIGN_LINK: "name what it leads to, and stage again",
    Fault.ONLY_READ: "allow it with yatagan config allow --write, then resume the batch",
    Fault.EXISTS: "look at it, then stage again: the plan will name it",
    Fault.IS_LINK: "remove the link, or stage to where it leads",
    Fault.IS_DIRECTORY: "rename or remove it, then stage again",
    Fault.NOT_A_DIRECTORY: "rename or remove it, then stage again",
    Fault.ABOVE_GONE: "put it back, then resume the batch; or: yatagan batch resume --make-again",
    Fault.NEWER_THERE: "to bring yours, stage again with --if-newer-there replace",
    Fault.GONE_THERE: "find out what removes files there, then resume the batch",
    Fault.CHANGED_THERE: "look at it; to bring yours, stage again with --if-newer-there replace",
    Fault.PART_TAKEN: "see yatagan parts list; remove them, then resume the batch",
    Fault.PART_CHANGED: "find out what writes there, then resume the batch",
    Fault.KEPT_TAKEN: "see yatagan kept list; restore or remove it, then resume the batch",
    Fault.DAMAGED: "see yatagan bundle check; then make it again from its source",
    Fault.LISTING: "tell the site: its file server answers wrongly",
    Fault.NONSENSE: "tell the site: its file server answers wrongly",
    Fault.HELPER_BROKEN: "do without it: yatagan batch resume --prove read-back",
    Fault.UNSUPPORTED: "stage it elsewhere, or its directory with --store bundle",
    Fault.MISSING: "if it is needed, put it back, then resume the batch",
    Fault.DIGEST_DIFFERS: "tell the site: its disk or memory may be failing; then resume the batch",
    Fault.SPECIAL: "leave it out with --skip",
    Fault.NAME_TOO_LONG: "give it a shorter name, or stage its directory with --store bundle",
    Fault.NOT_KEPT: "",
}

#: What a command ends with that meets one of these; with the others there are DIFFERENCES.
_STATUSES = {
    **dict.fromkeys(CONNECTION_FAULTS, ExitStatus.NO_LOGIN),
    Fault.MISSING: ExitStatus.USAGE,
    Fault.NOT_KEPT: ExitStatus.USAGE,
    Fault.LEADS_OUT: ExitStatus.REFUSED,
    Fault.FOREIGN_LINK: ExitStatus.REFUSED,
    Fault.ONLY_READ: ExitStatus.REFUSED,
    Fault.LEADS_ELSEWHERE: ExitStatus.REFUSED,
    Fault.DESTINATION_MOVED: ExitStatus.REFUSED,
    Fault.DESTINATION_GONE: ExitStatus.INTERRUPTED,
}


def of_destination(what: Fault) -> str:
    """A fault that holds a whole batch, as a clause of its own: `the destination is gone, with …`."""
    return re.sub(r"^it\b", "the destination", fault(what))


def fault(what: Fault, detail: str = "") -> str:
    """A fault as a clause, with the system's own words if they add anything."""
    said = show(detail)
    clause = _FAULTS[what]
    if what is Fault.REFUSED and said and said.lower() != "failure":
        return f"refused: {said}"
    if what in (Fault.HELPER_BROKEN, Fault.NONSENSE) and said:
        return f"{clause} ({said})"
    if what is Fault.KIND_IN_THE_WAY and said:
        return f"a {said} has the name there"
    if what is Fault.NAME_CLASH and said:
        return f"the disk there ignores case, and {said} has the name"
    if what is Fault.SPECIAL and said:
        return f"a {said}"
    if what is Fault.WOULD_LOSE and said:
        return f"the bundle there would lose {said}, which cannot be read here"
    if what is Fault.LEADS_OUT and said:
        return f"a link leads out of what this command may touch, to {said}"
    if what is Fault.FOREIGN_LINK and said:
        return f"a link that another account made, and that leads to {said}"
    if what is Fault.SOURCE_KIND and said:
        return f"it was a file when it was planned, and is a {said} now"
    if what is Fault.LEADS_ELSEWHERE and said:
        return f"it leads to {said} now, which is not what was planned"
    if what is Fault.MISSING and said == "the source":
        return "the source is gone"
    if said.startswith("in /") and what in (Fault.DENIED, Fault.READ_ONLY, Fault.IS_LINK, Fault.NOT_A_DIRECTORY):
        return f"{clause}: nothing can be written {said}"
    return clause


def remedy(what: Fault, detail: str = "") -> str:
    """What to do about a fault; "" if there is no advice."""
    if what is Fault.LEADS_OUT:
        return f"name that itself, or allow it for good: {command('config', 'allow', detail)}"
    if what is Fault.FOREIGN_LINK:
        return f"if that is what you mean, name it itself: {quoted(detail)}"
    return _REMEDIES.get(what, "")


def step_remedy(what: Fault) -> str:
    """What to do about a fault of a step or a batch; "" if there is no advice."""
    return _REMEDIES_OF_STEPS.get(what, _REMEDIES.get(what, ""))


def status(what: Fault) -> ExitStatus:
    """What a command ends with that met a fault."""
    return _STATUSES.get(what, ExitStatus.DIFFERENCES)


def without_batch(advice: str) -> str:
    """What to do about a fault where no batch has met it: an error before there is one, or of another command."""
    return advice.replace("then resume the batch; or stage again", "then try again").replace(
        "resume the batch", "try again"
    )
