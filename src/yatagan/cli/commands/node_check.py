"""`yatagan node check`: one page on how a node is reached, what it can do, and what that means for a transfer."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from yatagan.batches.batch_store import Batches
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import seconds_at
from yatagan.cli.context import App, as_json, no_questions, run
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words import fault_words, messages
from yatagan.config.nodes import Role
from yatagan.errors import CannotReach
from yatagan.places import Place, name_fields
from yatagan.planning.takeover import left_behind

if TYPE_CHECKING:
    from yatagan.stores.node_probe import AreaSpace, Checkup

#: A clock that is off by more than this is reported.
_CLOCK_SECONDS = 2.0
#: Round trips that one small file costs, and files that are carried at once.
_TRIPS_A_FILE, _FILES_AT_ONCE = 6, 64
#: Requests smaller than this are slow on a high-latency connection.
_SMALL_REQUEST = 64 << 10
#: Part files of ended batches that are looked for.
_LOOKED_FOR = 200


@click.command(
    "check", short_help="Check how a node is reached, and what it can do.", epilog="Example: yatagan node check heron"
)
@click.argument("name", shell_complete=shell_completion.nodes)
@no_questions
@as_json
def check(name: str, no_questions: bool, json_: bool) -> None:
    """Reach a node, log in, and show what it can do and what that means for a transfer.

    What is written there to measure it is removed at once.
    """
    app = App.start(questions=not no_questions)
    app.nodes().get(name)
    try:
        found, left = run(_look(app, name))
    except CannotReach as error:
        if json_:
            raise
        said = messages.explain(error)
        _show_failure(error, said.message, said.remedy)
        raise click.exceptions.Exit(said.status) from None
    if json_:
        say_json({**_as_json(found), "left_behind": [name_fields(place) for place in left]})
    else:
        _show(found, left)


async def _look(app: App, name: str) -> tuple[Checkup, list[bytes]]:
    """What the node can do, and destinations where ended batches left unfinished files."""
    from yatagan.nodes.connecting import offered_methods
    from yatagan.stores.node_probe import check_up
    from yatagan.stores.sftp import SftpStore

    node, keeper = app.nodes().get(name), app.keeper(name)
    if keeper is not None:
        found = await keeper.check_up(node)
    else:
        store = await app.open(app.source(Place(name, b"")))
        assert isinstance(store, SftpStore)
        try:
            found = await check_up(store)
        finally:
            await store.close()
    found.methods = await offered_methods(node, app.home)
    return found, await _left_behind(app, name)


async def _left_behind(app: App, name: str) -> list[bytes]:
    """Look for unfinished files, if any batch may have left some."""
    candidates = list(itertools.islice(left_behind(Batches(app.home.batches), name), _LOOKED_FOR))
    if not candidates:
        return []
    store = await app.open(app.source(Place(name, b""), commands=False))
    try:
        there = [place for place, part in candidates if await store.look(part) is not None]
    finally:
        await store.close()
    return list(dict.fromkeys(there))


def _show_failure(error: CannotReach, what: str, remedy: str) -> None:
    """Show how far the login came, and what to try."""
    terminal.say(terminal.style(f"{error.node}: ", bold=True) + text.tinted("not reached", text.Tone.TROUBLE))
    rows = []
    for step, doing in messages.STEPS.items() if error.step in messages.STEPS else ():
        failed = step == error.step
        rows.append(
            (doing, text.tinted("failed", text.Tone.TROUBLE) if failed else text.tinted("good", text.Tone.GOOD))
        )
        if failed:
            break
    said = text.show(error.detail) if type(error) is CannotReach else what.removeprefix(f"{error.node}: ")
    text.facts([*rows, ("what happened", said), ("try", remedy)])


def _show(found: Checkup, left: list[bytes]) -> None:
    name = found.node
    terminal.say(terminal.style(f"{name}: ", bold=True) + text.tinted("ready", text.Tone.GOOD))
    for line in meaning(found):
        text.facts([("-", line)])
    terminal.say(terminal.style("How that was found", bold=True))
    text.facts(
        [
            ("role", f"{found.role.value} node" + (f" of {found.cluster}" if found.cluster else "")),
            ("reached", _reached(found)),
            ("host key", f"{found.host_key_kind} {found.host_key}"),
            ("login", _login(found)),
            ("server", f"{text.show(found.server)}, {found.cipher}"),
            ("requests", f"up to {text.size(found.read_size)} read, {text.size(found.write_size)} written"),
            ("extensions", ", ".join(found.extensions) or "none"),
            ("sessions", _sessions(found)),
            ("commands", _commands(found)),
            ("round trip", _milliseconds(found.trip)),
            ("rate", _rate(found)),
            ("space", _space(found)),
            *(("", _area(area)) for area in found.areas),
            ("clock", _clock(found)),
            ("names", _names(found)),
            *(
                ("unfinished", f"files of ended batches: {text.command('parts', 'list', Place(name, place))}")
                for place in left
            ),
        ]
    )


def _reached(found: Checkup) -> str:
    if found.address is None:
        return f"through another machine, in {_milliseconds(found.reaching)}"
    host, port = found.address
    family = "IPv6" if ":" in host else "IPv4"
    return f"{text.show(host)} port {port}, {family}, in {_milliseconds(found.reaching)}"


def _login(found: Checkup) -> str:
    how = f"with answers to {text.count(found.questions, 'question')}" if found.questions else "by key"
    offers = f"; offered: {', '.join(text.show(method) for method in found.methods)}" if found.methods else ""
    until = f"; open until {text.moment(int(found.open_until * 1e9))}" if found.open_until is not None else ""
    return f"as {text.show(found.user)} {how}, in {_milliseconds(found.letting_in)}{offers}{until}"


def _sessions(found: Checkup) -> str:
    if found.sessions == 1:
        return "one at a time"
    return f"{found.sessions}{' or more' if found.sessions_more else ''} at once"


#: Seconds from which on a shell is called slow.
_SLOW_SHELL = 5.0


def _commands(found: Checkup) -> str:
    if not found.python:
        return f"none: {text.show(found.commands)}"
    disk = "on the same disk as file transfer" if found.same_disk else "not on the disk of file transfer"
    slow = f"; its shell took {text.duration(found.shell_seconds)}" if found.shell_seconds >= _SLOW_SHELL else ""
    return f"allowed, Python {text.show(found.python)}, {disk}{slow}"


def _rate(found: Checkup) -> str:
    if found.writable is not None:
        return f"not measured: nothing can be written there, {fault_words.fault(found.writable)}"
    assert found.up is not None and found.down is not None
    return f"{text.size(int(found.up))}/s there, {text.size(int(found.down))}/s back"


def _space(found: Checkup) -> str:
    where = text.place(found.node, found.start)
    return f"{text.size(found.free)} free in {where}" if found.free is not None else f"unknown, in {where}"


def _area(area: AreaSpace) -> str:
    if area.fault is not None:
        return f"@{area.name}: {fault_words.fault(area.fault)}"
    return f"{text.size(area.free)} free in @{area.name}" if area.free is not None else f"unknown, in @{area.name}"


def _clock(found: Checkup) -> str:
    if found.clock is None:
        return "unknown"
    if abs(found.clock) < _CLOCK_SECONDS:
        return "as here"
    return f"{text.duration(abs(found.clock))} {'ahead of' if found.clock > 0 else 'behind'} this machine's"


def _names(found: Checkup) -> str:
    if found.folds_case is None:
        return ""
    case = "upper and lower case are the same" if found.folds_case else "upper and lower case differ"
    return case if found.takes_all_names else f'{case}; none with : ? * " < > |'


def _milliseconds(seconds: float) -> str:
    return f"{seconds * 1000:.1f} ms" if seconds < 0.01 else f"{seconds * 1000:.0f} ms"


def meaning(found: Checkup) -> Iterator[str]:
    """Advice that follows from the findings, one clause each."""
    if found.writable is not None:
        yield "nothing can be staged to its start directory; name another with --start, or an absolute path"
    if found.role is Role.LOGIN:
        yield "made for logging in: what lasts long is ended there, and a large stage gets a warning"
    if found.python and found.same_disk:
        yield "contents are proven on the node (on-node), and nothing is sent twice for that"
    elif found.python:
        yield "commands see another disk, so contents are proven only by reading them back: --prove read-back"
    else:
        yield "contents can be proven only by reading them back: --prove read-back sends everything twice"
    if "fsync" not in found.extensions and not (found.python and found.same_disk):
        yield "files cannot be synced: a power failure there may take what was acknowledged, unnoticed"
    if "posix-rename" not in found.extensions:
        yield "while a file is replaced, there is a moment without it"
    if not found.python and "copy-data" not in found.extensions:
        yield "after a lost connection, a half-sent file is sent again from its beginning"
    if "statvfs" not in found.extensions:
        yield "plans cannot say whether there is enough space"
    if found.sessions == 1:
        yield "only one session at a time: no command can run beside file transfer"
    if min(found.read_size, found.write_size) < _SMALL_REQUEST:
        yield "its requests are small, which is slow on a high-latency connection"
    files = _FILES_AT_ONCE / (_TRIPS_A_FILE * max(found.trip, 1e-6))
    if files < 500:
        yield f"many small files go at about {files:,.0f} a second at most: each costs {_TRIPS_A_FILE} round trips"
    if found.clock is not None and abs(found.clock) >= _CLOCK_SECONDS:
        yield "times that programs there give to files are not the times here; set the clocks"
    if found.questions and found.open_until is None:
        yield f"every command asks again; to answer once for many: yatagan node open {found.node}"
    if found.folds_case:
        yield "files whose names differ in case alone cannot both be staged there, but in a bundle: --store bundle"
    if found.takes_all_names is False:
        yield 'files with : ? * " < > | in their names cannot be staged there, but in a bundle: --store bundle'


def _as_json(found: Checkup) -> dict[str, Any]:
    host, port = found.address if found.address is not None else (None, None)
    return {
        "node": found.node,
        "role": found.role.value,
        "cluster": found.cluster,
        "meaning": list(meaning(found)),
        "address": host,
        "port": port,
        "user": found.user,
        "host_key": found.host_key,
        "host_key_kind": found.host_key_kind,
        "login_methods": list(found.methods),
        "questions": found.questions,
        "reach_seconds": round(found.reaching, 4),
        "login_seconds": round(found.letting_in, 4),
        "open_until_at": seconds_at(found.open_until),
        "server": found.server,
        "cipher": found.cipher,
        "read_request_bytes": found.read_size,
        "write_request_bytes": found.write_size,
        "extensions": list(found.extensions),
        "sessions": found.sessions,
        "more_sessions": found.sessions_more,
        "commands": bool(found.python),
        "why_no_commands": found.commands or None,
        "shell_seconds": round(found.shell_seconds, 1),
        "python": found.python or None,
        "same_disk": found.same_disk,
        "round_trip_seconds": round(found.trip, 5),
        "to_node_bytes_per_second": round(found.up) if found.up is not None else None,
        "from_node_bytes_per_second": round(found.down) if found.down is not None else None,
        **name_fields(found.start, "start"),
        "free_bytes": found.free,
        "writable": found.writable is None,
        "why_not_writable": found.writable,
        "areas": [
            {"name": area.name, **name_fields(area.path), "free_bytes": area.free, "reason": area.fault}
            for area in found.areas
        ],
        "clock_ahead_seconds": round(found.clock, 3) if found.clock is not None else None,
        "folds_case": found.folds_case,
        "takes_all_names": found.takes_all_names,
    }
