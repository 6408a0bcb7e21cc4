"""What the user is told: one clause a fault, one line an error, nothing in either that a terminal would obey."""

from __future__ import annotations

import importlib
import pkgutil

import pytest
from hypothesis import given
from hypothesis import strategies as st

import yatagan
from yatagan import errors as e
from yatagan import request_errors as r
from yatagan.background.timer_errors import TimerFault, TimerTrouble
from yatagan.cli.words.exit_status import ExitStatus as Exit
from yatagan.cli.words.fault_words import fault, remedy
from yatagan.cli.words.messages import explain
from yatagan.faults import Fault

EVIL = "\x1b[31mred\nnext \u202eline"

ERRORS: list[tuple[e.YataganError, Exit, str, str]] = [
    (
        e.UnknownHostKey("oak", EVIL, "SHA256:abc", "ssh-ed25519", ""),
        Exit.NO_LOGIN,
        "SHA256:abc",
        "--trust SHA256:abc",
    ),
    (
        e.ChangedHostKey("oak", EVIL, "SHA256:new", ("SHA256:old",), EVIL),
        Exit.NO_LOGIN,
        "SHA256:new, known is SHA256:old",
        "ask the site",
    ),
    (
        e.UnpinnedHostKey("oak", EVIL, "SHA256:new", ("SHA256:pin",), EVIL),
        Exit.NO_LOGIN,
        "pinned: SHA256:pin",
        "node change oak --trust SHA256:pin --trust SHA256:new",
    ),
    (e.RevokedHostKey("oak", EVIL, "SHA256:new", EVIL), Exit.NO_LOGIN, "is revoked by", "ask the site"),
    (e.NeedsAnswer("oak", EVIL), Exit.NO_LOGIN, "no terminal to answer", "in a terminal"),
    (e.GivenUp("oak", EVIL), Exit.NO_LOGIN, "oak: the login was given up at", ""),
    (e.CannotReach("oak", "connect", EVIL, remedy="try"), Exit.NO_LOGIN, "oak: connecting failed", "try"),
    (e.StoreError(Fault.DENIED, b"/fen/\x1b[0m\n", store="oak"), Exit.DIFFERENCES, "oak:", ""),
    (e.StoreError(Fault.MISSING, b"/fen"), Exit.USAGE, "/fen", ""),
    (e.StoreError(Fault.SILENT, store="oak"), Exit.NO_LOGIN, "oak", ""),
    (e.StoreError(Fault.LEADS_OUT, b"/fen/out", detail=EVIL), Exit.REFUSED, "a link leads out", "config allow"),
    (
        e.StoreError(Fault.ONLY_READ, b"/fen", detail=EVIL),
        Exit.REFUSED,
        "for reading alone",
        "config allow DIR --write",
    ),
    (e.CannotReach("oak", "keeper", EVIL), Exit.NO_LOGIN, "oak: using its open login failed", ""),
    (e.BadPlace(EVIL, "it is none"), Exit.USAGE, "it is none", ""),
    *((e.NoPlace(EVIL, fault), Exit.USAGE, ": ", "") for fault in e.PlaceFault),
    (e.NoPlace("", e.PlaceFault.EMPTY), Exit.USAGE, "an empty name is no place", "write ."),
    (e.NoPlace("a b:c", e.PlaceFault.NO_NODE_NAME), Exit.USAGE, "'a b' cannot be a node's name", "./NAME"),
    (e.NoSuchArea("oak", EVIL, ("scratch",)), Exit.USAGE, "there is no such area", "oak has @scratch; save it"),
    (e.NoSuchArea("oak", "scrtch", ("scratch",)), Exit.USAGE, "oak:@scrtch", "did you mean oak:@scratch?"),
    (e.OutOfArea("oak", "scratch", EVIL), Exit.REFUSED, "climbs out of the area", "without the area"),
    (e.NoSuchDataset(EVIL, ("tower",), "x"), Exit.USAGE, "no such dataset", "there are tower"),
    (e.NoSuchDataset("towr", ("tower",), "x"), Exit.USAGE, "towr: the project", "did you mean tower?"),
    (e.NoSuchDataset(EVIL, (), EVIL), Exit.USAGE, "no such dataset", "declare it in"),
    *((TimerTrouble(fault, EVIL, EVIL), Exit.REFUSED, "", "") for fault in TimerFault),
    *((TimerTrouble(fault), Exit.REFUSED, "", "") for fault in (TimerFault.NOT_READ, TimerFault.NOT_THERE)),
    *((e.KeeperRefuses(fault, EVIL, EVIL), Exit.REFUSED, "", "") for fault in e.KeeperFault),
    (e.BadConfig(EVIL, EVIL), Exit.USAGE, "next", ""),
    (e.NodeMeant("heron"), Exit.USAGE, "heron is a node: write heron:", "a local heron is written ./heron"),
    (e.UnknownNode(EVIL, ("heron", "bittern")), Exit.USAGE, "no node is called", "known: heron, bittern"),
    (e.UnknownNode("oak", ()), Exit.USAGE, "no node is called 'oak'", "yatagan node add oak ADDRESS"),
    (e.NoSuchBatch(""), Exit.USAGE, "no batch yet", "yatagan stage"),
    (e.NoSuchBatch("k7"), Exit.USAGE, "no batch is called", "batch list"),
    (e.NoSuchBatch("k7", ("a-k7", "b-k7")), Exit.USAGE, "a-k7, b-k7", "more of the name"),
    (e.BatchInUse("a-k7", EVIL), Exit.REFUSED, "a-k7 is being carried", "yatagan batch show a-k7"),
    (e.BatchInUse("a-k7", "process 1", elsewhere=True), Exit.REFUSED, "process 1", "--take-over"),
    (e.NoSuchRoutine("fenn", ("fen",)), Exit.USAGE, "no routine is called 'fenn'", "did you mean fen?"),
    (e.NoLocks(EVIL), Exit.REFUSED, "has no locks", "YATAGAN_HOME"),
    (e.JournalError(EVIL, EVIL), Exit.INTERRUPTED, "cannot be written or read", "then try again"),
    (
        e.JournalError(EVIL, EVIL, batch="a-k7"),
        Exit.INTERRUPTED,
        "cannot be written",
        "yatagan batch resume a-k7",
    ),
    (e.OtherVersion(EVIL, 9), Exit.DIFFERENCES, "was written by another version", "use that version"),
    (e.JournalError(EVIL, EVIL, damaged=True), Exit.DIFFERENCES, "is damaged", "stage again"),
    (e.Refused("it would", "do not"), Exit.REFUSED, "it would", "do not"),
    (e.NotBelieved(EVIL, "can be changed by all", "chmod"), Exit.REFUSED, "can be changed by all", "chmod"),
    (e.BadArchive(EVIL.encode(), "it is none", "known are", store="oak"), Exit.USAGE, "it is none", "known are"),
    (e.ArchiveTooLarge(EVIL.encode(), most=5_000_000), Exit.REFUSED, "more than the 5.00 MB", "--size-limit"),
    (e.ArchiveTooLarge(EVIL.encode(), ratio=200), Exit.REFUSED, "more than 200 bytes come out", "--ratio-limit"),
    (e.BadList(EVIL, 3, "no digest"), Exit.USAGE, "line 3", "sha256sum"),
    (r.BadStage(r.WrongStage.SEVERAL_MACHINES, EVIL), Exit.USAGE, "on the same machine", "one after the other"),
    (r.BadStage(r.WrongStage.SAME_NAME, EVIL, EVIL, EVIL), Exit.USAGE, "under the same name", "--as"),
    (e.ReadOnlyArea("oak", "scratch"), Exit.REFUSED, "oak:@scratch is saved as read-only", "area change oak scratch"),
    (e.NoRoom("oak", 2000, 0, 1500), Exit.REFUSED, "500 B more are needed", "--no-space-check"),
    (e.NoProject(), Exit.REFUSED, "yatagan.toml", "yatagan project new"),
    (e.NotAccepted([e.Concern(EVIL, "key", owner=12345)]), Exit.REFUSED, "another account", "yatagan project accept"),
    (e.LedgerUnread(EVIL, EVIL), Exit.REFUSED, "cannot be read", "yatagan config show"),
    (e.BatchCancelled("a-k7"), Exit.REFUSED, "a-k7 is cancelled", "stage again"),
    (e.BatchCancelled("a-k7", "b-k7"), Exit.REFUSED, "b-k7 took its place", "yatagan batch resume b-k7"),
    (e.BatchStopped("a-k7"), Exit.REFUSED, "a person has stopped it", "yatagan batch resume a-k7"),
    (e.BadProject([e.Mistake(EVIL, 3, "dataset.x", "it is wrong", "write it")]), Exit.USAGE, "line 3", "write it"),
]

REQUESTS: list[r.WrongRequest] = [
    *(r.BadStage(why, "fen", "bundle", "peat") for why in r.WrongStage),
    *(r.BadVerify(why, "fen", "peat") for why in r.WrongVerify),
    *(r.BadRestore(why, "fen") for why in r.WrongRestore),
    *(r.BadRoutine(why, "fen") for why in r.WrongRoutine),
    *(r.AllGone("fen", "2026-12-01", batch) for batch in ("", "261201-k7qd")),
    r.NeverWrittenInto("fen"),
    *(r.BadEntry(why, "fen", "link") for why in r.WrongEntry),
    *(r.BadBag(why, "fen", [b"a", b"b\x1b"], 3) for why in r.WrongBag),
    *(r.BadBundle(why, "fen", "denied", more=2) for why in r.WrongBundle),
]


def test_no_error_is_left_out_of_the_table() -> None:
    for module in pkgutil.walk_packages(yatagan.__path__, "yatagan."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    roots, mine, new = {e.YataganError, e.StoreError, r.WrongRequest}, set(), {e.YataganError}
    while new:
        mine |= new
        kinds = {kind for known in new for kind in known.__subclasses__()} - mine
        new = {kind for kind in kinds if kind.__module__.startswith("yatagan.")}
    assert mine - roots == {type(error) for error, _, _, _ in ERRORS} | {type(error) for error in REQUESTS}


@pytest.mark.parametrize(("error", "status", "what", "next_"), ERRORS, ids=lambda value: type(value).__name__)
def test_an_error_is_one_line_that_says_what_and_what_next(
    error: e.YataganError, status: Exit, what: str, next_: str
) -> None:
    found = explain(error)
    assert (found.status, what in found.message, next_ in found.remedy) == (status, True, True), found
    assert not {"\x1b", "\n", "\u202e"} & set(f"{found}{found.kind}{found.place}{found.step}")
    assert found.kind != "other"


@pytest.mark.parametrize("error", REQUESTS, ids=str)
def test_what_cannot_be_asked_for_is_said_in_a_clause(error: r.WrongRequest) -> None:
    found = explain(error)
    assert found.message.startswith("fen: ") and len(found.message) > 20 and found.place == "fen"
    assert found.kind != "other" and found.status in (Exit.USAGE, Exit.REFUSED)
    assert str(getattr(error, "why", "?")) not in found.message, "the words are not the name of the error"


@given(detail=st.text())
@pytest.mark.parametrize("what", Fault)
def test_every_fault_is_a_clause(what: Fault, detail: str) -> None:
    clause = fault(what, detail)
    assert clause and clause[0].islower() and not fault(what, "").endswith(".")
    assert (clause + remedy(what)).isprintable()
