"""Every command's JSON against its page: each field is described, has its type, and keeps to the form of its name."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from conftest import Practice, Program
from json_answers import FIELDS, answers, field, fields, fits
from yatagan.cli.words.messages import KINDS
from yatagan.practice.fenflux import make_survey

PAGE = Path(__file__).parents[2] / "docs" / "reference" / "json.md"


def documented() -> dict[str, dict[str, str]]:
    """Of each answer on the page its fields and their types."""
    found: dict[str, dict[str, str]] = {}
    title = ""
    for line in PAGE.read_text(encoding="utf-8").splitlines():
        if line.startswith("### "):
            title = line.removeprefix("### ").strip("`")
            found[title] = {}
        elif title and (row := re.fullmatch(r"\| `([^`]+)` \| ([^|]+?) \| .* \|", line)):
            found[title][row[1]] = row[2]
    return found


@pytest.fixture
def survey(program: Program, practice: Practice) -> Program:
    make_survey(program.directory / "fen")
    return program


def test_every_answer_is_what_its_page_says(survey: Program, practice: Practice) -> None:
    pages, wrong = documented(), []
    for title, words, answer in answers(survey, practice):
        page = pages[title]
        assert answer["format"] == 1
        seen: dict[str, list[Any]] = {}
        for path, value in fields(title, answer):
            seen.setdefault(path, []).append(value)
        for path, values in seen.items():
            if path not in page:
                wrong.append(f"{' '.join(words)}: {path} is not on the page")
            elif bad := [value for value in values if not fits(page[path], value)]:
                wrong.append(f"{' '.join(words)}: {path} is {bad[0]!r}, not {page[path]}")
        for path, kind in page.items():
            if "[]" not in path and "optional" not in kind and path not in seen:
                wrong.append(f"{' '.join(words)}: {path} is on the page, and not in the answer")
    assert not wrong, "\n".join(wrong)


def test_names_say_what_values_are() -> None:
    for name, (kind, meaning) in FIELDS.items():
        key = re.split(r"[.\]: ]+", name.strip())[-1]
        assert re.fullmatch(r"[a-z0-9_]+", key), name
        assert key.endswith("_at") == kind.startswith("time"), name
        if key.endswith(("_bytes", "_seconds", "_per_second")):
            assert kind.startswith("number"), name
        assert meaning and not meaning.endswith("."), name


def test_every_example_on_the_page_is_json_that_fits() -> None:
    text = PAGE.read_text(encoding="utf-8")
    blocks = re.findall(r"^### `([^`]+)`.*?^```json\n(.*?)^```", text, re.DOTALL | re.MULTILINE)
    assert {title for title, _ in blocks} == {title for title, rows in documented().items() if rows}
    for title, block in blocks:
        for path, value in fields(title, json.loads(block)):
            assert fits(field(title, path)[0], value), (title, path, value)


def test_every_kind_of_error_is_on_the_page() -> None:
    page = PAGE.read_text(encoding="utf-8")
    missing = [kind for kind in (*KINDS.values(), "stopped", "usage") if f"`{kind}`" not in page]
    assert not missing, f"{missing}: make pages"


def test_lines_of_events(survey: Program, practice: Practice) -> None:
    survey(*practice.far().add)
    practice.wrong("heron", cut_after="20MB")
    (survey.home / "settings.toml").write_text('[connection]\npatience = "30s"\n')
    running = survey.start("stage", "fen", "heron:lines", "--json-lines")
    out, said = running.communicate(timeout=120)
    practice.wrong("heron")
    events = [json.loads(line) for line in out.splitlines()]
    names = [event["event"] for event in events]
    assert names[0] == "planned" and names[-1] == "ended" and "progress" in names and "connection-lost" in names
    text = PAGE.read_text(encoding="utf-8")
    for event in events:
        assert event["format"] == 1 and fits("time", event["event_at"])
        assert f"| `{event['event']}` |" in text, event
    assert said == ""
    if running.returncode == 4:
        out = survey("batch", "resume", "--json-lines").stdout
        assert json.loads(out.splitlines()[-1])["batch"]["good"]
    wrong = survey("stage", "nothing", "heron:", "--json-lines", expect=2)
    assert json.loads(wrong.stdout)["event"] == "error"
    assert "two forms" in survey("stage", "fen", "heron:", "--json", "--json-lines", expect=2).stderr
