"""For random rounds: trees, harm done to them, and what is true of two disks. Imports nothing of the program.

A tree is what a look finds below a directory, by relative path; the directory itself is `""`.
"""

from __future__ import annotations

import os
import random
import stat
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

#: Times that are set are whole numbers of these apart, so that no disk and no protocol takes two for one.
APART_S = 4
#: Some are before, and some long after, most of what is on a disk.
TIMES = range(1_000_000_000, 1_790_000_000, 9_000_004)
NAMES = ["a", "b", "flux.csv", "week 1", "-x", "new\nline", "gr\u00fcn", "\udcff.bin", "[0]", "%s", "plot"]
MODES = [0o644, 0o644, 0o600, 0o755, 0o444, 0o640]
MODES_OF_DIRECTORIES = [0o755, 0o755, 0o700, 0o750]
#: What our files are called that are not the user's.
OURS = (".yatagan-",)


class Thing(NamedTuple):
    """One file, directory or link: `data` is what is in it, or where it leads."""

    kind: str
    mode: int
    time_ns: int
    data: bytes


Tree = dict[str, Thing]


def look(root: Path) -> Tree:
    """What is below a directory; nothing of ours, and nothing where there is no directory."""
    found: Tree = {}
    if not root.is_dir():
        return found
    for above, inside, names in os.walk(root):
        inside[:] = [name for name in inside if not name.startswith(OURS)]
        here = os.path.relpath(above, root)
        for name in ("", *inside, *names):
            path = os.path.join(above, name) if name else above
            if (not name and here != ".") or name.startswith(OURS):
                continue
            found[os.path.normpath(os.path.join(here, name)) if name else ""] = thing(path)
    return found


def thing(path: str | Path) -> Thing:
    """What has a name."""
    status = os.lstat(path)
    if stat.S_ISLNK(status.st_mode):
        return Thing("link", 0, 0, os.fsencode(os.readlink(path)))
    if stat.S_ISDIR(status.st_mode):
        return Thing("directory", stat.S_IMODE(status.st_mode), status.st_mtime_ns, b"")
    with open(path, "rb") as file:
        return Thing("file", stat.S_IMODE(status.st_mode), status.st_mtime_ns, file.read())


def all_contents(*roots: Path) -> set[bytes]:
    """What is in any file below these, kept ones included, but for unfinished files."""
    found = set()
    for root in roots:
        for above, _, names in os.walk(root):
            for name in names:
                path = os.path.join(above, name)
                if not (name.startswith(OURS) and name.endswith(".part")) and os.path.isfile(path):
                    with open(path, "rb") as file:
                        found.add(file.read())
    return found


def part_files(root: Path) -> list[str]:
    """Unfinished files below a directory."""
    return [
        os.path.join(above, name)
        for above, _, names in os.walk(root)
        for name in names
        if name.startswith(OURS) and name.endswith(".part")
    ]


# -- what there is, and what is done to it -----------------------------------------------------------------


def grow(root: Path, rng: random.Random, largest: int) -> None:
    """Make a tree: a few directories, files of all sizes, links; the names are awkward."""
    root.mkdir(parents=True)
    directories = [root]
    for _ in range(rng.randrange(5)):
        made = rng.choice(directories) / rng.choice(NAMES)
        if not made.exists():
            made.mkdir()
            directories.append(made)
    for _ in range(rng.randrange(1, 16)):
        put(rng.choice(directories) / f"{rng.choice(NAMES)}{rng.randrange(9)}", rng, largest)
    for _ in range(rng.randrange(3)):
        link = rng.choice(directories) / f"link{rng.randrange(9)}"
        if not os.path.lexists(link):
            link.symlink_to(rng.choice(["a", "nowhere", "../b", "week 1"]))
    for directory in reversed(directories):
        set_facts(directory, rng, MODES_OF_DIRECTORIES)


def put(path: Path, rng: random.Random, largest: int) -> None:
    """Write a file, with a mode and a time."""
    size = rng.choice([0, 1, 300, 4096, 70_000, largest, rng.randrange(largest)])
    path.unlink(missing_ok=True)
    path.write_bytes(rng.randbytes(size) if rng.random() < 0.8 else bytes(size))
    set_facts(path, rng, MODES)


def set_facts(path: Path, rng: random.Random, modes: list[int]) -> None:
    """Set a mode and a time that differ from any that was set before, but by luck."""
    path.chmod(rng.choice(modes))
    seconds = rng.choice(TIMES) // APART_S * APART_S
    # A second has one fraction only: two files of one second are of one time, however finely that is compared.
    fraction = 123_456_789 if seconds // APART_S % 3 == 0 else 0
    os.utime(path, ns=(0, seconds * 10**9 + fraction))


def files_of(root: Path) -> list[Path]:
    """The files of a tree that are not ours."""
    return [root / path for path, each in sorted(look(root).items()) if each.kind == "file"]


def flipped(path: Path, rng: random.Random) -> None:
    """Another byte; the size, the mode and the time stay."""
    facts, data = path.stat(), bytearray(path.read_bytes())
    data[rng.randrange(len(data))] ^= 1 + rng.randrange(255)
    with open(path, "r+b") as file:
        file.write(data)
    os.utime(path, ns=(0, facts.st_mtime_ns))


def cut(path: Path, rng: random.Random) -> None:
    """A part is missing at its end."""
    facts = path.stat()
    os.truncate(path, rng.randrange(facts.st_size))
    os.utime(path, ns=(0, facts.st_mtime_ns))


def written(path: Path, rng: random.Random) -> None:
    """Other contents, later."""
    put(path, rng, 5000)


def touched(path: Path, rng: random.Random) -> None:
    """Another time."""
    facts = path.stat()
    os.utime(path, ns=(0, facts.st_mtime_ns + rng.choice([-40, 40, 3600]) * 10**9))


def changed_mode(path: Path, rng: random.Random) -> None:
    path.chmod(rng.choice([mode for mode in MODES if mode != stat.S_IMODE(path.stat().st_mode)]))


def removed(path: Path, rng: random.Random) -> None:
    path.unlink()


def renamed(path: Path, rng: random.Random) -> None:
    new = path.with_name(f"renamed-{rng.randrange(99)}")
    if not os.path.lexists(new):
        path.rename(new)


def added(path: Path, rng: random.Random) -> None:
    put(path.with_name(f"added-{rng.randrange(99)}"), rng, 5000)


#: What is done to a file of a tree. The first two need a byte to be there.
HARMS: list[Callable[[Path, random.Random], None]] = [
    flipped,
    cut,
    written,
    touched,
    changed_mode,
    removed,
    renamed,
    added,
]

#: Those that size, time or mode show.
SEEN = HARMS[1:]


def harm(
    root: Path, rng: random.Random, most: int, harms: Iterable[Callable[[Path, random.Random], None]] = HARMS
) -> None:
    """Do something to some files of a tree. The times of directories stay: they are set by who made them last."""
    times = {
        path: path.stat().st_mtime_ns for path in [root, *root.rglob("*")] if path.is_dir() and not path.is_symlink()
    }
    for _ in range(rng.randrange(most + 1)):
        files = files_of(root)
        if not files:
            break
        path = rng.choice(files)
        what = rng.choice(list(harms))
        if path.stat().st_size or what not in (flipped, cut):
            what(path, rng)
    for path, time_ns in times.items():
        os.utime(path, ns=(0, time_ns))


# -- what is true -------------------------------------------------------------------------------------------


def same_time(one: Thing, other: Thing) -> bool:
    """Whether two times are one: those that were set are further apart than any disk or protocol rounds."""
    return abs(one.time_ns - other.time_ns) < 10**9


def unlike(source: Tree, there: Tree, *, times: bool = True) -> list[str]:
    """What of a source is not at its destination as it is in the source. What else is there is not looked at."""
    found = []
    for path, one in source.items():
        other = there.get(path)
        if other is None:
            found.append(f"{path!r} is missing")
        elif (one.kind, one.data) != (other.kind, other.data):
            found.append(f"{path!r} has other contents")
        elif one.mode != other.mode:
            found.append(f"{path!r} has mode {other.mode:o}, not {one.mode:o}")
        elif times and one.kind != "link" and not same_time(one, other):
            found.append(f"{path!r} has time {other.time_ns}, not {one.time_ns}")
    return found


def torn(now: Tree, before: Tree, sources: Iterable[Tree]) -> list[str]:
    """Files with final names that are neither what was there nor what was carried."""
    whole = {each.data for tree in (before, *sources) for each in tree.values() if each.kind == "file"}
    return [path for path, each in now.items() if each.kind == "file" and each.data not in whole]


def differences(first: Tree, second: Tree, *, by_contents: bool) -> dict[str, tuple[str, set[str]]]:
    """How each entry compares, by path: an outcome, and in what two differ. Renamed files are on one side only."""
    found: dict[str, tuple[str, set[str]]] = {}
    for path in first.keys() | second.keys():
        one, other = first.get(path), second.get(path)
        if one is None or other is None:
            found[path] = ("only_second" if one is None else "only_first", set())
        elif aspects := set(_aspects(one, other, by_contents)):
            decisive = {"kind", "size", "target", "contents"} | (set() if by_contents else {"time"})
            found[path] = ("different" if aspects & decisive else "facts_differ", aspects)
    return found


def _aspects(one: Thing, other: Thing, by_contents: bool) -> Iterator[str]:
    if one.kind != other.kind:
        yield "kind"
        return
    if one.kind == "link":
        if one.data != other.data:
            yield "target"
        return
    if len(one.data) != len(other.data):
        yield "size"
    elif by_contents and one.data != other.data:
        yield "contents"
    if one.kind == "file" and not same_time(one, other):
        yield "time"
    if one.mode != other.mode:
        yield "mode"
