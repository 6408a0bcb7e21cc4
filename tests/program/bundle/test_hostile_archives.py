"""Archives that mean harm: each is unpacked by the program, does none, and is told in a word."""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import io
import os
import stat
import tarfile
import zipfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

import pytest

from conftest import Program, index_line, snapshot
from yatagan.bundles.read import check, list_members, open_bundle
from yatagan.bundles.threads import in_thread
from yatagan.errors import ArchiveTooLarge, BadArchive
from yatagan.portable import index
from yatagan.portable.tar import FILE, Damaged, Member, encode, padding
from yatagan.portable.zstd_frames import seek_table
from yatagan.stores.local import LocalStore
from yatagan.trees.patterns import EVERYTHING

Build = Callable[[], bytes]


def tar(*members: tuple[str, bytes, str | bytes] | tarfile.TarInfo, form: int = tarfile.PAX_FORMAT) -> bytes:
    """A tar of (name, type, contents or target)."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=form) as archive:
        for member in members:
            if isinstance(member, tarfile.TarInfo):
                archive.addfile(member)
                continue
            name, kind, contents = member
            info = tarfile.TarInfo(name)
            info.type, info.mtime, info.mode = kind, 1_700_000_000, 0o644
            if isinstance(contents, bytes):
                info.size = len(contents)
                archive.addfile(info, io.BytesIO(contents))
            else:
                info.linkname = contents
                archive.addfile(info)
    return out.getvalue()


def file(name: str, contents: bytes = b"harm") -> tuple[str, bytes, bytes]:
    return name, tarfile.REGTYPE, contents


def link(name: str, target: str) -> tuple[str, bytes, str]:
    return name, tarfile.SYMTYPE, target


def special(kind: bytes) -> tarfile.TarInfo:
    info = tarfile.TarInfo("special")
    info.type, info.devmajor, info.devminor = kind, 1, 3
    return info


def set_id() -> tarfile.TarInfo:
    info = tarfile.TarInfo("tool")
    info.mode = 0o6755
    return info


def raw(name: bytes, **facts: int) -> bytes:
    """A header of ours with a name that no library would write."""
    member = Member(name, FILE, 4, 0o644, 0, stored=4)._replace(**facts)  # type: ignore[arg-type]
    return encode(member) + b"harm" + bytes(padding(4)) + bytes(1024)


def with_record(record: bytes) -> bytes:
    """A member with a hand-made extended header."""
    head = encode(Member(b"ext", FILE, len(record), 0o644, 0, stored=len(record)))
    block = bytearray(head)
    block[156:157] = b"x"
    block[148:156] = b" " * 8
    block[148:156] = b"%06o\0 " % sum(block[:512])
    return bytes(block) + record + bytes(padding(len(record))) + raw(b"after")


def changed(data: bytes, at: int, new: bytes) -> bytes:
    """A header field overwritten, its checksum made right again."""
    block = bytearray(data)
    block[at : at + len(new)] = new
    block[148:156] = b" " * 8
    block[148:156] = b"%06o\0 " % sum(block[:512])
    return bytes(block)


def zip_of(*members: tuple[str, bytes, int]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, contents, mode in members:
            info = zipfile.ZipInfo(name)
            info.create_system, info.external_attr, info.compress_type = 3, mode << 16, zipfile.ZIP_DEFLATED
            archive.writestr(info, contents)
    return out.getvalue()


def sparse(regions: tuple[tuple[int, int], ...], size: int, stored: bytes) -> bytes:
    member = Member(b"sparse", FILE, size, 0o644, 0, regions=regions, stored=len(stored))
    return encode(member) + stored + bytes(padding(len(stored))) + bytes(1024)


_GOOD = ("good.csv", tarfile.REGTYPE, b"1,2\n")
_BOMB = bytes(100 << 20)

#: name -> how it is made, exit status, the word.
_ARCHIVES: dict[str, tuple[Build, int, str]] = {
    "absolute": (lambda: tar(file("/tmp/yatagan-harm")), 1, "begins at the root"),
    "climbs": (lambda: tar(file("../harm")), 1, "climbs out"),
    "climbs-inside": (lambda: tar(file("a/b/../../../harm")), 1, "climbs out"),
    "link-absolute": (lambda: tar(link("l", "/etc/passwd")), 1, "leads out"),
    "link-climbs": (lambda: tar(link("a/l", "../../outside")), 1, "leads out"),
    "through-its-link": (lambda: tar(file("d/x"), link("l", "d"), file("l/harm")), 1, "a link is in its way"),
    "through-a-link-there": (lambda: tar(file("there/harm")), 1, "a link is in its way"),
    "below-a-link-there": (lambda: tar(file("there/below/harm")), 1, "a link is in its way"),
    "directory-over-a-link": (lambda: tar(("there", tarfile.DIRTYPE, b"")), 1, "a link is in its way"),
    "onto-a-link-there": (lambda: tar(file("there")), 1, "is there already"),
    "hard-link-absolute": (lambda: tar(("h", tarfile.LNKTYPE, "/etc/passwd")), 1, "leads out"),
    "hard-link-climbs": (lambda: tar(("h", tarfile.LNKTYPE, "../outside/secret")), 1, "leads out"),
    "hard-link-through": (lambda: tar(("h", tarfile.LNKTYPE, "there/secret")), 1, "not in the archive"),
    "device": (lambda: tar(special(tarfile.CHRTYPE)), 1, "a device or FIFO"),
    "fifo": (lambda: tar(special(tarfile.FIFOTYPE)), 1, "a device or FIFO"),
    "set-id": (lambda: tar(set_id()), 0, "left out of 1 member"),
    "file-then-below": (lambda: tar(file("a"), file("a/b")), 1, "a file is where it needs a directory"),
    "no-name": (lambda: raw(b"\0"), 1, "no name"),
    "nul-in-name": (lambda: with_record(b"15 path=../h\0a\n"), 1, "climbs out"),
    "our-part": (lambda: tar(file(".yatagan-abc-1-0.part")), 1, "Yatagan uses itself"),
    "our-kept": (lambda: tar(file(".yatagan-kept/x/good.csv")), 1, "Yatagan uses itself"),
    "too-deep": (lambda: tar(file("d/" * 3000 + "f")), 1, "too many directories"),
    "long-name": (lambda: tar(file("n" * 300)), 1, "name too long"),
    "escape-in-name": (lambda: tar(file("../\x1b[2Jharm")), 1, "\\x1b[2J"),
    "bomb-gzip": (lambda: gzip.compress(tar(file("bomb", _BOMB)), 9), 5, "come out of each"),
    "bomb-zip": (lambda: zip_of(("bomb", _BOMB, 0o100644)), 5, "come out of each"),
    "zip-climbs": (lambda: zip_of(("../harm", b"harm", 0o100644)), 1, "climbs out"),
    "zip-link-out": (lambda: zip_of(("l", b"../outside", 0o120777)), 1, "leads out"),
    "zip-set-id": (lambda: zip_of(("tool", b"x", 0o104755)), 0, "left out of 1 member"),
    "header-of-2-GiB": (lambda: changed(with_record(b"x"), 124, b"20000000000\0"), 1, "extended header says"),
    "negative-size": (lambda: changed(raw(b"x"), 124, b"-0000000004\0"), 1, "says that it has"),
    "huge-size": (lambda: changed(raw(b"x"), 124, b"\x80" + b"\xff" * 11), 5, "holds more than"),
    "sparse-beyond": (lambda: sparse(((10, 4), (4, 4)), 100, b"harmharm"), 1, "cannot be true"),
    "sparse-exabyte": (lambda: sparse(((0, 4),), 1 << 62, b"harm"), 1, "oo large"),
    "size-beyond-numbers": (lambda: sparse(((0, 4),), 10**19, b"harm"), 1, "no disk can hold"),
    "records-lie": (lambda: with_record(b"9999 path=harm\n"), 1, "records cannot be read"),
    "truncated": (lambda: tar(_GOOD, file("x", b"x" * 5000))[:3000], 1, " can be read; --salvage goes on"),
    "broken-gzip": (lambda: gzip.compress(tar(_GOOD, file("x", os.urandom(90000))))[:60000], 1, "ends too soon"),
    "volume": (lambda: changed(raw(b"x"), 156, b"M"), 1, "another volume"),
}


@pytest.fixture
def jail(tmp_path: Path) -> Path:
    """A directory to unpack into, with a link in it that leads out, and things outside that must stay."""
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret").write_text("nobody's business")
    into = tmp_path / "into"
    into.mkdir()
    (into / "there").symlink_to("../outside")
    return into


async def list_and_check(hostile: Path) -> None:
    """What the other commands do with it: they come to an end, with a word of ours."""
    store = LocalStore(os.fsencode(hostile.parent))
    for work in (
        lambda bundle, stop: list(list_members(bundle, EVERYTHING, 200)),
        lambda bundle, stop: check(bundle, 200, lambda files, size: None, stop),
    ):
        with contextlib.suppress(Damaged, BadArchive, ArchiveTooLarge):
            async with open_bundle(store, os.fsencode(hostile)) as bundle:
                await in_thread(partial(work, bundle))


@pytest.mark.parametrize("name", _ARCHIVES)
def test_no_harm_is_done_and_it_is_told(program: Program, tmp_path: Path, jail: Path, name: str) -> None:
    build, status, word = _ARCHIVES[name]
    hostile = tmp_path / "hostile"
    hostile.write_bytes(build())
    before = snapshot(tmp_path / "outside")
    asyncio.run(list_and_check(hostile))
    done = program("bundle", "unpack", hostile, "--into", jail, expect=status)
    assert word in done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    assert snapshot(tmp_path / "outside") == before
    assert {entry.name for entry in tmp_path.iterdir()} <= {"outside", "into", "hostile", "home", "near"}
    assert not Path("/tmp/yatagan-harm").exists()
    assert (jail / "there").readlink() == Path("../outside")
    for path in jail.rglob("*"):
        found = path.lstat()
        assert not stat.S_IMODE(found.st_mode) & 0o6000
        assert stat.S_ISREG(found.st_mode) or stat.S_ISDIR(found.st_mode) or stat.S_ISLNK(found.st_mode)
        assert not path.name.endswith(".part")


def indexed(jail: Path, lines: list[bytes], data: bytes) -> Path:
    """A bundle with a forged index."""
    bundle = jail.parent / "forged.tar"
    bundle.write_bytes(data)
    totals = index.Totals(len(lines), len(lines), 4, len(data), "0" * 64)
    Path(f"{bundle}.members.jsonl").write_bytes(b"".join([index.first_line(b"x"), *lines, index.last_line(totals)]))
    return bundle


@pytest.mark.parametrize(
    ("member", "word"),
    [
        (Member(b"../outside/harm", FILE, 4, 0o644, 0, stored=4), "climbs out"),
        (Member(b"x", FILE, 4, 0o644, 0, stored=4), "not what the index says"),
        (Member(b"x", FILE, 1 << 40, 0o644, 0, stored=1 << 40), "more than"),
        (Member(b"x", "link", 0, 0o777, 0, b"/etc/passwd"), "leads out"),
        (Member(b"x", "device", 0, 0o666, 0), "a device or FIFO"),
    ],
)
def test_an_index_that_lies_does_no_harm(program: Program, jail: Path, member: Member, word: str) -> None:
    digest = "0" * 64 if member.kind == FILE else ""
    bundle = indexed(jail, [index_line(member, 512, digest)], raw(b"x"))
    done = program("bundle", "unpack", bundle, "--into", jail, expect=None)
    assert done.returncode in (1, 5)
    assert word in done.stderr + done.stdout
    assert [path.name for path in jail.iterdir()] == ["there"]


def test_a_seek_table_that_lies_does_no_harm(program: Program, jail: Path) -> None:
    import zstandard

    frame = zstandard.ZstdCompressor().compress(raw(b"x"))
    for sizes in ([(len(frame), 1)], [(len(frame), 1 << 30)], [(1, 2), (len(frame) - 1, 3)]):
        bundle = indexed(jail, [index_line(Member(b"x", FILE, 4, 0o644, 0, stored=4), 512, "0" * 64)], b"")
        data = frame + seek_table(sizes)
        bundle.write_bytes(data)
        totals = index.Totals(1, 1, 4, len(data), "0" * 64)
        beside = Path(f"{bundle}.members.jsonl")
        beside.write_bytes(
            beside.read_bytes().rpartition(b"\n")[0].rpartition(b"\n")[0] + b"\n" + index.last_line(totals)
        )
        program("bundle", "unpack", bundle, "--into", jail, expect=1)
        program("bundle", "list", bundle, expect=None)
        assert [path.name for path in jail.iterdir()] == ["there"]
