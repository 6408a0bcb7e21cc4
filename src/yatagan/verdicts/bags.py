"""Bags: what RFC 8493 asks of one, clause by clause. No I/O.

A bag is a directory with its payload in `data/`, manifests of checksums, and tag files that describe it. It is complete
when every file is there that should be, and valid when every checksum agrees as well. A problem names the clause.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from yatagan.digests.algorithms import by_name
from yatagan.stores.interface import Kind
from yatagan.trees.scan import Tree

DECLARATION, INFO, FETCH, PAYLOAD = b"bagit.txt", b"bag-info.txt", b"fetch.txt", b"data"
#: Versions that are understood. In the older ones a percent sign in a manifest means itself.
_VERSIONS = frozenset({"1.0", "0.97", "0.96", "0.95", "0.94", "0.93"})
#: Elements of bag-info.txt that must be there once at most.
_ONCE = frozenset({"payload-oxum"})
_MANIFEST = re.compile(rb"(tag)?manifest-([0-9a-z]+)\.txt")
_LINE = re.compile(r"([0-9a-fA-F]+)[ \t]+\*?(.+)", re.DOTALL)
_FETCHED = re.compile(r"(\S+)[ \t]+(\d+|-)[ \t]+(.+)", re.DOTALL)
_LABEL = re.compile(r"([^\s:](?:[^:]*[^\s:])?):(?:[ \t](.*))?", re.DOTALL)
_OXUM = re.compile(r"(\d+)\.(\d+)")


@dataclass(frozen=True, slots=True)
class BagProblem:
    """What is wrong with a bag: the clause of RFC 8493, what is so, and the file that it is about."""

    clause: str
    why: str
    path: bytes = b""


@dataclass(frozen=True, slots=True)
class Manifest:
    """A manifest: its file, the algorithm, and the digests by path below the bag."""

    file: bytes
    algorithm: str
    digests: dict[bytes, str]

    @property
    def of_tags(self) -> bool:
        """Whether it lists tag files, and not the payload."""
        return self.file.startswith(b"tag")


@dataclass(slots=True)
class Bag:
    """A bag as its tag files describe it. `fetched`: files that are to be had elsewhere, by path."""

    version: str = ""
    manifests: list[Manifest] = field(default_factory=list)
    info: list[tuple[str, str]] = field(default_factory=list)
    fetched: dict[bytes, str] = field(default_factory=dict)
    problems: list[BagProblem] = field(default_factory=list)


def tag_files(tree: Tree) -> list[bytes]:
    """The files that must be read to know a bag."""
    known = {DECLARATION, INFO, FETCH}
    return sorted(
        path
        for path in tree.entries
        if tree.entries[path].kind is Kind.FILE and (path in known or _MANIFEST.fullmatch(path))
    )


def read_bag(tree: Tree, texts: Mapping[bytes, bytes]) -> Bag:
    """Read a bag's tag files, and check that it is complete. `texts`: the contents of `tag_files`."""
    return _BagReading(tree, texts).read()


class _BagReading:
    def __init__(self, tree: Tree, texts: Mapping[bytes, bytes]) -> None:
        self._tree = tree
        self._texts = texts
        self._bag = Bag()
        self._encoding = "utf-8"

    def read(self) -> Bag:
        self._declaration()
        for path in sorted(self._texts):
            if (named := _MANIFEST.fullmatch(path)) is not None:
                self._manifest(path, named[2].decode())
        if FETCH in self._texts:
            self._fetch(self._lines(FETCH, "2.2.3"))
        if INFO in self._texts:
            self._info(self._lines(INFO, "2.2.2"))
        self._complete()
        return self._bag

    def _wrong(self, clause: str, why: str, path: bytes = b"") -> None:
        self._bag.problems.append(BagProblem(clause, why, path))

    def _is_there(self, path: bytes, kind: Kind = Kind.FILE) -> bool:
        return path in self._tree.entries and self._tree.entries[path].kind is kind

    # -- tag files ---------------------------------------------------------------------------------------

    def _declaration(self) -> None:
        """bagit.txt: two lines, and nothing else."""
        if DECLARATION not in self._texts:
            self._wrong("2.1.1", "there is no bagit.txt", DECLARATION)
            return
        data = self._texts[DECLARATION]
        if data.startswith(b"\xef\xbb\xbf"):
            self._wrong("2.1.1", "it begins with a byte order mark", DECLARATION)
            data = data[3:]
        lines = _split(data.decode("utf-8", "replace"))
        version = re.fullmatch(r"BagIt-Version: (\d+\.\d+)", lines[0]) if lines else None
        encoding = re.fullmatch(r"Tag-File-Character-Encoding: (\S+)", lines[1]) if len(lines) > 1 else None
        if version is None or encoding is None or len(lines) != 2:
            self._wrong("2.1.1", "it must be the two lines BagIt-Version and Tag-File-Character-Encoding", DECLARATION)
            return
        self._bag.version = version[1]
        if version[1] not in _VERSIONS:
            self._wrong("2.1.1", f"version {version[1]} is not known", DECLARATION)
        try:
            "".encode(encoding[1])
            self._encoding = encoding[1]
        except LookupError:
            self._wrong("2.1.1", f"the encoding {encoding[1]} is not known", DECLARATION)

    def _lines(self, path: bytes, clause: str) -> list[str]:
        """The lines of a tag file in the bag's encoding."""
        data = self._texts[path]
        if data.startswith(b"\xef\xbb\xbf"):
            self._wrong("2.3", "it begins with a byte order mark", path)
            data = data[3:]
        try:
            return _split(data.decode(self._encoding))
        except UnicodeDecodeError:
            self._wrong("2.3", f"it is not in the encoding {self._encoding}", path)
            return []

    def _manifest(self, file: bytes, spelled: str) -> None:
        algorithm = by_name(spelled)
        clause = "2.2.1" if file.startswith(b"tag") else "2.1.3"
        if algorithm is None:
            self._wrong("2.4", f"the algorithm {spelled} is not known, and its checksums cannot be compared", file)
            return
        manifest = Manifest(file, algorithm.name, {})
        for line in self._lines(file, clause):
            found = _LINE.fullmatch(line)
            if found is None:
                self._wrong(clause, f"not a line of a checksum and a path: {line[:60]!r}", file)
                continue
            digest, path = found[1].lower(), self._path(found[2])
            if len(digest) != algorithm.hex_digits:
                self._wrong("2.4", f"{len(digest)} hex digits are no checksum of {algorithm.name}", path)
            elif self._is_sound(path, file) and self._belongs(path, manifest):
                if path in manifest.digests:
                    self._wrong(clause, f"it is listed twice in {file.decode()}", path)
                manifest.digests[path] = digest
        self._bag.manifests.append(manifest)

    def _path(self, written: str) -> bytes:
        """A path as a manifest writes it."""
        if self._bag.version == "1.0":
            if re.search("%(?!0[AaDd]|25)", written):
                self._wrong("2.1.3", "a percent sign in a path must be written as %25", written.encode())
            written = re.sub("%(0[AaDd]|25)", lambda found: chr(int(found[1], 16)), written)
        path = written.encode(self._encoding, "surrogateescape") if self._encoding else written.encode()
        return path[2:] if path.startswith(b"./") else path

    def _is_sound(self, path: bytes, file: bytes) -> bool:
        """Whether a path stays in the bag."""
        parts = path.split(b"/")
        if path.startswith((b"/", b"~")) or b".." in parts or b"" in parts or re.match(rb"[A-Za-z]:\\", path):
            self._wrong("5.1", f"a path in {file.decode()} leads out of the bag", path)
            return False
        return True

    def _belongs(self, path: bytes, manifest: Manifest) -> bool:
        """Whether a file may be in a manifest."""
        in_payload = path.startswith(PAYLOAD + b"/")
        if manifest.of_tags and (in_payload or (_MANIFEST.fullmatch(path) and path.startswith(b"tag"))):
            self._wrong("2.2.1", "a tag manifest must not list payload or tag manifests", path)
            return False
        if not manifest.of_tags and not in_payload:
            self._wrong("2.1.3", "a payload manifest lists only what is in data/", path)
            return False
        return True

    def _fetch(self, lines: Iterable[str]) -> None:
        for line in lines:
            found = _FETCHED.fullmatch(line)
            if found is None:
                self._wrong("2.2.3", f"not a line of a URL, a length and a path: {line[:60]!r}", FETCH)
                continue
            path = self._path(found[3])
            if self._is_sound(path, FETCH):
                if not path.startswith(PAYLOAD + b"/"):
                    self._wrong("2.2.3", "fetch.txt lists only what belongs in data/", path)
                self._bag.fetched[path] = found[1]

    def _info(self, lines: Iterable[str]) -> None:
        """bag-info.txt: labels and values; an indented line goes on."""
        info = self._bag.info
        for line in lines:
            if line[:1] in (" ", "\t"):
                if not info:
                    self._wrong("2.2.2", "it begins with a line that continues none", INFO)
                    continue
                label, value = info.pop()
                info.append((label, f"{value} {line.strip()}"))
            elif (found := _LABEL.fullmatch(line)) is None:
                self._wrong("2.2.2", f"not a line of a label and a value: {line[:60]!r}", INFO)
            else:
                info.append((found[1], (found[2] or "").strip()))
        labels = [label.lower() for label, _ in info]
        for label in sorted(_ONCE & set(labels)):
            if labels.count(label) > 1:
                self._wrong("2.2.2", f"{label} must not be there twice", INFO)
        for label, value in info:
            if label.lower() == "payload-oxum":
                self._oxum(value)

    def _oxum(self, value: str) -> None:
        found = _OXUM.fullmatch(value)
        if found is None:
            self._wrong("2.2.2", f"Payload-Oxum must be BYTES.FILES, and is {value!r}", INFO)
            return
        if any(path not in self._tree.entries for path in self._bag.fetched):
            return  # what is to be fetched is counted too
        there = [self._tree.entries[path].size for path in payload_of(self._tree)]
        if (sum(there), len(there)) != (int(found[1]), int(found[2])):
            self._wrong("2.2.2", f"Payload-Oxum is {value}, and data/ holds {sum(there)}.{len(there)}", INFO)

    # -- complete ----------------------------------------------------------------------------------------

    def _complete(self) -> None:
        """Whether every file is there that should be, and no other in the payload."""
        if not self._is_there(PAYLOAD, Kind.DIRECTORY):
            self._wrong("2.1.2", "there is no directory data/", PAYLOAD)
        payload = [each for each in self._bag.manifests if not each.of_tags]
        if not payload:
            self._wrong("2.1.3", "there is no payload manifest, such as manifest-sha256.txt")
        for manifest in self._bag.manifests:
            for path in sorted(manifest.digests):
                if not self._is_there(path):
                    where = self._bag.fetched.get(path)
                    why = f"it is to be fetched from {where}" if where else f"{manifest.file.decode()} lists it"
                    self._wrong("3", f"it is not there; {why}", path)
        every = self._bag.version == "1.0"
        for path in payload_of(self._tree):
            lacking = [each.file.decode() for each in payload if path not in each.digests]
            if payload and lacking and (every or len(lacking) == len(payload)):
                self._wrong("2.1.3", f"it is in data/, and {lacking[0]} does not list it", path)
        for path in sorted(self._bag.fetched):
            if not all(path in each.digests for each in payload):
                self._wrong("2.2.3", "fetch.txt lists it, and a payload manifest does not", path)
        for path, facts in self._tree.entries.items():
            if facts.kind not in (Kind.FILE, Kind.DIRECTORY):
                self._wrong("2.1.2", f"a {facts.kind.value} has no contents to be listed", path)


def payload_of(tree: Tree) -> Iterator[bytes]:
    """The files of a payload."""
    return (path for path in sorted(tree.entries.of_kind(Kind.FILE)) if path.startswith(PAYLOAD + b"/"))


def _split(text: str) -> list[str]:
    """The lines of a tag file, which may end with LF, CR or CRLF."""
    lines = re.split(r"\r\n|\n|\r", text)
    return [line for line in lines if line.strip()]


def compare_digests(bag: Bag, made: Mapping[str, Mapping[bytes, str]]) -> Iterator[BagProblem]:
    """The files whose digests differ. `made`: by algorithm and path, of those that could be read."""
    for manifest in bag.manifests:
        for path, digest in sorted(manifest.digests.items()):
            found = made.get(manifest.algorithm, {}).get(path)
            if found is not None and found != digest:
                yield BagProblem("3", f"its contents are not those that {manifest.file.decode()} lists", path)


# -- writing -------------------------------------------------------------------------------------------------


def declaration() -> bytes:
    """bagit.txt."""
    return b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"


def manifest_of(digests: Iterable[tuple[bytes, str]]) -> bytes:
    """A manifest of files by path below the bag. Raises ValueError for a name that is not UTF-8."""
    lines = []
    for path, digest in digests:
        name = path.decode("utf-8").replace("%", "%25").replace("\r", "%0D").replace("\n", "%0A")
        lines.append(f"{digest}  {name}\n")
    return "".join(lines).encode()


def info_of(fields: Iterable[tuple[str, str]]) -> bytes:
    """bag-info.txt."""
    return "".join(f"{label}: {value}\n" for label, value in fields).encode()
