"""`yatagan practice`: practice nodes on this machine."""

from __future__ import annotations

import asyncio
import os
import shlex
import signal
import subprocess
import sys
import time
from pathlib import Path

import click

from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import as_json
from yatagan.cli.terminal import terminal, text
from yatagan.errors import Refused
from yatagan.practice import node_faults
from yatagan.practice.servers import BY_KEY, CLUSTER, NODES, USER, Site, serve

_START_SECONDS = 20.0


@click.command(
    "practice",
    epilog="""\b
Examples:
  yatagan practice --root ~/practice --background
  yatagan practice --root ~/practice --fault heron:cut-after=20MB
  yatagan practice --root ~/practice --fault heron:none
  yatagan practice --root ~/practice --stop
Faults: cut-after=BYTES, refuse-for=TIME, delay=TIME, max-rate=BYTES,
  full-after=BYTES, approve-after=TIME, kill-after=TIME, one-word=yes,
  other-key=yes, sessions=NUMBER, away=ADDRESS, foreign-names=yes,
  no-commands=yes, power-cut=NUMBER, cut-at-rename=NUMBER, none.""",
)
@click.option(
    "--root",
    type=click.Path(file_okay=False, path_type=Path),
    default=Path("yatagan-practice"),
    show_default=True,
    help="Directory for the nodes' files, keys and codes.",
)
@click.option("--background", is_flag=True, help="Start them and return.")
@click.option(
    "--fault",
    "faults_",
    multiple=True,
    metavar="NODE:FAULT=VALUE",
    help="Make a node go wrong, running or about to be started.",
)
@click.option("--stop", is_flag=True, help="Stop the nodes that run below --root.")
@as_json
def practice_command(root: Path, background: bool, faults_: tuple[str, ...], stop: bool, json_: bool) -> None:
    """Serve practice nodes on loopback.

    heron takes a key and runs commands; dunlin is its cluster's login node; bittern asks for a password
    and a one-time code, and is for files only.
    """
    site = Site(root.absolute())
    if stop:
        _stop(site)
        return
    site.prepare()
    _set_faults(site, faults_)
    if site.pid() is not None:
        if not faults_:
            _tell(site, site.ports(), json_)
        return
    if background:
        _start(site)
        _tell(site, site.ports(), json_)
    else:
        asyncio.run(serve(site, lambda ports: _tell(site, ports, json_)))


def _set_faults(site: Site, given: tuple[str, ...]) -> None:
    now = {node: node_faults.load(site.faults(node)) for node in NODES}
    touched = set()
    for item in given:
        node, colon, fault = item.partition(":")
        name, equals, value = fault.partition("=")
        if node not in NODES or not colon or not (equals or fault == "none"):
            raise click.UsageError(f"{item!r} is not NODE:FAULT=VALUE; nodes: {', '.join(NODES)}")
        try:
            now[node] = node_faults.Faults() if fault == "none" else now[node].with_(name, value)
        except ValueError as error:
            raise click.UsageError(f"{item}: {error}") from None
        touched.add(node)
    for node in touched:
        node_faults.save(site.faults(node), now[node])


def _start(site: Site) -> None:
    with (site.root / "site" / "practice.log").open("ab") as log:
        child = subprocess.Popen(
            [sys.executable, "-m", "yatagan", "practice", "--root", str(site.root)],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
            env=os.environ,
        )
    end = time.monotonic() + _START_SECONDS
    while site.pid() != child.pid:
        if child.poll() is not None or time.monotonic() > end:
            raise Refused("the practice nodes did not start", f"see {log.name}")
        time.sleep(0.02)


def _stop(site: Site) -> None:
    pid = site.pid()
    if pid is None:
        terminal.say("No practice nodes run there.")
        return
    os.kill(pid, signal.SIGTERM)
    end = time.monotonic() + _START_SECONDS
    while site.pid() is not None and time.monotonic() < end:
        time.sleep(0.02)
    terminal.say("The practice nodes are stopped.")


def node_add(site: Site, node: str, port: int) -> list[str]:
    """The command that saves a practice node."""
    more = ["--key", str(site.login_key), "--cluster", CLUSTER] if node in BY_KEY else []
    if node == "dunlin":
        more += ["--role", "login"]
    return [
        "yatagan",
        "node",
        "add",
        node,
        "127.0.0.1",
        "--port",
        str(port),
        "--user",
        USER,
        *more,
        "--trust",
        site.fingerprint(node),
    ]


def _tell(site: Site, ports: dict[str, int], json_: bool) -> None:
    if json_:
        say_json(
            {
                "pid": site.pid(),
                "nodes": [
                    {"name": node, "port": port, "root": str(site.home(node)), "add": node_add(site, node, port)}
                    for node, port in ports.items()
                ],
            }
        )
        return
    terminal.say(terminal.style(f"Practice nodes are up, below {text.show(str(site.root))}", bold=True))
    for node, port in ports.items():
        terminal.say("  " + shlex.join(node_add(site, node, port)))
    text.facts(
        [
            ("heron", "a transfer node: key login, commands allowed"),
            ("dunlin", "the login node of the same cluster: it sees the same disk, and ends what lasts too long"),
            (
                "bittern",
                f"password {site.password.read_text(encoding='utf-8')}, then any unused code from "
                f"{text.show(str(site.codes))}; file transfer only",
            ),
            ("stop", shlex.join(["yatagan", "practice", "--root", str(site.root), "--stop"])),
        ]
    )
