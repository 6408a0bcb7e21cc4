"""Opening nodes: again and again at the address that was reached first, and by further logins for more lanes."""

from __future__ import annotations

import contextlib
import functools
from dataclasses import replace

from yatagan.config.home import Home
from yatagan.config.nodes import Node
from yatagan.config.settings import ConnectionSettings
from yatagan.nodes.login import FurtherLogin, Login, log_in, log_in_again
from yatagan.nodes.login_process import log_in_by_process
from yatagan.nodes.prompts import Prompter
from yatagan.stores.connection_history import recall, remember
from yatagan.stores.lane_logins import Allowed
from yatagan.stores.sftp import SftpStore


def more_logins(login: Login, home: Home, settings: ConnectionSettings) -> Allowed:
    """How to log in to the same machine again without a question to the user."""

    async def again(in_process: bool) -> FurtherLogin:
        if in_process:
            with contextlib.suppress(OSError):  # then there can be no more processes here
                return await log_in_by_process(login, home, settings)
        return await log_in_again(login, home, settings)

    alone = login.address is None or login.times.questions > 0
    name = login.node.name
    keep = functools.partial(remember, home, name)
    return Allowed(login.node.most_logins, settings.processes, None if alone else again, recall(home, name), keep)


class NodeSource:
    """Opens a node as often as needed, always at the address that was reached first.

    `names`: what is exchanged is names, facts and digests, which are worth compressing, if the node does the hashing.
    """

    def __init__(
        self,
        node: Node,
        home: Home,
        settings: ConnectionSettings,
        answers: Prompter,
        *,
        pinned: tuple[str, int] | None = None,
        commands: bool = True,
        names: bool = False,
    ) -> None:
        self.node = node
        self.pinned = pinned
        self._home = home
        self._settings = settings
        self._answers = answers
        self._commands = commands
        self._names = names

    async def open(self) -> SftpStore:
        history = recall(self._home, self.node.name)
        login = await log_in(
            self.node,
            self._home,
            self._settings,
            self._answers,
            pinned=self.pinned,
            commands=self._commands,
            compress=self._names and history.commands,
        )
        runs = login.helper is not None
        if self._commands and runs != history.commands and not login.waited_for_shell:
            remember(self._home, self.node.name, replace(history, commands=runs))
        if self.pinned is None:
            self.pinned = login.address
        return SftpStore(login, self._settings, more_logins(login, self._home, self._settings))

    def pins(self) -> dict[str, tuple[str, int]]:
        return {} if self.pinned is None else {self.node.name: self.pinned}
