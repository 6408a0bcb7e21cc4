"""The desk: what one user's operations share."""

from __future__ import annotations

import os
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from yatagan.config.accepted import Accepted
from yatagan.config.guarded_files import account_name
from yatagan.config.home import Home, find_project
from yatagan.config.nodes import NodeBook
from yatagan.config.roots import Roots
from yatagan.config.settings import ConnectionSettings, Settings, load_settings
from yatagan.desk.questions import FollowLink, GoByProject, LedgerNotUsed, Questions, TrustHostKey, UnreadInLedger
from yatagan.errors import (
    BadProject,
    LedgerUnread,
    NodeMeant,
    NoPlace,
    NoProject,
    NotAccepted,
    PlaceFault,
    Refused,
    UnknownHostKey,
)
from yatagan.places import NODE_NAME, Place, parse_place

if TYPE_CHECKING:
    from yatagan.batches.activity import Activities
    from yatagan.batches.queue import Queue
    from yatagan.config.project import Project
    from yatagan.keeper.client import Keeper
    from yatagan.ledger.ledger import Ledger
    from yatagan.stores.interface import Source, Store


@dataclass(slots=True)
class Desk:
    """What one user's operations share. It has no terminal, no arguments and no working directory of its own.

    Local places are below `directory`, an absolute path; without one they are refused unless they are absolute.
    `agent`: where the user's SSH agent listens, "" without one. `command`: what goes on record as having asked for what
    is done, word by word; empty for a program.
    """

    home: Home
    directory: bytes | None
    questions: Questions
    agent: str = ""
    command: tuple[str, ...] = ()
    _unread: set[str] = field(default_factory=set)

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

    def nodes(self) -> NodeBook:
        """The saved nodes."""
        return NodeBook(self.home.nodes_file)

    # --- the project, and where things go on record ---

    def project(self) -> Project:
        """The project that the directory is in. Raises BadProject, NoProject, NotAccepted."""
        root = self._project_root()
        if root is None:
            raise NoProject
        return self._accepted_project(root)

    def _project_root(self) -> Path | None:
        return find_project(Path(os.fsdecode(self.directory))) if self.directory is not None else None

    def _accepted_project(self, root: Path) -> Project:
        """A project, gone by only once its user has accepted what is strange about it: asked once.

        Raises BadProject, and NotAccepted where the user does not accept it, or cannot be asked.
        """
        from yatagan.config.project import load_project

        project, accepted = load_project(root), Accepted(self.home.accepted)
        concerns = tuple(concern for concern in project.concerns if concern.key not in accepted)
        if concerns:
            if not self.questions.agrees(GoByProject(concerns)):
                raise NotAccepted(concerns)
            accepted.add(concern.key for concern in concerns)
        return project

    def project_ledger(self) -> str:
        """The directory of the project's ledger, "" without one. It is made if it lies in the project.

        Raises BadProject; NotAccepted as long as its user has not accepted the project.
        """
        root = self._project_root()
        if root is None:
            return ""
        from yatagan.config.project import load_project

        if load_project(root).ledger is None:  # then there is nothing of it to go by
            return ""
        project = self._accepted_project(root)
        assert project.ledger is not None
        if project.ledger.is_relative_to(project.root):
            from yatagan.ledger.handles import make_below

            with suppress(OSError):  # what is in the way there, is said when a record is to be written
                make_below(project.root, project.ledger)
        return str(project.ledger)

    def ledger_directory(self) -> str:
        """Where the project's ledger is, "" without one: then it is that which the settings name.

        What is done goes on record though the project file has mistakes: then in the latter, with a warning.
        """
        try:
            return self.project_ledger()
        except (BadProject, NotAccepted, Refused) as error:
            self.questions.warned(LedgerNotUsed(error))
            return ""

    def ledger(self) -> Ledger:
        """The ledger of the project that the directory is in, if it has one; else that which the settings name."""
        return self.ledger_in(self.ledger_directory())

    def ledger_in(self, directory: str) -> Ledger:
        """The ledger in a directory; the one that the settings name for ""."""
        from yatagan.ledger.ledger import Ledger

        ledger = Ledger.of(self.home, self.settings().ledger, self.agent, directory)
        ledger.unread = self.warn_of_unread
        return ledger

    def ledger_to_read(self) -> Ledger:
        """As `ledger`. Raises LedgerUnread where there is none that can be read."""
        ledger = self.ledger()
        try:
            ledger.directory.look()
        except OSError as error:
            if not isinstance(error, FileNotFoundError) or not ledger.directory.may_be_made:
                raise LedgerUnread(str(ledger.directory.path), error.strerror or str(error)) from error
        return ledger

    def warn_of_unread(self, name: str, why: str) -> None:
        """Say once that a file of the ledger cannot be read."""
        if name not in self._unread:
            self._unread.add(name)
            self.questions.warned(UnreadInLedger(name, why))

    # --- places, and who opens them ---

    def place(self, typed: str, *, new: bool = False) -> Place:
        """A place as typed. Raises NoPlace, and NodeMeant for a node's name without its colon.

        `new`: something is to be made there, so that a node's name is never taken for a local one.
        """
        place = parse_place(typed)
        there = os.path.join(self.directory or b"", os.fsencode(typed))
        if NODE_NAME.fullmatch(typed) and (new or not os.path.lexists(there)) and typed in self.nodes():
            raise NodeMeant(typed)
        if self.directory is None and not place.node and not os.path.isabs(place.path):
            raise NoPlace(typed, PlaceFault.RELATIVE)
        return place

    def roots(self) -> Roots:
        """What of this machine an operation may touch besides what it names."""
        project, allowed = self._project_root(), self.settings().roots
        near = [self.directory] if self.directory is not None else []
        near += [os.fsencode(project)] if project is not None else []

        def real(roots: tuple[str, ...]) -> tuple[bytes, ...]:
            return tuple(os.path.realpath(os.fsencode(root)) for root in roots)

        return Roots(tuple(near), real(allowed.readable), real(allowed.writable))

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

            return LocalSource(self.directory or b"/", self.roots(), writing=writing, follows=self._follows)
        node = self.nodes().get(place.node)
        if (keeper := self.keeper(place.node)) is not None:
            from yatagan.keeper.store import KeeperSource

            return KeeperSource(keeper, node, pinned=pinned)
        from yatagan.stores.node_source import NodeSource

        return NodeSource(
            node, self.home, self.connection(), self.questions, pinned=pinned, commands=commands, names=names
        )

    def _follows(self, link: bytes, target: bytes) -> bool:
        return self.questions.agrees(FollowLink(link, target, account_name(os.lstat(link).st_uid)))

    def keeper(self, node: str) -> Keeper | None:
        """The running keeper of a node; None without one."""
        from yatagan.keeper.endpoint import Endpoint

        meeting = Endpoint(self.home, node)
        connection = meeting.connect() if node else None
        if connection is None:
            return None
        connection.close()
        from yatagan.keeper.client import Keeper

        return Keeper(meeting, self.questions)

    async def open(self, source: Source) -> Store:
        """Open a store; whether an unknown host key is trusted is asked once."""
        try:
            return await source.open()
        except UnknownHostKey as error:
            if not self.trusts(error):
                raise
            return await source.open()

    def trusts(self, error: UnknownHostKey) -> bool:
        """Whether an unknown host key is accepted; then it is saved."""
        if not self.questions.agrees(TrustHostKey(error)):
            return False
        from yatagan.nodes.host_keys import accept

        accept(self.home.known_hosts, error.known_line)
        return True
