"""Small files are read, our directories made and terminals written in one way each."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator

from sources import MODULES

#: What opens files by itself, and why it may.
_OPENERS = {
    "config/guarded_files.py": "the reader itself",
    "config/own_files.py": "makes and replaces our own files",
    "config/own_directories.py": "makes our own files private",
    "config/defects.py": "a log of ours",
    "config/disks.py": "/proc",
    "config/machine.py": "/proc, /etc/machine-id",
    "batches/locks.py": "locks of ours; /proc",
    "engine/run_log.py": "a log of ours",
    "background/starting.py": "a log of ours; the version that is installed",
    "background/logout.py": "files of the system",
    "background/installing.py": "units of systemd",
    "keeper/spawn.py": "a log of ours",
    "keeper/endpoint.py": "a lock of ours",
    "ledger/handles.py": "by directories that are open",
    "ledger/memory.py": "a lock of ours; /etc/machine-id",
    "ledger/lists.py": "new files of ours",
    "ledger/waiting.py": "lists of ours that wait",
    "ledger/whole_writes.py": "new files",
    "nodes/known_hosts.py": "known_hosts files, as the SSH client reads them",
    "nodes/host_keys.py": "our own known_hosts, to add to it",
    "nodes/helper.py": "modules of ours",
    "planning/unsettled.py": "/proc",
    "reports/page.py": "a template of ours",
    "verdicts/bag_writer.py": "new files",
    "engine/stored_bundle_worker.py": "a bundle that we have made",
    "cli/terminal/standard_output.py": "the streams of this process",
    "cli/named_file.py": "what a person names",
    "cli/commands/edit.py": "a copy of ours",
    "cli/commands/project.py": "a new file",
    "cli/commands/demo.py": "a new file",
    "cli/commands/practice.py": "practice nodes",
}


def _calls(text: str) -> Iterator[str]:
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Call):
            if isinstance(node.func, ast.Attribute):
                value = node.func.value
                owner = value.id if isinstance(value, ast.Name) else getattr(value, "attr", "?")
                yield f"{owner}.{node.func.attr}"
            elif isinstance(node.func, ast.Name):
                yield f".{node.func.id}"


def test_small_files_are_read_in_one_way() -> None:
    """Whatever opens a file by a path is named here, with its reason; stores and what runs on nodes have their own."""
    found = set()
    for name, text in MODULES.items():
        if name.startswith(("portable/", "practice/", "stores/", "archives/", "bundles/")):
            continue
        for call in _calls(text):
            owner, _, what = call.rpartition(".")
            opens = what in ("read_text", "read_bytes") or call in (".open", "os.open", "os.fdopen")
            opens = opens or (what == "open" and owner in ("file", "_file", "path", "stream"))
            if opens or (call in ("tomllib.load", "tomllib.loads") and name != "config/guarded_files.py"):
                found.add(name)
    assert found <= set(_OPENERS), found - set(_OPENERS)
    assert not [
        name
        for name, text in MODULES.items()
        if "tomllib" in text and name != "config/guarded_files.py" and "import tomllib" in text
    ]


def test_our_directories_are_made_in_one_way() -> None:
    """By `make_private`: `mkdir(parents=True, mode=0o700)` gives the mode to the last one only."""
    makers = {name for name, text in MODULES.items() if re.search(r"\.mkdir\(|makedirs\(", text)}
    makers -= {name for name in makers if name.startswith(("portable/", "practice/", "stores/", "nodes/"))}
    assert makers == {
        "config/own_files.py",
        "batches/batch_store.py",  # one of its own, in one that is private
        "engine/stored_bundle_worker.py",  # likewise
        "ledger/handles.py",  # parts of a ledger, which is not ours alone
        "cli/commands/config.py",  # a ledger, as the user says
        "cli/commands/report_page.py",  # a page, as the user says
        "cli/commands/demo.py",
        "verdicts/bag_writer.py",  # a bag
    }


def test_the_terminal_is_written_in_one_way() -> None:
    """So that no caller can forget to make harmless what comes from others."""
    wanted = re.compile(
        r"click\.(echo|secho|style|unstyle|echo_via_pager)\(|(?<![.\w])print\(|sys\.std(out|err)\.write"
    )
    found = {name for name, text in MODULES.items() if wanted.search(text) and not name.startswith("portable/")}
    assert found == {"cli/terminal/terminal.py"}
    drawn = re.findall(r"\bText\((.*)", MODULES["cli/views/live_view.py"])
    known = ('"  ", no_wrap=True)', "", '"and {len(blocks) - room} more')
    rest = [each for each in drawn if each not in known and "harmless(" not in each and "more" not in each]
    assert drawn and not rest, rest
