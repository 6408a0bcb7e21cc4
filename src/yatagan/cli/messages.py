"""Errors and faults in words: what happened, to what, and what to do next."""

from __future__ import annotations

from dataclasses import dataclass

from yatagan import errors as e
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.text import command, place, show, size
from yatagan.faults import CONNECTION_FAULTS, Fault
from yatagan.near_names import nearest

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
    Fault.DESTINATION_MOVED: "it is not the directory that the batch was planned for",
    Fault.KEPT_TAKEN: "another file is kept already under the name of the one to be replaced",
    Fault.LEADS_OUT: "a link leads out of what this command may touch",
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
    Fault.KIND_IN_THE_WAY: "rename or remove one of the two, then stage again",
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
    Fault.ONLY_READ: ExitStatus.REFUSED,
    Fault.LEADS_ELSEWHERE: ExitStatus.REFUSED,
    Fault.DESTINATION_MOVED: ExitStatus.REFUSED,
    Fault.DESTINATION_GONE: ExitStatus.INTERRUPTED,
}


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
    return _REMEDIES.get(what, "")


def step_remedy(what: Fault) -> str:
    """What to do about a fault of a step or a batch; "" if there is no advice."""
    return _REMEDIES_OF_STEPS.get(what, _REMEDIES.get(what, ""))


def status(what: Fault) -> ExitStatus:
    """What a command ends with that met a fault."""
    return _STATUSES.get(what, ExitStatus.DIFFERENCES)


#: The steps of reaching a node, in their order.
STEPS = {
    "look-up": "finding its address",
    "connect": "connecting",
    "key-exchange": "agreeing on a protocol",
    "host-key": "checking its key",
    "login": "logging in",
    "sftp": "starting file transfer",
}
#: What was being done when a node could not be reached: one of the steps, or using a login that was open already.
_DOING = {**STEPS, "keeper": "using its open login"}


@dataclass(frozen=True, slots=True)
class Explanation:
    """An error for people and for scripts: what happened and to what, what to do next, the exit status.

    `kind` names it for scripts; `place` is what it happened to, "" where that is no place; `step` is how far a login
    came.
    """

    message: str
    remedy: str
    status: ExitStatus
    kind: str
    place: str = ""
    step: str = ""

    def __str__(self) -> str:
        return f"{self.message}; {self.remedy}" if self.remedy else self.message


#: Ctrl-C, where nothing is under way that could be gone on with.
STOPPED = Explanation("stopped", "", ExitStatus.INTERRUPTED, "stopped")

#: The kinds of errors, for scripts; of an error in a store its fault is the kind.
KINDS: dict[type[e.YataganError], str] = {
    e.CannotReach: "cannot-reach",
    e.UnknownHostKey: "unknown-host-key",
    e.ChangedHostKey: "changed-host-key",
    e.UnpinnedHostKey: "unpinned-host-key",
    e.RevokedHostKey: "revoked-host-key",
    e.NeedsAnswer: "needs-answer",
    e.GivenUp: "given-up",
    e.BadPlace: "bad-place",
    e.BadConfig: "bad-config",
    e.UnknownNode: "unknown-node",
    e.NodeMeant: "node-without-colon",
    e.NoSuchBatch: "no-such-batch",
    e.BatchInUse: "batch-in-use",
    e.NoLocks: "no-locks",
    e.NoSuchRoutine: "no-such-routine",
    e.JournalError: "journal",
    e.OtherVersion: "other-version",
    e.Refused: "refused",
    e.BadArchive: "bad-archive",
    e.ArchiveTooLarge: "archive-too-large",
    e.BadList: "bad-list",
}


def explain(error: e.YataganError) -> Explanation:
    """An error in words."""
    message, advice, exit_status = _explain(error)
    kind = error.fault.value if isinstance(error, e.StoreError) else KINDS.get(type(error), "other")
    step = error.step if isinstance(error, e.CannotReach) else ""
    return Explanation(message, advice, exit_status, kind, _place_of(error), step)


def _place_of(error: e.YataganError) -> str:
    match error:
        case e.StoreError() | e.BadArchive() | e.ArchiveTooLarge():
            return place(error.store, error.path) if error.path else error.store
        case e.BadPlace():
            return show(error.text)
        case e.CannotReach():
            return error.node
        case e.UnknownNode() | e.NodeMeant() | e.NoSuchRoutine():
            return show(error.name)
        case e.BadConfig() | e.JournalError():
            return show(error.file)
        case e.BadList():
            return show(error.name)
        case _:
            return ""


def _explain(error: e.YataganError) -> tuple[str, str, ExitStatus]:
    """What happened and to what, what to do next, and the exit status."""
    match error:
        case e.CannotReach():
            return _explain_reach(error)
        case e.StoreError():
            where = place(error.store, error.path) if error.path else error.store or "this machine"
            return (
                f"{where}: {fault(error.fault, error.detail)}",
                remedy(error.fault, error.detail),
                status(error.fault),
            )
        case e.BadPlace():
            return f"{show(error.text)}: {error.why}", error.remedy, ExitStatus.USAGE
        case e.NodeMeant():
            local = f"a local {error.name} is written ./{error.name}"
            return f"{error.name} is a node: write {error.name}:", local, ExitStatus.USAGE
        case e.BadConfig():
            return f"{show(error.file)}: {show(error.why)}", error.remedy, ExitStatus.USAGE
        case e.UnknownNode():
            return (
                f"no node is called {show(error.name)!r}",
                _unknown_node(error),
                ExitStatus.USAGE,
            )
        case e.NoSuchBatch():
            return _explain_no_batch(error)
        case e.NoSuchRoutine():
            near = nearest(error.name, error.known)
            meant = f"did you mean {near}? " if near else ""
            see = f"{meant}see: {command('routine', 'list')}"
            return f"no routine is called {show(error.name)!r}", see, ExitStatus.USAGE
        case e.NoLocks():
            return (
                f"the disk that {show(error.directory)} is on has no locks, and two processes could carry one batch",
                "keep what is yours on another disk: set YATAGAN_HOME to a directory there",
                ExitStatus.REFUSED,
            )
        case e.BatchInUse():
            return (
                f"batch {show(error.batch)} is being carried by {show(error.holder)}",
                f"if it has ended there for certain: {command('batch', 'resume', error.batch, '--take-over')}"
                if error.elsewhere
                else f"see how far it is: {command('batch', 'show', error.batch)}",
                ExitStatus.REFUSED,
            )
        case e.OtherVersion():
            return (
                f"{show(error.file)} was written by another version of Yatagan",
                "use that version for this batch; or stage again with this one, and only what is missing moves",
                ExitStatus.DIFFERENCES,
            )
        case e.JournalError():
            return _explain_journal(error)
        case e.Refused():
            return error.why, error.remedy, ExitStatus.REFUSED
        case e.BadArchive():
            return f"{place(error.store, error.path)}: {error.why}", error.remedy, ExitStatus.USAGE
        case e.ArchiveTooLarge():
            return _explain_too_large(error)
        case e.BadList():
            where = f"{show(error.name)}, line {error.line}" if error.line else show(error.name)
            return f"{where}: {error.why}", "use a list as sha256sum or yatagan checksums write it", ExitStatus.USAGE
        case _:
            return show(str(error)), "", ExitStatus.DIFFERENCES


def _unknown_node(error: e.UnknownNode) -> str:
    """What to do about a node's name that is not saved."""
    if near := nearest(error.name, error.known):
        return f"did you mean {near}? (a local name with a colon is written ./{show(error.name)}:…)"
    known = f"known: {', '.join(error.known)}; " if error.known else ""
    return f"{known}save it with: {command('node', 'add', error.name)} ADDRESS"


#: Batches named where a part of a name could mean several.
_CANDIDATES = 4


def _explain_no_batch(error: e.NoSuchBatch) -> tuple[str, str, ExitStatus]:
    if error.candidates:
        more = len(error.candidates) - _CANDIDATES
        found = ", ".join(error.candidates[:_CANDIDATES]) + (f" and {more} more" if more > 0 else "")
        return f"{show(error.name)!r} is part of several names: {found}", "give more of the name", ExitStatus.USAGE
    if not error.name:
        return "there is no batch yet", "make one with yatagan stage", ExitStatus.USAGE
    near = nearest(error.name, error.known) or nearest(error.name, [name.rpartition("-")[2] for name in error.known])
    meant = f"did you mean {near}? all are shown by: yatagan batch list" if near else "see: yatagan batch list"
    return f"no batch is called {show(error.name)!r}", meant, ExitStatus.USAGE


def _explain_journal(error: e.JournalError) -> tuple[str, str, ExitStatus]:
    if error.damaged:
        return (
            f"{show(error.file)} is damaged: {show(error.detail)}",
            "what is in place stays in place; stage again, and only what is missing moves",
            ExitStatus.DIFFERENCES,
        )
    again = f"then: {command('batch', 'resume', error.batch)}" if error.batch else "then try again"
    return (
        f"{show(error.file)} cannot be written or read: {show(error.detail)}",
        f"free some space or mend the disk, {again}",
        ExitStatus.INTERRUPTED,
    )


def _explain_too_large(error: e.ArchiveTooLarge) -> tuple[str, str, ExitStatus]:
    where, stays = place(error.store, error.path), "what was unpacked so far is whole and stays"
    if error.ratio:
        return (
            f"{where}: more than {error.ratio} bytes come out of each one of it, as if it were meant to fill the disk",
            f"if that is what you expect, allow it with --ratio-limit; {stays}",
            ExitStatus.REFUSED,
        )
    return (
        f"{where} holds more than the {size(error.most)} that may be written",
        f"free some space, choose with --only, or allow more with --size-limit; {stays}",
        ExitStatus.REFUSED,
    )


def _explain_reach(error: e.CannotReach) -> tuple[str, str, ExitStatus]:
    match error:
        case e.UnknownHostKey():
            return (
                f"{error.node} ({show(error.host)}) shows a host key that was not accepted yet: {error.fingerprint}",
                f"compare it with what the site publishes, then pin it: "
                f"{command('node', 'change', error.node, '--trust', error.fingerprint)}",
                ExitStatus.NO_LOGIN,
            )
        case e.UnpinnedHostKey():
            pins = [word for pin in (*error.pins, error.fingerprint) for word in ("--trust", pin)]
            known = f" It is known from {show(error.where)}, so two of your entries disagree." if error.where else ""
            return (
                f"{error.node} ({show(error.host)}) shows the host key {error.fingerprint}, which is not pinned; "
                f"pinned: {', '.join(error.pins)}.{known}",
                f"ask the site which key is right; to pin this one as well: "
                f"{command('node', 'change', error.node, *pins)}",
                ExitStatus.NO_LOGIN,
            )
        case e.RevokedHostKey():
            return (
                f"{error.node} ({show(error.host)}) shows the host key {error.fingerprint}, which is revoked by "
                f"{show(error.where)}",
                "ask the site: another machine may pose as this one",
                ExitStatus.NO_LOGIN,
            )
        case e.ChangedHostKey():
            known = ", ".join(error.expected)
            return (
                f"{error.node} ({show(error.host)}) shows another host key than before: {error.fingerprint}, "
                f"known is {known}. Either the machine was reinstalled, or another one poses as it",
                f"ask the site; if the new key is right, remove {show(error.where)} and log in again, "
                f"or pin the key: {command('node', 'change', error.node, '--trust', error.fingerprint)}",
                ExitStatus.NO_LOGIN,
            )
        case e.GivenUp():
            prompt = show(error.prompt.strip())
            return f"{error.node}: the login was given up at the question {prompt!r}", "", ExitStatus.NO_LOGIN
        case e.NeedsAnswer():
            return (
                f"{error.node} asks {show(error.prompt.strip())!r}, and there is no terminal to answer at",
                "run the command in a terminal without --no-questions; or log in once for all commands: "
                f"{command('node', 'open', error.node)}"
                if error.node
                else "run the command in a terminal without --no-questions",
                ExitStatus.NO_LOGIN,
            )
        case _:
            return (
                f"{error.node}: {_DOING[error.step]} failed: {show(error.detail)}",
                error.remedy,
                ExitStatus.NO_LOGIN,
            )
