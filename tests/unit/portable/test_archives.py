"""The tar format and what packs it, compared with GNU tar, Python's tarfile and the packers' own commands."""

from __future__ import annotations

import bz2
import errno
import gzip
import io
import lzma
import os
import random
import subprocess
import tarfile
import zipfile
import zlib
from collections.abc import Iterable
from pathlib import Path

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from conftest import index_line, needs_zstd
from yatagan.archives.compression import FRAME, Bomb, Form, Seekable, compressed, read_seek_table
from yatagan.archives.open_archive import NoArchive, open_archive
from yatagan.portable import unpacking
from yatagan.portable.index import BadIndex, IndexEntry, Totals, first_line, last_line, read_lines, read_totals
from yatagan.portable.tar import DIRECTORY, END, FILE, HARD_LINK, LINK, Damaged, Member, encode, padding
from yatagan.portable.tar_input import Changed, Entry, HeaderOptions
from yatagan.portable.tar_reader import TarReader
from yatagan.portable.tar_writer import TarWriter


class Memory:
    """Bytes in memory, as a file of which any part can be read; counts what was."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.size = len(data)
        self.fetched = 0

    def read_at(self, offset: int, size: int) -> bytes:
        piece = self.data[offset : offset + size]
        self.fetched += len(piece)
        return piece


def read_all(data: bytes, ratio: int = 1_000_000) -> list[tuple[Member, bytes]]:
    archive = open_archive(Memory(data), ratio=ratio)
    found = []
    for member in archive.members():
        whole = bytearray(member.size)
        if member.kind == FILE:
            for offset, piece in archive.contents():
                whole[offset : offset + len(piece)] = piece
        found.append((member, bytes(whole)))
    return found


def tar_of(members: Iterable[tuple[Member, bytes]]) -> bytes:
    out = b""
    for member, contents in members:
        data = contents
        if member.regions is not None:
            data = b"".join(contents[at : at + size] for at, size in member.regions)
        out += encode(member) + data + bytes(padding(len(data)))
    return out + END


_PART = st.binary(min_size=1, max_size=60).map(lambda part: part.replace(b"\0", b"0").replace(b"/", b"1"))


_NAME = st.lists(_PART.filter(lambda part: part not in (b".", b"..")), min_size=1, max_size=8).map(b"/".join)


_LONG = st.integers(101, 300).map(lambda size: b"long/" + b"n" * (size - 5))


_TIME = st.one_of(
    st.integers(-(2**40), 2**40).map(lambda seconds: seconds * 1_000_000_000),
    st.integers(-4_000_000_000_000_000_000, 4_000_000_000_000_000_000),
)


_OWNER = st.integers(0, 2**31)


@st.composite
def _members(draw: st.DrawFn) -> tuple[Member, bytes]:
    kind = draw(st.sampled_from([FILE, FILE, DIRECTORY, LINK, HARD_LINK]))
    contents = draw(st.binary(max_size=1500)) if kind == FILE else b""
    target = draw(st.one_of(_NAME, _LONG)) if kind in (LINK, HARD_LINK) else b""
    regions = None
    if kind == FILE and draw(st.booleans()) and contents:
        cut = draw(st.integers(0, len(contents) - 1))
        contents = bytes(600) + contents[:cut] + bytes(1000) + contents[cut:] + bytes(50)
        regions = tuple(pair for pair in ((600, cut), (1600 + cut, len(contents) - 1650 - cut)) if pair[1])
    stored = sum(size for _, size in regions) if regions is not None else len(contents)
    member = Member(
        draw(st.one_of(_NAME, _LONG)),
        kind,
        len(contents),
        draw(st.integers(0, 0o7777)),
        draw(_TIME),
        target,
        draw(_OWNER),
        draw(_OWNER),
        b"otter",
        b"fenflux",
        regions,
        stored,
    )
    return member, contents


@given(st.lists(_members(), max_size=5))
def test_what_is_written_is_read_by_us_and_by_tarfile(written: list[tuple[Member, bytes]]) -> None:
    data = tar_of(written)
    assert [(member._replace(offset=None), contents) for member, contents in read_all(data)] == written
    with tarfile.open(fileobj=io.BytesIO(data), encoding="utf-8", errors="surrogateescape") as other:
        for (member, contents), theirs in zip(written, other.getmembers(), strict=True):
            assert os.fsencode(theirs.name) == member.name
            assert theirs.mode == member.mode
            assert (theirs.uid, theirs.gid, theirs.uname) == (member.uid, member.gid, "otter")
            assert abs(theirs.mtime - member.mtime_ns / 1e9) <= abs(member.mtime_ns / 1e9) * 1e-15 + 1e-6
            assert os.fsencode(theirs.linkname) == member.target
            stream = other.extractfile(theirs) if member.kind == FILE else None
            assert (stream.read() if stream else b"") == contents


@given(st.lists(_members(), max_size=4), st.sampled_from([tarfile.PAX_FORMAT, tarfile.GNU_FORMAT]))
def test_what_tarfile_writes_is_read(written: list[tuple[Member, bytes]], form: int) -> None:
    out = io.BytesIO()
    expected = []
    with tarfile.open(fileobj=out, mode="w", format=form, encoding="utf-8", errors="surrogateescape") as other:
        for member, contents in written:
            info = tarfile.TarInfo(os.fsdecode(member.name))
            info.type = {FILE: b"0", DIRECTORY: b"5", LINK: b"2", HARD_LINK: b"1"}[member.kind]
            info.mode, info.size, info.linkname = member.mode, member.size, os.fsdecode(member.target)
            info.mtime = member.mtime_ns // 1_000_000_000
            if form == tarfile.GNU_FORMAT:
                info.mtime = abs(info.mtime)
            info.uid, info.gid, info.uname, info.gname = member.uid, member.gid, "otter", "fenflux"
            expected.append((info.mtime * 1_000_000_000, member, contents))
            other.addfile(info, io.BytesIO(contents))
    for (mtime_ns, member, contents), (ours, read) in zip(expected, read_all(out.getvalue()), strict=True):
        assert ours.mtime_ns == mtime_ns
        assert read == contents
        for fact in ("name", "kind", "mode", "target", "uid", "gid", "owner"):
            assert getattr(ours, fact) == getattr(member, fact)


@given(st.binary(max_size=3000))
def test_noise_is_no_archive(noise: bytes) -> None:
    try:
        read_all(noise)
    except (Damaged, NoArchive):
        pass


@given(st.lists(_members(), min_size=1, max_size=3), st.data())
def test_a_damaged_archive_never_gives_more_than_it_holds(
    written: list[tuple[Member, bytes]], data: st.DataObject
) -> None:
    whole = bytearray(tar_of(written))
    for _ in range(data.draw(st.integers(1, 4))):
        whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    try:
        found = read_all(bytes(whole[: data.draw(st.integers(0, len(whole)))]))
    except (Damaged, NoArchive):
        return
    except MemoryError:
        raise AssertionError("it asked for all the memory there is") from None
    assert sum(member.stored for member, _ in found) <= len(whole)


def entries(root: bytes, name: bytes) -> list[Entry]:
    found = []
    for directory, names, files in os.walk(root):
        names.sort()
        for path in [directory, *(os.path.join(directory, each) for each in sorted(files + names))]:
            status = os.lstat(path)
            if os.path.islink(path) or path == directory or not os.path.isdir(path):
                kind = LINK if os.path.islink(path) else DIRECTORY if os.path.isdir(path) else FILE
                inside = os.path.join(name, os.path.relpath(path, root)) if path != root else name
                seen = status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino
                found.append(Entry(inside, path, kind, seen))
    return found


def bundle(root: bytes, form: Form = Form.TAR, level: int = 1, manner: HeaderOptions | None = None) -> bytes:
    making = TarWriter(entries(root, b"tree"), manner or HeaderOptions(), lambda *_: None)
    return b"".join(compressed(making.blocks(), form, level, 2))


@pytest.fixture
def tree(tmp_path: Path) -> bytes:
    """A tree with everything that is awkward."""
    root = os.fsencode(tmp_path / "tree")
    os.mkdir(root)
    rng = random.Random(7)
    for name, contents in {
        b"plain.csv": b"a,b\n" * 100,
        b"empty": b"",
        b"new\nline": b"x",
        b"bytes-\xff\xfe": rng.randbytes(5000),
        "übermäßig".encode() * 10: b"y" * 513,
        b"-": b"dash",
        b"big": rng.randbytes(3 << 20),
        b"edge": rng.randbytes(256 << 10),
    }.items():
        with open(os.path.join(root, name), "wb") as stream:
            stream.write(contents)
    deep = os.path.join(root, *[b"d" * 100] * 3)
    os.makedirs(deep)
    os.mkdir(os.path.join(root, b"hollow"))
    os.symlink(b"plain.csv", os.path.join(root, b"link"))
    os.symlink(b"../" + b"t" * 200, os.path.join(root, b"hollow", b"dangling"))
    for name, mtime_ns in ((b"plain.csv", -1_500_000_000), (b"empty", 1), (b"-", 10_000_000_000_000_000_000 // 2)):
        os.utime(os.path.join(root, name), ns=(0, mtime_ns))
    with open(os.path.join(root, b"sparse"), "wb") as stream:
        stream.truncate(40 << 20)
        stream.seek(20 << 20)
        stream.write(b"in the middle")
    os.chmod(os.path.join(root, b"plain.csv"), 0o4751)
    return root


def facts(root: bytes) -> dict[bytes, tuple[object, ...]]:
    found: dict[bytes, tuple[object, ...]] = {}
    for entry in entries(root, b""):
        status = os.lstat(entry.path)
        contents = os.readlink(entry.path) if entry.kind == LINK else b""
        if entry.kind == FILE:
            with open(entry.path, "rb") as stream:
                contents = zlib.crc32(stream.read()).to_bytes(4, "big")
        found[entry.name] = (entry.kind, contents, status.st_mode, status.st_mtime_ns)
    return found


_COMMANDS = {Form.TAR: "cat", Form.GZIP: "gzip -dc", Form.ZSTD: "zstd -dcq"}


@pytest.mark.parametrize("form", [Form.TAR, Form.GZIP, pytest.param(Form.ZSTD, marks=needs_zstd)])
def test_gnu_tar_and_the_packers_restore_all_of_it(tree: bytes, tmp_path: Path, form: Form) -> None:
    packed = tmp_path / f"tree.{form}"
    packed.write_bytes(bundle(tree, form))
    (tmp_path / "out").mkdir()
    command = f"{_COMMANDS[form]} {packed} | tar -xpf - -C {tmp_path}/out"
    subprocess.run(["bash", "-o", "pipefail", "-c", command], check=True)
    assert facts(os.fsencode(tmp_path / "out" / "tree")) == facts(tree)
    assert os.stat(tmp_path / "out/tree/sparse").st_blocks < 1000
    assert not subprocess.run(["tar", "-df", packed, "-C", tmp_path], capture_output=True, check=True).stderr


_DIALECTS = ["v7", "oldgnu", "gnu", "ustar", "pax", "pax --sparse-version=0.0", "pax --sparse-version=0.1"]


@pytest.mark.parametrize("dialect", _DIALECTS)
def test_what_gnu_tar_writes_is_read(tree: bytes, tmp_path: Path, dialect: str) -> None:
    if dialect in ("v7", "ustar"):
        for name in os.listdir(tree):  # what these dialects have no place for
            path = os.path.join(tree, name)
            if len(name) > 90 or name == b"hollow":
                subprocess.run(["rm", "-r", path], check=True)
            elif not os.path.islink(path) and name != b"big":
                os.utime(path, ns=(0, 1_700_000_000_000_000_000))
    sparse = "" if dialect in ("v7", "ustar") else "S"
    command = f"tar -c{sparse}f {tmp_path}/theirs.tar -C {tmp_path} --format={dialect} tree"
    subprocess.run(command, shell=True, check=True)
    theirs = {member.name: (member, contents) for member, contents in read_all((tmp_path / "theirs.tar").read_bytes())}
    exact = "pax" in dialect
    assert len(theirs) == len(entries(tree, b"tree"))
    for entry in entries(tree, b"tree"):
        member, contents = theirs[entry.name]
        status = os.lstat(entry.path)
        assert member.kind == entry.kind
        assert member.mode == status.st_mode & 0o7777
        assert member.mtime_ns == (status.st_mtime_ns if exact else status.st_mtime_ns // 10**9 * 10**9)
        if entry.kind == FILE:
            with open(entry.path, "rb") as stream:
                assert contents == stream.read()
        else:
            assert member.target == (os.readlink(entry.path) if entry.kind == LINK else b"")
    assert (theirs[b"tree/sparse"][0].regions is not None) == bool(sparse)


def test_archives_packed_by_others_are_read(tree: bytes, tmp_path: Path) -> None:
    plain = bundle(tree)
    expected = [contents for _, contents in read_all(plain)]
    many = [gzip.compress(plain[at : at + 1_000_000]) for at in range(0, len(plain), 1_000_000)]
    for packed in (
        bz2.compress(plain, 1),
        lzma.compress(plain, preset=0),
        gzip.compress(plain, 1),
        b"".join(many),
        zstandard.ZstdCompressor(level=1).compress(plain),
        b"".join(zstandard.ZstdCompressor().compress(plain[at : at + 999_999]) for at in range(0, len(plain), 999_999)),
    ):
        assert [contents for _, contents in read_all(packed)] == expected


def test_zip_archives_are_read(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "some.zip", "w", zipfile.ZIP_DEFLATED) as other:
        other.writestr("fen/", "")
        other.writestr("fen/ü.csv", "1,2\n" * 1000)
        other.writestr("fen/stored", "x", zipfile.ZIP_STORED)
        link = zipfile.ZipInfo("fen/link")
        link.external_attr, link.create_system = 0o120777 << 16, 3
        other.writestr(link, "ü.csv")
    found = {member.name: (member, contents) for member, contents in read_all((tmp_path / "some.zip").read_bytes())}
    assert found[b"fen"][0].kind == DIRECTORY
    assert found["fen/ü.csv".encode()][1] == b"1,2\n" * 1000
    assert found[b"fen/stored"][1] == b"x"
    assert (found[b"fen/link"][0].kind, found[b"fen/link"][0].target) == (LINK, "ü.csv".encode())


def test_the_same_tree_gives_the_same_bytes(tree: bytes, tmp_path: Path) -> None:
    manner = HeaderOptions(anonymous=True, latest_ns=1_000_000_000_000_000_000)
    first = {form: bundle(tree, form, manner=manner) for form in Form}
    subprocess.run(["cp", "-a", tree, tmp_path / "again"], check=True)
    os.utime(tmp_path / "again" / "big")
    for path in (b"", b"hollow"):
        os.utime(os.path.join(os.fsencode(tmp_path), b"again", path))
    assert first == {form: bundle(os.fsencode(tmp_path / "again"), form, manner=manner) for form in Form}
    assert max(member.mtime_ns for member, _ in read_all(first[Form.TAR])) == 1_000_000_000_000_000_000


def test_any_part_of_a_bundle_is_read_without_the_rest(tree: bytes) -> None:
    plain, packed = bundle(tree), Memory(bundle(tree, Form.ZSTD))
    frames = read_seek_table(packed)
    assert frames is not None and len(frames.plain) == -(-len(plain) // FRAME) + 1
    stream = Seekable(packed, frames)
    rng = random.Random(1)
    for _ in range(50):
        at, size = rng.randrange(len(plain)), rng.randrange(1, 2 * FRAME)
        assert stream.read_at(at, size) == plain[at : at + size]
    packed.fetched = 0
    assert stream.read_at(FRAME + 17, 100) == plain[FRAME + 17 : FRAME + 117]
    assert packed.fetched <= FRAME + 1000


@pytest.mark.parametrize("name", [b"plain.csv", b"big"])
def test_a_file_that_changes_while_it_is_read_is_no_member(
    tree: bytes, name: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The file grows before each look, as a log does."""
    path = os.path.join(tree, name)
    looks = {"fstat": os.fstat, "lstat": os.lstat}

    def growing(look: str) -> object:
        def after_a_write(what: object, **more: object) -> os.stat_result:
            if looks[look](what, **more).st_ino == inode:  # type: ignore[operator]
                with open(path, "ab") as stream:
                    stream.write(b"more")
            found: os.stat_result = looks[look](what, **more)  # type: ignore[operator]
            return found

        return after_a_write

    todo = entries(tree, b"tree")
    inode = os.stat(path).st_ino
    for look in looks:
        monkeypatch.setattr(os, look, growing(look))
    with pytest.raises(Changed) as raised:
        list(TarWriter(todo, HeaderOptions(), lambda *_: None).blocks())
    assert raised.value.path == path


def test_what_comes_out_of_a_bomb_is_bounded() -> None:
    member = Member(b"zeros", FILE, 1 << 30, 0o644, 0, stored=1 << 30)
    press = zlib.compressobj(9, wbits=31)
    packed = press.compress(encode(member)) + b"".join(press.compress(bytes(1 << 20)) for _ in range(300))
    with pytest.raises(Bomb):
        read_all(packed + press.flush(), ratio=200)


def test_disks_without_hard_links(tree: bytes, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """New names are given by a look and a rename; what is replaced is kept all the same."""

    def no_links(*paths: object, **more: object) -> None:
        raise OSError(errno.EPERM, "no hard links here")

    into = os.fsencode(tmp_path / "into")
    os.makedirs(os.path.join(into, b"tree"))
    with open(os.path.join(into, b"tree", b"plain.csv"), "wb") as stream:
        stream.write(b"mine")
    monkeypatch.setattr(os, "link", no_links)
    outcomes: list[unpacking.MemberOutcome] = []
    unpacker = unpacking.Unpacker(
        into, unpacking.UnpackOptions("run", unpacking.REPLACE, links_out=True), outcomes.append
    )
    archive = open_archive(Memory(bundle(tree)), ratio=200)
    for member in archive.members():
        unpacker.take(archive, member)
    unpacker.finish()
    unpacker.close()
    assert {outcome.what for outcome in outcomes} <= {unpacking.UNPACKED, unpacking.REPLACED, unpacking.LEFT}
    found, wanted = facts(os.path.join(into, b"tree")), facts(tree)
    found[b"plain.csv"] = wanted[b"plain.csv"]  # but for its set-id bit
    assert {name: each[:2] for name, each in found.items()} == {name: each[:2] for name, each in wanted.items()}
    with open(os.path.join(into, b".yatagan-kept", b"run", b"tree", b"plain.csv"), "rb") as kept:
        assert kept.read() == b"mine"


@given(st.lists(_members(), max_size=4))
def test_an_index_says_what_it_was_told(written: list[tuple[Member, bytes]]) -> None:
    totals = Totals(len(written), 1, 2, 3, "f" * 64)
    members = [member._replace(uid=0, gid=0, owner=b"", group=b"") for member, _ in written]
    lines = [first_line(b"b\xff.tar"), *(index_line(member, 512, "a" * 64) for member in members), last_line(totals)]
    told = [IndexEntry(member._replace(offset=512), "a" * 64) for member in members]
    assert list(read_lines(line.rstrip(b"\n") for line in lines)) == told
    assert read_totals(b"".join(lines)[-4096:]) == totals
    with pytest.raises(BadIndex):
        list(read_lines(lines[:-1]))


_START = first_line(b"x")


@pytest.mark.parametrize(
    "lines", [[], [b"{}"], [b"no"], [b"[]"], [_START, b'{"path": 1}'], [_START, b'{"members": "x"}'], [_START]]
)
def test_what_is_no_index_is_refused(lines: list[bytes]) -> None:
    with pytest.raises(BadIndex):
        list(read_lines(lines))


def test_reading_goes_on_behind_damage() -> None:
    files = [(Member(b"f%d" % number, FILE, 600, 0o644, 0, stored=600), b"%d" % number * 600) for number in range(5)]
    data = bytearray(tar_of(files))
    data[1536 * 2 : 1536 * 2 + 512] = b"\x55" * 512
    reader = TarReader(io.BytesIO(bytes(data)).read)
    names = []
    for _ in range(2):
        try:
            for member in reader.members():
                names.append(member.name)  # noqa: PERF401 what came before the damage must stay
        except Damaged as damaged:
            assert damaged.at == 1536 * 2
            assert reader.resume()
    assert names == [b"f0", b"f1", b"f3", b"f4"]
