"""The pages: links that lead somewhere, commands and options that exist, help that fits, and the man page."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import click
import pytest
from build_man_page import man_page

import commands_page
from yatagan.cli.main import program
from yatagan.cli.words.setting_words import SAYS
from yatagan.config.home import Home
from yatagan.config.settings import Settings, change_setting, load_settings
from yatagan.version import __version__

ROOT = Path(__file__).parents[2]
PAGES = sorted([*ROOT.glob("*.md"), *ROOT.glob("docs/**/*.md")])
#: Pages about the past, which name what there was.
HISTORY = {ROOT / "CHANGELOG.md"}


def slug(heading: str) -> str:
    """What a heading's link ends in."""
    return re.sub(r"[^\w\- ]", "", heading.strip().lower()).replace(" ", "-")


@pytest.mark.parametrize("page", PAGES, ids=lambda page: str(page.relative_to(ROOT)))
def test_links_lead_somewhere(page: Path) -> None:
    text = re.sub(r"^```.*?^```", "", page.read_text(encoding="utf-8"), flags=re.DOTALL | re.MULTILINE)
    for target in re.findall(r"\]\(([^)]+)\)", text):
        if target.startswith("http"):
            continue
        name, _, anchor = target.partition("#")
        found = (page.parent / name).resolve() if name else page
        assert found.exists(), f"{page.name}: {target}"
        if anchor:
            headings = re.findall(r"^#+ (.*)$", found.read_text(encoding="utf-8"), re.MULTILINE)
            assert anchor in map(slug, headings), f"{page.name}: {target}"


def test_every_picture_is_shown_on_a_page() -> None:
    shown = "".join(page.read_text(encoding="utf-8") for page in PAGES)
    pictures = [path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")]
    assert len(pictures) < 20 and not [name for name in pictures if f"screenshots/{name}" not in shown]


def commands(command: click.Command, words: tuple[str, ...] = ()) -> dict[tuple[str, ...], click.Command]:
    """Every command by its words."""
    found = {words: command}
    if isinstance(command, click.Group):
        context = click.Context(command)
        for name in command.list_commands(context):
            below = command.get_command(context, name)
            assert below is not None
            found.update(commands(below, (*words, name)))
    return found


COMMANDS = commands(program)
#: Words that are not for the reader.
FORBIDDEN = re.compile(r"\b(we|us|our|ours|held against|cautioned|far side|nobody|somebody|whoever)\b", re.IGNORECASE)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_pages_address_the_reader(page: Path) -> None:
    text = re.sub(r"`[^`]*`|^```.*?^```", "", page.read_text(encoding="utf-8"), flags=re.DOTALL | re.MULTILINE)
    assert not FORBIDDEN.search(text), FORBIDDEN.findall(text)


@pytest.mark.parametrize("page", [page for page in PAGES if page not in HISTORY], ids=lambda page: page.name)
def test_commands_on_pages_exist(page: Path) -> None:
    text = page.read_text(encoding="utf-8")
    lines = re.findall(r"`(yatagan [^`]+)`", text)
    for block in re.findall(r"^```sh\n(.*?)^```", text, re.DOTALL | re.MULTILINE):
        lines += [line for line in block.splitlines() if line.startswith("yatagan ")]
    for line in lines:
        words = shlex.split(line.replace("\n", " "), comments=True)[1:]
        depth = 0
        while depth < len(words) and tuple(words[: depth + 1]) in COMMANDS:
            depth += 1
        command = COMMANDS[tuple(words[:depth])]
        assert depth, f"{page.name}: {line}"
        assert not isinstance(command, click.Group) or {"--help", "…"} & set(words), f"{page.name}: {line}"
        known = {name for option in command.params for name in (*option.opts, *option.secondary_opts)} | {"--help"}
        if command.context_settings.get("ignore_unknown_options"):  # it hands the rest on to stage
            known |= {name for option in COMMANDS[("stage",)].params for name in option.opts}
        unknown = [word for word in words if word.startswith("--") and word.partition("=")[0] not in known]
        assert not unknown, f"{page.name}: {line}"


def test_the_commands_page_is_what_help_says() -> None:
    page = (ROOT / "docs" / "reference" / "commands.md").read_text(encoding="utf-8")
    assert page == commands_page.page(), "print it anew: make pages"


@pytest.mark.parametrize("words", sorted(COMMANDS), ids=lambda words: " ".join(words) or "yatagan")
def test_help_fits_and_ends_its_sentences(words: tuple[str, ...]) -> None:
    command = COMMANDS[words]
    context = click.Context(command, info_name=" ".join(("yatagan", *words)), terminal_width=80, max_content_width=80)
    shown = command.get_help(context)
    assert "..." not in shown.replace("[ARGS]...", "").replace("]...", "").replace("SOURCE...", "").replace(
        "DIRECTORY...", ""
    ).replace("PLACES...", ""), shown
    prose = shown.partition("\nExample")[0]
    assert max(map(len, prose.splitlines())) <= 80, shown
    assert isinstance(command, click.Group) or "Example" in shown or command.name == "completion", shown
    for typed in re.findall(r"yatagan [^\n]*", command.epilog or "") if not isinstance(command, click.Group) else ():
        assert typed.strip() in shown, "a command to paste is in one line"
    for option in command.params:
        if isinstance(option, click.Option) and option.help is not None:
            assert option.help[0].isupper() and option.help.rstrip()[-1] in ".:", f"{words} {option.opts}"
    forbidden = re.compile(
        r"\b(we|us|our|ours|held against|cautioned|far side|nobody|somebody|whoever)\b", re.IGNORECASE
    )
    assert not forbidden.search(shown), forbidden.findall(shown)


def test_settings_on_their_page_exist(tmp_path: Path) -> None:
    page = (ROOT / "docs" / "reference" / "settings.md").read_text(encoding="utf-8")
    home = Home(tmp_path, tmp_path, tmp_path, tmp_path)
    rows = re.findall(r"^\| `([a-z-]+\.[a-z-]+)` \| ([^|]+) \|", page, re.MULTILINE)
    for name, default in rows:
        if name != "connection.processes":
            change_setting(home, name, default.strip().replace("none", ""))
    assert load_settings(home) == Settings(), "the defaults are what the page says"
    every = [name for name, _, _ in Settings().every()]
    assert sorted(name for name, _ in rows) == sorted(every) == sorted(SAYS)


def test_the_man_page() -> None:
    page = man_page((ROOT / "docs" / "reference" / "commands.md").read_text(encoding="utf-8"), __version__)
    assert page.startswith('.TH YATAGAN 1 "') and ".SH NAME" in page
    for words in COMMANDS:
        if words and not isinstance(COMMANDS[words], click.Group):
            assert f"yatagan {' '.join(words)}".replace("-", r"\-") in page
    assert not [line for line in page.splitlines() if line.startswith("'")], "no line is taken for a request"
