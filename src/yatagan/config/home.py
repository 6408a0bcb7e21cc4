"""Where Yatagan keeps its files.

The core never reads the environment: the interface finds the directories and hands them down
as a `Home`.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from yatagan.config.machine import machine_key

#: Marks the root of a project.
PROJECT_FILE = "yatagan.toml"


@dataclass(frozen=True, slots=True)
class Home:
    """The directories of one user: configuration, state, their SSH files, and what lives as long as a login here.

    `system_ssh` is where the machine keeps what holds for all users.
    """

    config: Path
    state: Path
    ssh: Path
    runtime: Path
    system_ssh: Path = Path("/etc/ssh")

    @property
    def nodes_file(self) -> Path:
        """The saved nodes."""
        return self.config / "nodes.toml"

    @property
    def settings_file(self) -> Path:
        """Settings that are not about one node; need not exist."""
        return self.config / "settings.toml"

    @property
    def accepted(self) -> Path:
        """What the user has accepted once and for all."""
        return self.state / "accepted.json"

    @property
    def defects(self) -> Path:
        """What went wrong in the program itself; usually there is no such file."""
        return self.state / "defects.log"

    @property
    def known_hosts(self) -> Path:
        """The host keys that were accepted through Yatagan, in known_hosts format."""
        return self.config / "known_hosts"

    @property
    def batches(self) -> Path:
        """One directory a batch."""
        return self.state / "batches"

    @property
    def queue(self) -> Path:
        """The batches of this host that wait for workers."""
        return self._of_machine("queue")

    @property
    def routines(self) -> Path:
        """The routines of this host, and what their runs came to."""
        return self._of_machine("routines")

    @property
    def routine_runs(self) -> Path:
        """What runs of routines on this host are asked, and answer, while they go on."""
        return self.routines.with_suffix(".runs")

    def _of_machine(self, directory: str) -> Path:
        """This machine's file in a directory of which a home on the network has one for each machine."""
        return self.state / directory / f"{machine_key(self.state)}.db"

    @property
    def workers_log(self) -> Path:
        """Where workers in the background write what they do."""
        return self.state / "workers.log"

    @property
    def keepers(self) -> Path:
        """What keepers had to say, one file a node."""
        return self.state / "keepers"

    @property
    def connections(self) -> Path:
        """What was measured of the connections to nodes, one file a node."""
        return self.state / "connections"

    @property
    def digests(self) -> Path:
        """Remembered digests."""
        return self.state / "digests.db"

    @property
    def planning(self) -> Path:
        """Which stages are being planned."""
        return self.state / "planning.db"

    @property
    def verified(self) -> Path:
        """What interrupted runs of verify have read."""
        return self.state / "verified.db"

    @property
    def ledger(self) -> Path:
        """The record of what was staged, listed and verified, unless the settings name another directory."""
        return self.state / "ledger"

    @property
    def ledger_memory(self) -> Path:
        """What this account remembers of ledgers, and records that could not be written yet."""
        return self.state / "ledger-memory"


def find_project(start: Path) -> Path | None:
    """The root of the project that a directory is in: the nearest one up that holds a project file.

    Whatever else has that name counts too, so that it is named, and not passed over.
    """

    def has_file(directory: Path) -> bool:
        return os.path.lexists(directory / PROJECT_FILE) and not os.path.isdir(directory / PROJECT_FILE)

    return next((above for above in (start, *start.parents) if has_file(above)), None)
