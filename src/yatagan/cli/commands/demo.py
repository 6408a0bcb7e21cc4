"""`yatagan demo`: the whole thing at work, offline, with the real commands."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import time
from pathlib import Path

import click

from yatagan.cli.commands.practice import node_add
from yatagan.cli.terminal import terminal, text
from yatagan.errors import Refused
from yatagan.practice import node_faults
from yatagan.practice.fenflux import make_results, make_survey
from yatagan.practice.servers import NODES, Site

#: How long a lost connection is waited for in the demo; far less than one would in earnest.
_PATIENCE = '# Short, so that the demo need not wait. Without it: ten minutes.\n[connection]\npatience = "1s"\n'


class _Tour:
    """Runs commands one after the other, each shown as it would be typed."""

    def __init__(self, directory: Path) -> None:
        self.directory = directory
        self.site = Site(directory / "practice")
        self._environment = {**os.environ, "YATAGAN_HOME": str(directory / "home")}

    def say(self, words: str) -> None:
        """Print a heading."""
        terminal.say()
        terminal.say(terminal.style(words, bold=True))

    def run(self, *words: str, expect: int = 0) -> None:
        """Run one command in the demo's directory. An unexpected exit status ends the demo."""
        terminal.say("  " + terminal.style(text.command(*words), bold=True))
        status = subprocess.run(
            [sys.executable, "-m", "yatagan", *words], cwd=self.directory, env=self._environment, check=False
        ).returncode
        if expect:
            terminal.say(terminal.style(f"(exit status {status})", dim=True))
        if status != expect:
            raise Refused(f"the command ended with {status}, not {expect}", "the demo's directory is left as it is")

    def fault(self, **wrong: str) -> None:
        """Set or clear a fault of heron."""
        now = node_faults.Faults()
        for name, value in wrong.items():
            now = now.with_(name, value)
        node_faults.save(self.site.faults("heron"), now)


@click.command("demo", epilog="Example: yatagan demo try-yatagan")
@click.argument("directory", type=click.Path(file_okay=False, path_type=Path), default=Path("yatagan-demo"))
def demo_command(directory: Path) -> None:
    """Show a whole staging at work in DIRECTORY (default: yatagan-demo), offline, in under half a minute.

    It makes the data of a made-up survey, starts practice nodes on this machine, and runs the real commands
    one after the other. The directory is left to try on in.
    """
    directory = directory.absolute()
    if directory.exists() and any(directory.iterdir()):
        raise Refused(f"{text.show(str(directory))} is not empty", "name another directory, or remove it first")
    began = time.monotonic()
    tour = _Tour(directory)
    (directory / "home").mkdir(parents=True, mode=0o700)
    (directory / "home" / "settings.toml").write_text(_PATIENCE, encoding="utf-8")
    terminal.say("Making the data of the fen-flux survey (about 1,500 files, 60 MB) …")
    make_survey(directory / "fen")
    try:
        _tour(tour)
    except BaseException:
        _stop(tour)
        raise
    _farewell(tour, time.monotonic() - began)


def _tour(tour: _Tour) -> None:
    tour.say("Practice nodes on this machine stand for a cluster's. Save them under short names.")
    tour.run("practice", "--root", "practice", "--background")
    ports = tour.site.ports()
    for node in NODES:
        tour.run(*node_add(tour.site, node, ports[node])[1:])

    tour.say("Look around: here, and there.")
    tour.run("list", "fen")
    tour.run("node", "list")

    tour.say("What would it take to bring the survey to heron? Nothing moves yet.")
    tour.run("stage", "fen", "heron:campaign", "--plan-only")

    tour.say("Go. Half-way the connection is cut, and for a while heron refuses logins.")
    tour.fault(cut_after="34MB", refuse_for="3s", max_rate="30MB/s")
    tour.run("stage", "fen", "heron:campaign", expect=4)

    tour.say("What is true now? The journal knows, and nothing is lost.")
    tour.run("batch", "show")

    tour.say("The connection is back: go on where it stopped.")
    tour.fault()
    time.sleep(0.5)
    tour.run("batch", "resume")

    tour.say("Once more: only what is new would move, and nothing is.")
    tour.run("stage", "fen", "heron:campaign")

    tour.say("Put the inputs on record on the node, and check the files against it. Nothing is sent back for that.")
    tour.run("checksums", "heron:campaign/fen")
    tour.run("verify", "heron:campaign/fen")

    tour.say("The model has run on the node (the demo did it). Bring the results back.")
    make_results(tour.site.home("heron") / "campaign" / "results", tour.site.home("heron") / "campaign" / "fen")
    tour.run("stage", "heron:campaign/results", ".")

    tour.say("Who moved and checked what, and whether the record is still what was written.")
    tour.run("ledger", "show")
    tour.run("ledger", "check")


def _stop(tour: _Tour) -> None:
    subprocess.run(
        [sys.executable, "-m", "yatagan", "practice", "--root", str(tour.site.root), "--stop"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        check=False,
    )


def _farewell(tour: _Tour, seconds: float) -> None:
    where = shlex.quote(str(tour.directory))
    terminal.say()
    terminal.say(
        terminal.style(f"That was the demo, in {text.duration(seconds)}.", bold=True) + " Try on where it left off:"
    )
    terminal.say(f"  cd {where}")
    if shutil.which("yatagan") is None:
        terminal.say(f"  export PATH={shlex.quote(str(Path(sys.executable).parent))}:$PATH")
    terminal.say(f"  export YATAGAN_HOME={shlex.quote(str(tour.directory / 'home'))}")
    terminal.say("  cat practice/site/bittern.password; head -1 practice/site/bittern.codes")
    terminal.say("  yatagan node open bittern            # asks for these two, once for all that follows")
    terminal.say("  yatagan stage fen/notes bittern:")
    terminal.say("The practice nodes go on running until you stop them:")
    terminal.say("  yatagan practice --root practice --stop")
