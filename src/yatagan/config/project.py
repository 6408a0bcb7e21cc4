"""The project file, `yatagan.toml`: the datasets of a project, where each is here and there, and its ledger.

A project file travels with the project, so it comes from other people. What it calls `here`, and the ledger, must lie
below the project's root with links resolved: a cloned file must not be able to send somebody's keys away, or to write
where a shell reads its commands. `yatagan.local.toml` beside it has the paths of one person; where those lead out of
the project, and where another account owns a file, the person is asked once (`accepted.py`).
"""

from __future__ import annotations

import os
import posixpath
import re
import unicodedata
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import Any

from yatagan.config.guarded_files import is_trusted, open_small, others_may_write, parse_toml, read_within
from yatagan.config.home import PROJECT_FILE
from yatagan.errors import BadProject, Concern, Mistake, NoPlace, NoSuchDataset
from yatagan.near_names import nearest
from yatagan.places import Place, holds, parse_place

LOCAL_FILE = "yatagan.local.toml"
#: What a project's name may have besides letters and digits.
_NAME_SIGNS = " .,:_+-()"
_LONGEST_NAME = 100
DATASET_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,63}")


class Use(StrEnum):
    """What a dataset is for, and so which way it goes."""

    #: Goes from here to there.
    INPUT = "input"
    #: Comes from there to here.
    RESULT = "result"


class Towards(StrEnum):
    """One of the two ends of a dataset."""

    HERE = "here"
    THERE = "there"


class StoredAs(StrEnum):
    """As what a directory is kept at the destination."""

    FILES = "files"
    #: All of it is one bundle.
    BUNDLE = "bundle"
    #: Every directory right below it is one bundle.
    BY_DIRECTORY = "by-directory"
    #: A dataset: files that are a bag (RFC 8493), and are verified as one.
    BAG = "bag"


class By(StrEnum):
    """What shows that a file is there already, or as it was."""

    SIZE_AND_TIME = "size-and-time"
    DIGEST = "digest"


@dataclass(frozen=True, slots=True)
class Dataset:
    """A named tree of a project. `here` is absolute, without links above it; it and `there` are the same tree.

    `by`: what shows that a file is there already.
    """

    name: str
    use: Use
    here: bytes
    there: Place
    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    stored: StoredAs = StoredAs.FILES
    by: By = By.SIZE_AND_TIME

    @property
    def towards(self) -> Towards:
        """The way of its use."""
        return Towards.THERE if self.use is Use.INPUT else Towards.HERE


@dataclass(frozen=True, slots=True)
class Project:
    """A project as its files declare it. `ledger` is absolute; None where every person has one of their own."""

    root: Path
    name: str
    datasets: Mapping[str, Dataset]
    ledger: Path | None = None
    concerns: tuple[Concern, ...] = ()

    @property
    def file(self) -> Path:
        """The project file."""
        return self.root / PROJECT_FILE

    def dataset(self, name: str) -> Dataset:
        """The dataset of this name. Raises NoSuchDataset."""
        if name in self.datasets:
            return self.datasets[name]
        raise NoSuchDataset(name, tuple(self.datasets), str(self.file))


def bad_project_name(name: str) -> str:
    """Why a project cannot be called so; "" if it can.

    Its name stands in records, and on pages: nothing in it may mean something to whatever program reads those.
    """
    if name.strip() and len(name) <= _LONGEST_NAME and all(map(_fits_name, name)):
        return ""
    return f"no project's name: letters, digits, spaces and {' '.join(_NAME_SIGNS).strip()}, at most {_LONGEST_NAME}"


def _fits_name(char: str) -> bool:
    return char in _NAME_SIGNS or unicodedata.category(char)[0] in "LMN"


def load_project(root: Path) -> Project:
    """Read the project file below `root`, and the personal one beside it. Raises BadProject with every mistake."""
    return _Reading(root).project()


_TOP = ("project", "dataset")
_PROJECT_KEYS = ("name", "ledger")
_DATASET_KEYS = ("use", "here", "there", "only", "skip", "stored", "by")
_LOCAL_KEYS = ("here", "there")


@dataclass(slots=True)
class _File:
    """One of the two files: its tables, and where its keys stand."""

    path: Path
    text: str = ""
    tables: dict[str, Any] = field(default_factory=dict)
    _places: dict[tuple[str, ...], int] | None = None

    def line(self, *keys: str) -> int:
        """The line of a key, or of the table that it is in; 0 where that cannot be seen."""
        if self._places is None:
            self._places = _lines(self.text)
        return self._places.get(keys) or self._places.get(keys[:-1], 0)


class _Reading:
    """Both files, read; mistakes are gathered, so that one sees all of them at once."""

    def __init__(self, root: Path) -> None:
        self._root = Path(os.path.realpath(root))
        self._mistakes: list[Mistake] = []
        self._concerns: list[Concern] = []
        self._out: list[str] = []
        self._main, self._local = (self._read(self._root / name) for name in (PROJECT_FILE, LOCAL_FILE))
        self._look_at_directory()

    def project(self) -> Project:
        """The project. Raises BadProject."""
        for file, known in ((self._main, _PROJECT_KEYS), (self._local, ("ledger",))):
            self._known(file, file.tables, _TOP, ())
            self._known(file, self._table(file, "project"), known, ("project",))
        given = self._table(self._main, "project")
        name = self._name(given)
        ledger = self._ledger()
        datasets = dict(self._datasets())
        for end in ("here", "there"):
            seen: dict[object, str] = {}
            for each in datasets.values():
                if (other := seen.setdefault(getattr(each, end), each.name)) != each.name:
                    self._wrong(self._main, ("dataset", each.name, end), f"dataset {other} has the same place {end}")
        if self._mistakes:
            raise BadProject(sorted(self._mistakes, key=lambda each: (each.file, each.line)))
        if self._out:
            key = f"paths {self._local.path} {' '.join(self._out)}"
            self._concerns.append(Concern(str(self._local.path), key, paths=tuple(self._out)))
        return Project(self._root, name, datasets, ledger, tuple(self._concerns))

    def _read(self, path: Path) -> _File:
        file = _File(path)
        try:
            descriptor = open_small(path, ours=False)
        except FileNotFoundError:
            return file
        except OSError as error:
            self._mistakes.append(Mistake(path.name, 0, "", f"cannot be read: {error.strerror}", ""))
            return file
        try:
            owner = os.fstat(descriptor).st_uid
            data = read_within(descriptor, str(path))
            file.tables, file.text = parse_toml(data), data.decode("utf-8")
        except UnicodeDecodeError:
            self._mistakes.append(Mistake(path.name, 0, "", "cannot be read: it is not UTF-8", ""))
        except ValueError as error:
            said = str(error).partition("; use sys.")[0]
            found = re.search(r"at line (\d+)", said)
            line, why = int(found[1]) if found else 0, re.sub(r" \(at [^()]*\)$", "", said)
            self._mistakes.append(Mistake(path.name, line, "", f"this is no TOML: {why}", "see https://toml.io"))
        except OSError as error:
            self._mistakes.append(Mistake(path.name, 0, "", f"cannot be read: {error.strerror}", ""))
        else:
            if owner != os.geteuid():
                self._concerns.append(Concern(str(path), f"owner {owner} {path}", owner=owner))
        finally:
            os.close(descriptor)
        return file

    def _look_at_directory(self) -> None:
        """Whoever may write to the directory can put another project file into it, be it one of this very account's."""
        found = os.stat(self._root)
        if who := others_may_write(found):
            self._concerns.append(Concern(str(self._root), f"writable by {who}: {self._root}", writable=who))
        if not is_trusted(found.st_uid):
            key = f"owner {found.st_uid} {self._root}"
            self._concerns.append(Concern(str(self._root), key, owner=found.st_uid))

    def _wrong(self, file: _File, keys: tuple[str, ...], why: str, remedy: str = "") -> None:
        self._mistakes.append(Mistake(file.path.name, file.line(*keys), ".".join(keys), why, remedy))

    def _known(self, file: _File, table: Mapping[str, Any], known: tuple[str, ...], above: tuple[str, ...]) -> None:
        """Gather keys that mean nothing."""
        for key in table:
            if key not in known:
                near = nearest(key, known)
                remedy = f"did you mean {near}?" if near else f"there are {', '.join(known)}"
                self._wrong(file, (*above, key), "this means nothing", remedy)

    def _table(self, file: _File, *keys: str) -> Mapping[str, Any]:
        """A table of a file; an empty one where it is not there or no table."""
        table: object = file.tables
        for at, key in enumerate(keys):
            table = table.get(key, {}) if isinstance(table, dict) else {}
            if not isinstance(table, dict):
                self._wrong(file, keys[: at + 1], "this is no table", f"write [{'.'.join(keys)}]")
                return {}
        return table if isinstance(table, dict) else {}

    def _text(self, file: _File, table: Mapping[str, Any], key: str, above: tuple[str, ...]) -> str:
        """A value that is text; "" where there is none."""
        value = table.get(key, "")
        if isinstance(value, str) and "\0" not in value and (value or key not in table):
            return value
        self._wrong(file, (*above, key), "this is no text", f'write {key} = "…"')
        return ""

    def _name(self, given: Mapping[str, Any]) -> str:
        """The project's name; its directory's where it has none."""
        name = self._text(self._main, given, "name", ("project",))
        if name and (why := bad_project_name(name)):
            self._wrong(self._main, ("project", "name"), why)
        return name or "".join(char if _fits_name(char) else "-" for char in os.path.basename(self._root))

    def _one_of(
        self, table: Mapping[str, Any], key: str, above: tuple[str, ...], words: list[str], default: str
    ) -> str:
        """A value that is one of some words."""
        value = table.get(key, default)
        if value in words:
            return str(value)
        near = nearest(str(value), words)
        self._wrong(
            self._main,
            (*above, key),
            f"{value!r} is none of {', '.join(words)}" if key in table else "this is missing",
            f'write {key} = "{near or default or words[0]}"',
        )
        return default or words[0]

    def _ledger(self) -> Path | None:
        for file in (self._local, self._main):
            if typed := self._text(file, self._table(file, "project"), "ledger", ("project",)):
                return Path(os.fsdecode(self._below(file, ("project", "ledger"), typed) or b"/"))
        return None

    def _datasets(self) -> Iterator[tuple[str, Dataset]]:
        tables, personal = self._table(self._main, "dataset"), self._table(self._local, "dataset")
        for name in personal:
            if name not in tables:
                self._wrong(self._local, ("dataset", name), f"{PROJECT_FILE} declares no such dataset")
        for name in tables:
            if not DATASET_NAME.fullmatch(name):
                self._wrong(self._main, ("dataset", name), "no name: letters, digits, - and _, at most 64")
                continue
            mistakes = len(self._mistakes)
            dataset = self._dataset(name)
            if len(self._mistakes) == mistakes:
                yield name, dataset

    def _dataset(self, name: str) -> Dataset:
        above = ("dataset", name)
        table, mine = self._table(self._main, *above), self._table(self._local, *above)
        self._known(self._main, table, _DATASET_KEYS, above)
        self._known(self._local, mine, _LOCAL_KEYS, above)
        use = self._one_of(table, "use", above, [each.value for each in Use], "")
        stored = self._one_of(table, "stored", above, [each.value for each in StoredAs], StoredAs.FILES.value)
        by = self._one_of(table, "by", above, [each.value for each in By], By.SIZE_AND_TIME.value)
        here, there = b"", Place("", b"")
        file, typed = self._given(table, mine, "here", above)
        if typed:
            here = self._below(file, (*above, "here"), typed)
            if here and holds(here, os.fsencode(self._root)):
                self._wrong(file, (*above, "here"), "the project itself is in it", "name a directory in the project")
        file, typed = self._given(table, mine, "there", above)
        if typed:
            there = self._there(file, (*above, "there"), typed)
        only, skip = (self._patterns(table, key, above) for key in ("only", "skip"))
        if stored in (StoredAs.BUNDLE, StoredAs.BY_DIRECTORY) and use == Use.RESULT:
            self._wrong(self._main, (*above, "stored"), "results come back as files", 'write stored = "files"')
        return Dataset(name, Use(use), here, there, only, skip, StoredAs(stored), By(by))

    def _given(
        self, table: Mapping[str, Any], mine: Mapping[str, Any], key: str, above: tuple[str, ...]
    ) -> tuple[_File, str]:
        """A place as typed, and in which file; the personal one goes first."""
        file, where = (self._local, mine) if key in mine else (self._main, table)
        typed = self._text(file, where, key, above)
        if key not in where:
            remedy = 'such as here = "chambers"' if key == "here" else 'such as there = "heron:fen/chambers"'
            self._wrong(self._main, (*above, key), "this is missing", remedy)
        return file, typed

    def _below(self, file: _File, keys: tuple[str, ...], typed: str) -> bytes:
        """A path of this machine, from the project's root, without links. One that leads out is a mistake, b""."""
        path = os.path.realpath(os.path.join(os.fsencode(self._root), os.fsencode(typed)))
        inside = holds(os.fsencode(self._root), path)
        if file is self._local:
            self._out += [] if inside else [f"{'.'.join(keys)} = {os.fsdecode(path)}"]
            return path
        if inside and not os.path.isabs(typed):
            return path
        why = "is a path of one machine" if os.path.isabs(typed) else "leads out of the project"
        remedy = "write it from the project's root" if inside else f"write your own path in {LOCAL_FILE}"
        self._wrong(file, keys, f"{typed} {why}", remedy)
        return b""

    def _there(self, file: _File, keys: tuple[str, ...], typed: str) -> Place:
        remedy = "name a directory on a node, such as heron:fen/chambers"
        try:
            place = parse_place(typed)
        except NoPlace:
            self._wrong(file, keys, f"{typed} is no place", remedy)
            return Place("", b"")
        if not place.node:
            self._wrong(file, keys, f"{typed} is no place on a node", remedy)
        elif b".." in place.path.split(b"/"):
            self._wrong(file, keys, f"{typed} climbs up again", remedy)
        elif not place.name or place.name == b"~":
            self._wrong(file, keys, f"{typed} has no name of its own", remedy)
        return Place(place.node, posixpath.normpath(place.path)) if place.path.startswith((b"/", b"@")) else place

    def _patterns(self, table: Mapping[str, Any], key: str, above: tuple[str, ...]) -> tuple[str, ...]:
        value = table.get(key, [])
        given = [value] if isinstance(value, str) else value
        if isinstance(given, list) and all(isinstance(each, str) and each for each in given):
            return tuple(given)
        self._wrong(self._main, (*above, key), "this is no list of patterns", f'write {key} = ["*.csv"]')
        return ()


_HEADER = re.compile(r"\s*\[([^\[\]]+)\]")
_KEY = re.compile(r"""\s*["']?([A-Za-z0-9_-]+)["']?\s*(?:=|\.)""")


def _lines(text: str) -> dict[tuple[str, ...], int]:
    """The lines on which tables and keys begin, as far as the text is laid out as people do."""
    found: dict[tuple[str, ...], int] = {}
    table: tuple[str, ...] = ()
    for number, line in enumerate(text.splitlines(), 1):
        if header := _HEADER.match(line):
            table = tuple(part.strip().strip("\"'") for part in header[1].split("."))
            found.setdefault(table, number)
        elif key := _KEY.match(line):
            found.setdefault((*table, key[1]), number)
    return found
