"""Errors in words: what happened, to what, and what to do next."""

from __future__ import annotations

import os
from dataclasses import dataclass

from yatagan import errors as e
from yatagan import request_errors as r
from yatagan.background.timer_errors import TimerTrouble
from yatagan.cli.terminal.text import command, count, place, show, size
from yatagan.cli.words.batch_messages import explain_batch
from yatagan.cli.words.exit_status import ExitStatus
from yatagan.cli.words.fault_words import fault, remedy, status, without_batch
from yatagan.cli.words.place_messages import explain_place
from yatagan.cli.words.process_messages import explain_keeper, explain_timer
from yatagan.cli.words.request_messages import REQUEST_KINDS, explain_request
from yatagan.config.guarded_files import account_name
from yatagan.near_names import nearest

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

    `lines`: what is to be said besides, a line each.
    `kind` names it for scripts; `place` is what it happened to, "" where that is no place; `step` is how far a login
    came.
    """

    message: str
    remedy: str
    status: ExitStatus
    kind: str
    place: str = ""
    step: str = ""
    lines: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.message}; {self.remedy}" if self.remedy else self.message


#: Ctrl-C, where nothing is under way that could be gone on with.
STOPPED = Explanation("stopped", "", ExitStatus.INTERRUPTED, "stopped")

#: The kinds of errors, for scripts; of an error in a store its fault is the kind.
KINDS: dict[type[e.YataganError], str] = {
    **REQUEST_KINDS,
    e.CannotReach: "cannot-reach",
    e.UnknownHostKey: "unknown-host-key",
    e.ChangedHostKey: "changed-host-key",
    e.UnpinnedHostKey: "unpinned-host-key",
    e.RevokedHostKey: "revoked-host-key",
    e.NeedsAnswer: "needs-answer",
    e.GivenUp: "given-up",
    e.NoPlace: "bad-place",
    e.BadPlace: "bad-place",
    e.NoSuchArea: "no-such-area",
    e.OutOfArea: "out-of-area",
    e.NoSuchDataset: "no-such-dataset",
    e.BadConfig: "bad-config",
    e.BadProject: "bad-project",
    e.ReadOnlyArea: "read-only-area",
    e.NoRoom: "no-room",
    e.NoProject: "no-project",
    e.NotAccepted: "not-accepted",
    e.LedgerUnread: "ledger-unread",
    e.UnknownNode: "unknown-node",
    e.NodeMeant: "node-without-colon",
    e.NoSuchBatch: "no-such-batch",
    e.BatchInUse: "batch-in-use",
    e.BatchStopped: "batch-stopped",
    e.BatchCancelled: "batch-cancelled",
    e.NoLocks: "no-locks",
    e.NoSuchRoutine: "no-such-routine",
    e.JournalError: "journal",
    e.OtherVersion: "other-version",
    e.Refused: "refused",
    TimerTrouble: "timer",
    e.KeeperRefuses: "keeper",
    e.NotBelieved: "not-believed",
    e.BadArchive: "bad-archive",
    e.ArchiveTooLarge: "archive-too-large",
    e.BadList: "bad-list",
}


def explain(error: e.YataganError) -> Explanation:
    """An error in words."""
    message, advice, exit_status = _explain(error)
    kind = error.fault.value if isinstance(error, e.StoreError) else KINDS.get(type(error), "other")
    step = error.step if isinstance(error, e.CannotReach) else ""
    first, *more = advice if isinstance(advice, list) else [advice]
    return Explanation(message, first, exit_status, kind, _place_of(error), step, tuple(more))


def _place_of(error: e.YataganError) -> str:
    match error:
        case e.StoreError() | e.BadArchive() | e.ArchiveTooLarge():
            return place(error.store, error.path) if error.path else error.store
        case e.BadPlace() | e.NoPlace():
            return show(error.text)
        case e.NoSuchArea():
            return place(error.node, os.fsencode(f"@{error.name}"))
        case r.WrongRequest():
            return show(error.about)
        case e.CannotReach():
            return error.node
        case e.UnknownNode() | e.NodeMeant() | e.NoSuchRoutine() | e.NoSuchDataset():
            return show(error.name)
        case e.BadConfig() | e.JournalError() | e.NotBelieved():
            return show(error.file)
        case e.BadList():
            return show(error.name)
        case _:
            return ""


def _explain(error: e.YataganError) -> tuple[str, str | list[str], ExitStatus]:
    """What happened and to what, what to do next (lines of it, where they are many), and the exit status."""
    match error:
        case e.CannotReach():
            return _explain_reach(error)
        case r.WrongRequest():
            return explain_request(error)
        case e.StoreError():
            where = place(error.store, error.path) if error.path else error.store or "this machine"
            return (
                f"{where}: {fault(error.fault, error.detail)}",
                without_batch(remedy(error.fault, error.detail)),
                status(error.fault),
            )
        case e.NoPlace() | e.BadPlace() | e.NodeMeant() | e.NoSuchArea() | e.OutOfArea():
            return explain_place(error)
        case e.NoSuchDataset():
            return *_explain_no_dataset(error), ExitStatus.USAGE
        case e.BadConfig():
            return f"{show(error.file)}: {show(error.why)}", error.remedy, ExitStatus.USAGE
        case e.BadProject():
            return *_explain_mistakes(error), ExitStatus.USAGE
        case e.UnknownNode():
            return (
                f"no node is called {show(error.name)!r}",
                _unknown_node(error),
                ExitStatus.USAGE,
            )
        case e.NoSuchBatch() | e.BatchInUse() | e.BatchStopped() | e.BatchCancelled() | e.NoLocks() | e.JournalError():
            return explain_batch(error)
        case e.NoSuchRoutine():
            return _explain_no_routine(error)
        case TimerTrouble():
            return *explain_timer(error), ExitStatus.REFUSED
        case e.KeeperRefuses():
            return *explain_keeper(error), ExitStatus.REFUSED
        case e.NotBelieved():
            return show(error.why), show(error.remedy), ExitStatus.REFUSED
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
            return _explain_not_begun(error)


def _explain_not_begun(error: e.YataganError) -> tuple[str, str, ExitStatus]:
    """Why nothing was begun; any other error by its own text."""
    match error:
        case e.ReadOnlyArea():
            allow = command("area", "change", error.node, error.area, "--writable")
            where = f"{error.node}:@{error.area}"
            return f"{where} is saved as read-only", f"name another place, or allow it: {allow}", ExitStatus.REFUSED
        case e.NoRoom():
            return *_explain_room(error), ExitStatus.REFUSED
        case e.NoProject():
            why = "neither this directory nor one above it has a project file, yatagan.toml"
            return why, "begin one with: yatagan project new", ExitStatus.REFUSED
        case e.NotAccepted():
            words = "; ".join(map(concern_words, error.concerns))
            return words, f"look at it; then go by it: {command('project', 'accept')}", ExitStatus.REFUSED
        case e.LedgerUnread():
            why = f"the ledger in {show(error.directory)} cannot be read: {show(error.why)}"
            return why, "yatagan config show says where it is kept", ExitStatus.REFUSED
        case _:
            return show(str(error)), "", ExitStatus.DIFFERENCES


def _explain_room(error: e.NoRoom) -> tuple[str, str]:
    missing, free = error.needed + error.reserve - error.free, f"{size(error.free)} are free"
    return (
        f"there is not enough free space on {error.node or 'this machine'}: {size(missing)} more are needed for "
        f"{size(error.needed)} of files and {size(error.reserve)} that a stage leaves free ({free})",
        "free some space, choose less with --only, or begin anyway with --no-space-check",
    )


def concern_words(concern: e.Concern) -> str:
    """What is strange about a project."""
    if concern.owner is not None:
        return f"{show(concern.file)} belongs to another account, {show(account_name(concern.owner))}"
    if concern.writable:
        return f"what is in {show(concern.file)} can be changed by {show(concern.writable)}"
    return f"{show(concern.file)} leads out of the project: {show(', '.join(concern.paths))}"


def _explain_no_dataset(error: e.NoSuchDataset) -> tuple[str, str]:
    near = nearest(error.name, list(error.known))
    have = f"there are {', '.join(error.known)}" if error.known else f"declare it in {show(error.file)}"
    why = f"{show(error.name)}: the project has no such dataset"
    return why, f"did you mean {near}?" if near else have


def _explain_no_routine(error: e.NoSuchRoutine) -> tuple[str, str, ExitStatus]:
    near = nearest(error.name, error.known)
    meant = f"did you mean {near}? " if near else ""
    return (
        f"no routine is called {show(error.name)!r}",
        f"{meant}see: {command('routine', 'list')}",
        ExitStatus.USAGE,
    )


def _explain_mistakes(error: e.BadProject) -> tuple[str, str | list[str]]:
    """The mistakes of a project file: one as an error like others, more of them a line each."""

    def where(mistake: e.Mistake) -> str:
        parts = [show(mistake.file), f"line {mistake.line}" if mistake.line else "", show(mistake.key)]
        return f"{', '.join(part for part in parts if part)}: {show(mistake.why)}"

    if len(error.mistakes) == 1:
        return where(error.mistakes[0]), show(error.mistakes[0].remedy)
    lines = [where(each) + (f"; {show(each.remedy)}" if each.remedy else "") for each in error.mistakes]
    return f"the project file has {count(len(lines), 'mistake')}", lines


def _unknown_node(error: e.UnknownNode) -> str:
    """What to do about a node's name that is not saved."""
    if near := nearest(error.name, error.known):
        return f"did you mean {near}? (a local name with a colon is written ./{show(error.name)}:…)"
    known = f"known: {', '.join(error.known)}; " if error.known else ""
    return f"{known}save it with: {command('node', 'add', error.name)} ADDRESS"


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
