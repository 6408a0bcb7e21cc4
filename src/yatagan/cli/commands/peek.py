"""`yatagan peek`: a look into a file."""

from __future__ import annotations

import asyncio
import contextlib
import os
import sys
from base64 import b64encode
from typing import Any

import click

from yatagan.archives.compression import Compression
from yatagan.bundles.peeking import MOST, Peeked, PeekWish, peek, peek_end
from yatagan.bundles.see_through import SeeThrough
from yatagan.cli import shell_completion
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.context import App, as_json, no_questions, run, written
from yatagan.cli.terminal import terminal, text
from yatagan.config.units import parse_size
from yatagan.errors import BadPlace, StoreError
from yatagan.faults import Fault
from yatagan.places import Place, name_fields
from yatagan.portable.tar import BLOCK, is_header
from yatagan.stores.interface import Facts, Kind, Reader, Store

#: Lines that are shown unless others are asked for.
_LINES = 20
#: Seconds between two looks at a file that is followed.
_LOOK = 1.0
#: Bytes of a line of the hex view.
_ROW = 16
#: Control characters that text may hold.
_TEXT = frozenset(b"\t\n\r\f\x1b\x08")


@click.command(
    "peek",
    epilog="""\b
Examples:
  yatagan peek heron:runs/july/flux.log --end      # the last 20 lines
  yatagan peek heron:fen/stations.csv --lines 3
  yatagan peek heron:fen/raw.bin --bytes 256       # as hex
  yatagan peek heron:logs/flux.csv.gz              # unpacked on the way
  yatagan peek heron:fen.tar.zst/notes/week-1.txt  # a member
  yatagan peek heron:runs/july/flux.log --follow""",
)
@click.argument("place", shell_complete=shell_completion.places)
@click.option("--lines", type=click.IntRange(min=1), metavar="N", help=f"Show so many lines ({_LINES} unless you say).")
@click.option("--bytes", "size", callback=written(parse_size), metavar="SIZE", help="Show so many bytes instead.")
@click.option("--end", is_flag=True, help="Show the end instead of the beginning.")
@click.option("--follow", is_flag=True, help="Show the end, and then what comes, until Ctrl-C.")
@no_questions
@as_json
def peek_command(
    place: str,
    lines: int | None,
    size: int | None,
    end: bool,
    follow: bool,
    no_questions: bool,
    json_: bool,
) -> None:
    """Show the beginning or the end of the file PLACE. Only what is shown is fetched.

    Text is shown as lines, anything else as hex. What is packed with gzip, bzip2, xz or zstd is unpacked;
    ARCHIVE/MEMBER is what is in an archive. Where the output is no terminal, the bytes go there as they are.
    """
    if lines is not None and size is not None:
        raise click.UsageError("--lines and --bytes exclude each other", click.get_current_context())
    if follow and json_:
        raise click.UsageError("--follow and --json exclude each other", click.get_current_context())
    app = App.start(questions=not no_questions)
    where = app.place(place)
    wish = PeekWish(lines or _LINES if size is None else size, by_bytes=size is not None, end=end or follow)
    with contextlib.suppress(KeyboardInterrupt) if follow else contextlib.nullcontext():
        run(_peek(app, where, wish, follow=follow, json_=json_))


async def _peek(app: App, where: Place, wish: PeekWish, *, follow: bool, json_: bool) -> None:
    store = await app.open(app.source(where, commands=False))
    try:
        path = await store.resolve(where.path, follow=True)
        if follow:
            await _follow(store, path, wish)
            return
        found = await peek(store, SeeThrough(store, listed=False), path, wish)
    finally:
        await store.close()
    if json_:
        say_json(_as_json(where, found))
        return
    _write(found.data, found.begins or 0)
    for said in _said(where, found, wish):
        terminal.say(terminal.style(said, dim=True), err=True)


def _said(where: Place, found: Peeked, wish: PeekWish) -> list[str]:
    """What is to be said of what is shown, on standard error: it is no part of the file."""
    if not sys.stdout.isatty():
        return []
    packed = f", unpacked ({found.packed.value})" if found.packed is not Compression.PLAIN else ""
    if not found.data:
        return [f"it is empty{packed}"]
    of = f" of {text.size(found.size)}" if found.size is not None else ""
    shown = "all of it" if found.whole else f"the {'last' if wish.end else 'first'} {text.size(len(found.data))}{of}"
    cut = f"; a line is longer than {text.size(MOST)}, and is cut" if found.cut else ""
    inside = f"; an archive, see: {text.command('bundle', 'list', where)}" if is_header(found.data[:BLOCK]) else ""
    return [f"{shown}{packed}{cut}{inside}"]


def _write(data: bytes, begins: int) -> None:
    """Show bytes: as they are where that is no terminal; as lines if they are text, else as hex."""
    if not sys.stdout.isatty() or is_text(data):
        terminal.say_data(data.replace(b"\r\n", b"\n") if sys.stdout.isatty() else data)
    else:
        for line in hex_lines(data, begins):
            terminal.say(line)


def is_text(data: bytes) -> bool:
    """Whether bytes can be shown as lines of text: UTF-8, perhaps cut at either end, without odd control characters."""
    if any(byte < 32 and byte not in _TEXT for byte in data):
        return False
    for start in range(min(4, len(data) + 1)):
        for end in range(min(4, len(data) - start + 1)):
            with contextlib.suppress(UnicodeDecodeError):
                data[start : len(data) - end].decode("utf-8")
                return True
    return False


def hex_lines(data: bytes, begins: int) -> list[str]:
    """Bytes as hex: where they are in the file, their values, and what of them is ASCII."""
    lines = []
    for at in range(0, len(data), _ROW):
        row = data[at : at + _ROW]
        values = " ".join(f"{byte:02x}" for byte in row)
        shown = "".join(chr(byte) if 32 <= byte < 127 else "·" for byte in row)
        lines.append(f"{begins + at:08x}  {values:<{_ROW * 3 - 1}}  {shown}")
    return lines


async def _follow(store: Store, path: bytes, wish: PeekWish) -> None:
    """Show the end of a file, then what is appended; and a new file under its name from its beginning."""
    found = await store.look(path)
    if found is None:
        raise StoreError(Fault.MISSING, path, store=store.name)
    if found.kind is not Kind.FILE:
        see = f"look with: {text.command('list', Place(store.name, path))}"
        raise BadPlace(text.place(store.name, path), f"it is a {found.kind.value}", see)
    reader = await store.open(path)
    try:
        at = (await reader.facts()).size
        end = await peek_end(reader, at, wish)
        _write(end.data, end.begins or 0)
        while True:
            sys.stdout.flush()
            await asyncio.sleep(_LOOK)
            at = await _more(reader, at)
            there = await store.look(path)
            if there is not None and _is_another(there, await reader.facts(), at):
                terminal.say(terminal.style("it begins anew", dim=True), err=True)
                await reader.close()
                reader, at = await store.open(path), 0
                at = await _more(reader, at)
    finally:
        await reader.close()


def _is_another(there: Facts, opened: Facts, at: int) -> bool:
    """Whether another file has the name of the one that is followed, or that was cut."""
    renamed = None not in (there.inode, opened.inode) and there.inode != opened.inode
    return there.kind is Kind.FILE and (renamed or there.size < at)


async def _more(reader: Reader, at: int) -> int:
    """Show what a file has from here on. Returns its end."""
    while piece := await reader.read(at, 64 << 10):
        _write(piece, at)
        at += len(piece)
    return at


def _as_json(where: Place, found: Peeked) -> dict[str, Any]:
    contents: dict[str, str | None] = {"text": None, "bytes_b64": None}
    if is_text(found.data):
        try:
            contents["text"] = found.data.decode("utf-8")
        except UnicodeDecodeError:
            contents["bytes_b64"] = b64encode(found.data).decode()
    else:
        contents["bytes_b64"] = b64encode(found.data).decode()
    return {
        "node": where.node,
        **name_fields(where.path or os.fsencode(".")),
        "begins_at_byte": found.begins,
        "shown_bytes": len(found.data),
        "size_bytes": found.size,
        "whole": found.whole,
        "line_cut": found.cut,
        "packed": found.packed.value if found.packed is not Compression.PLAIN else None,
        **contents,
    }
