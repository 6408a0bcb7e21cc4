"""What every command needs: the user's directories, their nodes, and someone who answers questions."""

from __future__ import annotations

import asyncio
import os
import sys
from collections.abc import Callable, Coroutine, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from yatagan.cli import stop_signals, terminal
from yatagan.cli.exit_status import ExitStatus
from yatagan.cli.login_questions import AtTerminal, Unattended, confirm
from yatagan.cli.messages import Explanation, explain
from yatagan.cli.terminating import leave_at_once
from yatagan.cli.text import Tone, show, tinted, warn
from yatagan.config.defects import write_defects_to
from yatagan.config.guarded_files import account_name
from yatagan.config.home import Home, find_project
from yatagan.config.nodes import NodeBook
from yatagan.config.own_directories import secure
from yatagan.config.roots import Roots
from yatagan.config.settings import ConnectionSettings, Settings, load_settings
from yatagan.errors import BadProject, NodeMeant, Refused, UnknownHostKey
from yatagan.futures import first_of
from yatagan.places import NODE_NAME, Place, parse_place

if TYPE_CHECKING:
    from yatagan.batches.activity import Activities
    from yatagan.batches.queue import Queue
    from yatagan.config.project import Project
    from yatagan.keeper.client import Keeper
    from yatagan.ledger.ledger import Ledger
    from yatagan.stores.interface import Source, Store

T = TypeVar("T")


def find_home() -> Home:
    """The user's directories: all in YATAGAN_HOME when it is set, else where the platform keeps such things."""
    ssh = Path(os.path.expanduser("~")) / ".ssh"
    given = os.environ.get("XDG_RUNTIME_DIR")
    runtime = Path(given, "yatagan") if given else Path("/tmp", f"yatagan-{os.getuid()}")
    if one := os.environ.get("YATAGAN_HOME"):
        one = os.path.abspath(one)
        return Home(Path(one), Path(one), ssh, runtime)
    import platformdirs

    config, state = platformdirs.user_config_dir("yatagan"), platformdirs.user_state_dir("yatagan")
    return Home(Path(config), Path(state), ssh, runtime)


class OpenSession:
    """A source whose first session is open already, so that planning and moving share one login."""

    def __init__(self, store: Store, source: Source) -> None:
        self._store: Store | None = store
        self._source = source

    async def open(self) -> Store:
        """See `Source.open`."""
        if self._store is not None:
            store, self._store = self._store, None
            return store
        return await self._source.open()

    def pins(self) -> dict[str, tuple[str, int]]:
        """See `Source.pins`."""
        return self._source.pins()

    async def release(self) -> None:
        """Close a session that was not used."""
        if self._store is not None:
            await self._store.close()
            self._store = None


@dataclass(slots=True)
class App:
    """One run of the program."""

    home: Home
    answers: AtTerminal | Unattended
    unread: set[str] = field(default_factory=set)

    @classmethod
    def start(cls, *, questions: bool = True) -> App:
        """Start with the user's directories. Questions are asked only at a terminal."""
        attended = questions and sys.stdin.isatty() and sys.stderr.isatty()
        home = find_home()
        if changed := [show(str(each)) for each in secure(home)]:
            them = "it is" if len(changed) == 1 else "they are"
            warn(f"other accounts could read or change {', '.join(changed)}; now {them} yours alone")
        write_defects_to(home.defects)
        stop_signals.listen()
        return cls(home, AtTerminal() if attended else Unattended())

    @property
    def questions(self) -> bool:
        """Whether there is a terminal to ask at."""
        return isinstance(self.answers, AtTerminal)

    def may(self, question: str, *, yes: bool) -> bool:
        """Whether to do what cannot be undone: asked unless `yes` was said.

        Raises Refused without a terminal.
        """
        if yes:
            return True
        if not self.questions:
            raise Refused("there is no terminal to ask whether to do that", "add --yes to do it without a question")
        return confirm(question)

    def settings(self) -> Settings:
        """What settings.toml says."""
        return load_settings(self.home)

    def connection(self) -> ConnectionSettings:
        """Settings of the connection."""
        return self.settings().connection

    def queue(self) -> Queue:
        """The queue of this host."""
        from yatagan.batches.queue import Queue

        return Queue.of(self.home)

    def activities(self) -> Activities:
        """What batches are doing now."""
        from yatagan.batches.activity import Activities

        return Activities(self.queue())

    def ledger(self) -> Ledger:
        """The ledger of the project that this directory is in, if it has one; else that which the settings name."""
        return self.ledger_in(self.ledger_directory())

    def ledger_directory(self) -> str:
        """Where the project's ledger is, "" without one: then it is that which the settings name.

        What is done goes on record though the project file has mistakes: then in the latter, with a warning.
        """
        try:
            return self.project_ledger()
        except (BadProject, Refused) as error:
            warn(f"the project's ledger is not used: {explain(error)}")
            return ""

    def ledger_in(self, directory: str) -> Ledger:
        """The ledger in a directory; the one that the settings name for ""."""
        from yatagan.ledger.ledger import Ledger

        ledger = Ledger.of(self.home, self.settings().ledger, os.environ.get("SSH_AUTH_SOCK", ""), directory)
        ledger.unread = self.warn_of_unread
        return ledger

    def warn_of_unread(self, name: str, why: str) -> None:
        """Say once that a file of the ledger cannot be read: what it says is missing in the answer."""
        if name not in self.unread:
            self.unread.add(name)
            warn(f"{show(name)} of the ledger cannot be read ({show(why)}), so what it says is missing here")

    def project_ledger(self) -> str:
        """The directory of the project's ledger, "" without one. It is made if it lies in the project.

        Raises BadProject; Refused as long as its user has not accepted the project.
        """
        root = find_project(Path(os.getcwd()))
        if root is None:
            return ""
        from yatagan.config.project import load_project

        if load_project(root).ledger is None:  # then there is nothing of it to go by
            return ""
        project = self.accepted_project(root)
        assert project.ledger is not None
        if project.ledger.is_relative_to(project.root):
            from yatagan.ledger.handles import make_below

            with suppress(OSError):  # what is in the way there, is said when a record is to be written
                make_below(project.root, project.ledger)
        return str(project.ledger)

    def project(self) -> Project:
        """The project that this directory is in. Raises BadProject; Refused where there is none, or not accepted."""
        root = find_project(Path(os.getcwd()))
        if root is None:
            why = "neither this directory nor one above it has a project file, yatagan.toml"
            raise Refused(why, "begin one with: yatagan project new")
        return self.accepted_project(root)

    def accepted_project(self, root: Path) -> Project:
        """A project, gone by only once its user has accepted what is strange about it: asked once.

        Raises BadProject, and Refused where the user does not accept it, or cannot be asked.
        """
        from yatagan.cli import project_concerns
        from yatagan.config.accepted import Accepted
        from yatagan.config.project import load_project

        project = load_project(root)
        project_concerns.settle(project, Accepted(self.home.accepted), questions=self.questions)
        return project

    def ledger_to_read(self) -> Ledger:
        """The ledger that the settings name. Raises Refused where there is none that can be read."""
        ledger = self.ledger()
        try:
            ledger.directory.look()
        except OSError as error:
            if not isinstance(error, FileNotFoundError) or not ledger.directory.may_be_made:
                why = f"the ledger in {show(str(ledger.directory.path))} cannot be read: {error.strerror}"
                raise Refused(why, "yatagan config show says where it is kept") from error
        return ledger

    def nodes(self) -> NodeBook:
        """The saved nodes."""
        return NodeBook(self.home.nodes_file)

    def place(self, typed: str, *, new: bool = False) -> Place:
        """A place as typed. Raises BadPlace, and NodeMeant for a node's name without its colon.

        `new`: something is to be made there, so that a node's name is never taken for a local one.
        """
        place = parse_place(typed)
        meant_for_one = NODE_NAME.fullmatch(typed) and (new or not os.path.lexists(typed))
        if meant_for_one and typed in self.nodes():
            raise NodeMeant(typed)
        return place

    def roots(self) -> Roots:
        """What of this machine a command may touch besides what it names."""
        here = os.getcwdb()
        project = find_project(Path(os.fsdecode(here)))
        allowed = self.settings().roots
        near = (here, os.fsencode(project)) if project is not None else (here,)

        def real(roots: tuple[str, ...]) -> tuple[bytes, ...]:
            return tuple(os.path.realpath(os.fsencode(root)) for root in roots)

        return Roots(near, real(allowed.readable), real(allowed.writable))

    def source(
        self,
        place: Place,
        *,
        pinned: tuple[str, int] | None = None,
        commands: bool = True,
        writing: bool = False,
        names: bool = False,
    ) -> Source:
        """How to open the store of a place, for reading or `writing`; or `names`, and no contents."""
        if not place.node:
            from yatagan.stores.local import LocalSource

            return LocalSource(os.getcwdb(), self.roots(), writing=writing, follows=self._follows)
        node = self.nodes().get(place.node)
        if (keeper := self.keeper(place.node)) is not None:
            from yatagan.keeper.store import KeeperSource

            return KeeperSource(keeper, node, pinned=pinned)
        from yatagan.stores.node_source import NodeSource

        return NodeSource(
            node, self.home, self.connection(), self.answers, pinned=pinned, commands=commands, names=names
        )

    def _follows(self, link: bytes, target: bytes) -> bool:
        """Whether to go through a link that another account made: asked each time, and only at a terminal."""
        whose = account_name(os.lstat(link).st_uid)
        return self.questions and confirm(
            f"{show(link)} is a link that another account made, {show(whose)}. It leads to {show(target)}. Follow it?"
        )

    def keeper(self, node: str) -> Keeper | None:
        """The running keeper of a node; None without one."""
        from yatagan.keeper.endpoint import Endpoint

        meeting = Endpoint(self.home, node)
        connection = meeting.connect() if node else None
        if connection is None:
            return None
        connection.close()
        from yatagan.keeper.client import Keeper

        return Keeper(meeting, self.answers)

    async def open(self, source: Source) -> Store:
        """Open a store; an unknown host key is shown and asked about once."""
        try:
            return await source.open()
        except UnknownHostKey as error:
            if not self.trusts(error):
                raise
            return await source.open()

    def trusts(self, error: UnknownHostKey) -> bool:
        """Show an unknown host key and ask; an accepted one is saved."""
        if not self.questions or not self._confirms(error):
            return False
        from yatagan.nodes.host_keys import accept

        accept(self.home.known_hosts, error.known_line)
        return True

    def _confirms(self, error: UnknownHostKey) -> bool:
        terminal.say(
            f"{error.node} ({show(error.host)}) shows a host key that was not seen before, {error.algorithm}:", err=True
        )
        terminal.say("  " + terminal.style(error.fingerprint, bold=True), err=True)
        return confirm("Is this the key that the site publishes?")


def run(work: Coroutine[Any, Any, T]) -> T:
    """Run a coroutine; of several errors at once, raise the first."""
    try:
        return asyncio.run(work)
    except BaseExceptionGroup as group:
        raise first_of(group) from None


#: The number of the form that JSON answers have; a new one when a script that reads them would break.
JSON_FORMAT = 1


def say_json(answer: Mapping[str, Any]) -> None:
    """One JSON object to standard output: the answer, after which a stop comes too late to be another one."""
    leave_at_once(ExitStatus.INTERRUPTED)
    terminal.say_json({"format": JSON_FORMAT, **answer})


def fail(error: Explanation, *, json_: bool, lines: bool = False) -> int:
    """Report an error, with `json_` or as one of several `lines` on standard output too. Returns its exit status."""
    if json_ or lines:
        remedy = "\n".join([error.remedy, *error.lines]) if error.lines else error.remedy
        fields = {"kind": error.kind, "message": error.message, "place": error.place, "remedy": remedy}
        step = {"step": error.step} if error.step else {}
        answer = {"error": {**fields, **step}, "exit_status": int(error.status)}
        if lines:
            terminal.say_json({"format": JSON_FORMAT, "event": "error", **answer}, indent=None)
        else:
            say_json(answer)
    terminal.say(tinted("yatagan: ", Tone.TROUBLE) + error.message, err=True)
    for line in (error.remedy, *error.lines) if error.remedy else ():
        terminal.say("  " + line, err=True)
    return error.status


def one_of(kind: type[StrEnum]) -> click.Choice[str]:
    """An option type for the values of an enumeration."""
    return click.Choice([each.value for each in kind])


def written(read: Callable[[str], T], absent: T | None = None) -> Callable[[click.Context, click.Parameter, Any], Any]:
    """A callback for an option: what `read` makes of its text, `absent` without it.

    The text of a ValueError goes to the user as a usage error.
    """

    def convert(context: click.Context, option: click.Parameter, text: str | None) -> T | None:
        try:
            return read(text) if text is not None else absent
        except ValueError as error:
            raise click.BadParameter(str(error), context, option) from None

    return convert


def checked(make: Callable[[], T]) -> T:
    """What is made of options. Raises UsageError where its ValueError says that they make no sense."""
    try:
        return make()
    except ValueError as error:
        raise click.UsageError(str(error), click.get_current_context()) from None


def options(*decorators: Callable[[Any], Any]) -> Callable[[Any], Any]:
    """Several options as one decorator."""

    def apply(command: Any) -> Any:
        for decorator in reversed(decorators):
            command = decorator(command)
        return command

    return apply


as_json = click.option("--json", "json_", is_flag=True, help="Answer with one JSON object.")
no_questions = click.option("--no-questions", is_flag=True, help="Never ask; what cannot be answered is an error.")
