"""Writes docs/reference/json.md: the fields of every answer, and an example of each from the survey.

`make pages` writes it. Read what has changed in the page.
"""

from __future__ import annotations

import json
import re
import sys
import tempfile
from pathlib import Path
from typing import Any

from conftest import Practice, Program
from json_answers import answers, field, fields
from yatagan.cli.words.messages import KINDS
from yatagan.faults import Fault
from yatagan.practice.fenflux import make_survey
from yatagan.practice.servers import Site

PAGE = Path(__file__).parents[2] / "docs" / "reference" / "json.md"
HEAD = """\
# Answers in JSON

With `--json` a command writes one JSON object to standard output. An error is one too, with the same
[exit status](exit-statuses.md) as without; what is said to people goes to standard error.

- Keys are in snake_case. Times are RFC 3339 in keys that end in `_at`, durations end in `_seconds`, sizes in `_bytes`,
  rates in `_bytes_per_second`; every other number is a count.
- A path is under `path` (or `root`, `destination` and so on); one that is not UTF-8 is in base64 under `path_b64`.
- Lists are always lists, also empty ones. What is unknown is null.
- `format` is 1. It gets a new number when a field changes its meaning or goes; new fields may come at any time.

This page is printed by `make pages`, and tests hold real answers against it.

## Evidence

`evidence` says how many files are known by which evidence: `on-node` (the node hashed the file after it was synced),
`read-back` (read again and hashed here), `on-arrival` (hashed here during the transfer), `read-here` (a file of this
machine, read and hashed), `remembered` (a digest made earlier, of a file that has not moved since), `size and time`,
`sent` (contents not looked at).

## Errors

`error.kind` is one of {kinds}; or, for an error of one file or directory, one of {faults}. `error.step` says how far a
login came: `look-up`, `connect`, `key-exchange`, `host-key`, `login`, `sftp` or `keeper`.

## Events

With `--json-lines`, `stage` and `batch resume` write a line for each thing that happens, each a JSON object with
`format`, `event` and `event_at`:

| event | when, and its fields |
|---|---|
| `planned` | the plan is accepted: `plan`, and the id of the `batch`, null when nothing is carried |
| `dataset` | of several datasets the next one: `dataset`, `towards` |
| `connected` | both ends are open; `again` after a loss |
| `connection-lost` | `reason`, `message`, and `retry_seconds` until the next try |
| `no-answer` | the `node` has answered nothing for `quiet_seconds`; 0 when it answers again |
| `started` | a `step` begins: `kind`, `path`, `size_bytes`, `done_bytes` that are there already |
| `postponed` | a `step` goes back to waiting, for a `reason` |
| `settled` | a `step` is done with: `kind`, `path`, `size_bytes`, `state`, `reason`, `detail`, `evidence` |
| `note` | something that is no failure: `message`, and mostly a `path` |
| `progress` | each second: `files`, `files_done`, `size_bytes`, `done_bytes`, `rate_bytes_per_second`, `left_seconds` |
| `ended` | the run is over: the `batch`, as `batch show` answers without `steps` |
| `error` | it ends with an error: `error` and `exit_status`, as below |

## Commands

`config set`, `config allow` and `config withdraw` answer as `config show`, `node remove` as `node show`.
"""


def main() -> None:
    """Write the page."""
    with tempfile.TemporaryDirectory() as scratch:
        near, home = Path(scratch, "fen-flux"), Path(scratch, "home")
        near.mkdir()
        home.mkdir()
        program = Program(home, near)
        make_survey(near / "fen")
        program("practice", "--root", str(Path(scratch, "practice")), "--background")
        practice = Practice(Site(Path(scratch, "practice")))
        try:
            sections = [section(*each, scratch) for each in answers(program, practice)]
        finally:
            program("practice", "--root", str(Path(scratch, "practice")), "--stop")
    kinds = ", ".join(f"`{kind}`" for kind in sorted({*KINDS.values(), "stopped", "usage"}))
    faults = ", ".join(f"`{fault.value}`" for fault in sorted(Fault))
    PAGE.write_text(HEAD.format(kinds=kinds, faults=faults) + "".join(sections), encoding="utf-8")


def section(title: str, words: list[str], answer: Any, scratch: str) -> str:
    """The part of the page about one command."""
    rows: dict[str, tuple[str, str]] = {}
    for path, _ in fields(title, answer):
        rows.setdefault(path, field(title, path))
    table = "".join(f"| `{path}` | {kind} | {meaning} |\n" for path, (kind, meaning) in rows.items())
    typed = tidy(" ".join(["yatagan", *words, "--json"]), scratch)
    example = tidy(json.dumps(shortened(answer), ensure_ascii=False, indent=1), scratch)
    return (
        f"\n### `{title}`\n\n| field | type | meaning |\n|---|---|---|\n{table}"
        f"\n```sh\n{typed}\n```\n\n```json\n{example}\n```\n"
    )


def shortened(value: Any) -> Any:
    """An answer with two of each list: the first, and one that differs in its fields."""
    if isinstance(value, dict):
        return {key: shortened(each) for key, each in value.items()}
    if not isinstance(value, list):
        return value
    if len(value) > 2 and all(isinstance(each, str) for each in value):
        return value
    others = [
        each
        for each in value[1:]
        if isinstance(each, dict) and isinstance(value[0], dict) and set(each) != set(value[0])
    ]
    return [shortened(each) for each in [*value[:1], *(others or value[1:])[:1]]]


def tidy(text: str, scratch: str) -> str:
    """The paths and people of the survey in place of this machine's."""
    for old, new in (
        (f"{scratch}/practice/heron", "/scratch/fenflux"),
        (f"{scratch}/practice/site", "/home/mara/.ssh"),
        (f"{scratch}/fen-flux", "/home/mara/fen-flux"),
        (f"{scratch}/home", "/home/mara/.local/state/yatagan"),
        (scratch, "/home/mara"),
        (sys.prefix, "/home/mara/.venv"),
    ):
        text = text.replace(old, new)
    text = re.sub(r"root@[\w.-]+", "mara@moor", text)
    text = text.replace('"owner": "root"', '"owner": "mara"').replace("127.0.0.1", "transfer.fen.example")
    text = re.sub(r'"(port|pid|process)": \d+', r'"\1": 22', text)
    return re.sub(r"--port \d+", "--port 22", text)


if __name__ == "__main__":
    main()
