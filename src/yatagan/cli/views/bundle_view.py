"""Bundles in words, and for scripts: made, listed, unpacked, checked."""

from __future__ import annotations

import os
import posixpath
import stat
from collections.abc import Sequence

from yatagan.bundles.make import MadeBundle
from yatagan.bundles.read import Bundle, Damage, MemberDifference, ReadResult
from yatagan.cli.answers.json_answer import say_json
from yatagan.cli.answers.json_fields import evidence_json
from yatagan.cli.answers.ledger_answer import record_json
from yatagan.cli.terminal import terminal, text
from yatagan.cli.words.record_words import record_row
from yatagan.operations.bundle_make import NewBundle
from yatagan.operations.bundle_read import ArchiveChecked, Unpacked
from yatagan.places import Place, holds, name_fields
from yatagan.portable import member_names, unpacking
from yatagan.portable.index import SUFFIX, IndexEntry
from yatagan.portable.tar import DIRECTORY, FILE, Damaged

#: Told one by one before the rest is only counted.
_SHOWN = 20


_REASONS = {
    member_names.ABSOLUTE: "its name begins at the root of the disk",
    member_names.CLIMBS: "its name climbs out of the directory",
    member_names.EMPTY: "it has no name that a file could have",
    member_names.OURS: "its name is one that Yatagan uses itself",
    member_names.THROUGH_LINK: "a link is in its way",
    member_names.THROUGH_FILE: "a file is where it needs a directory",
    member_names.LEADS_OUT: "a link that leads out of the directory (--links-out creates it anyway)",
    member_names.SPECIAL: "a device or FIFO",
    member_names.NO_TARGET: "a link to something that is not in the archive",
    member_names.TOO_DEEP: "too many directories above it",
    member_names.DIFFERENT: "its contents are not what the index says",
}


_DIFFERENCES = {
    MemberDifference.CONTENTS: "its contents are not what the index says",
    MemberDifference.FACTS: "its mode, time, size or target is not what the index says",
    MemberDifference.NOT_LISTED: "the index does not name it",
    MemberDifference.MISSING: "the index names it, and it is not there",
}


def _shown(where: Place) -> str:
    """A place as text, relative if it is below the working directory."""
    here = os.getcwdb()
    if where.node or not holds(here, where.path):
        return text.place(where.node, where.path)
    return text.show(posixpath.relpath(where.path, here))


def tell_made(bundle: NewBundle, json_: bool) -> None:
    """Show what was made, and how to use it."""
    where, contents, made, recipe = bundle.where, bundle.contents, bundle.made, bundle.recipe
    totals = made.totals
    if json_:
        say_json(
            {
                "node": where.node,
                **name_fields(where.path),
                **name_fields(where.path + SUFFIX, "index"),
                "archive": recipe.form.value,
                "level": recipe.level,
                "members": totals.members,
                "files": totals.files,
                "size_bytes": totals.size,
                "bundle_bytes": totals.stored,
                "bundle_sha256": totals.digest,
                "seconds": round(made.seconds, 3),
                "evidence": evidence_json({bundle.evidence: 1}),
                "skipped": contents.skipped,
                "not_bundled": [name_fields(path) for path in contents.special],
                **record_json(bundle.record),
            }
        )
        return
    shown = _shown(where)
    terminal.say(terminal.style(f"Bundled into {shown}", bold=True))
    others = totals.members - totals.files
    share = f", {totals.stored / totals.size:.0%} of that" if totals.size else ""
    rate = text.rate(totals.files, totals.size, made.seconds)
    special = ", ".join(text.show(path) for path in contents.special[:3])
    name = text.show(posixpath.basename(where.path))
    text.facts(
        [
            ("before", f"{text.count(totals.files, 'file')}, {text.size(totals.size)}{_and_others(others)}"),
            ("after", f"{text.size(totals.stored)}{share}"),
            ("took", f"{text.duration(made.seconds)}{f', {rate}' if rate else ''}"),
            (
                "skipped",
                f"{text.count(contents.skipped, 'entry', 'entries')} left out by patterns" * bool(contents.skipped),
            ),
            ("not in it", f"{special}: neither files, directories nor links" if special else ""),
            ("proof", _proof(where, made)),
            ("index", text.show(posixpath.basename(where.path + SUFFIX))),
            ("unpack", f"tar xf {text.quoted(name)}, or: {text.command('bundle', 'unpack', shown)}"),
            record_row(bundle.record),
        ]
    )


def _and_others(others: int) -> str:
    return f"; {text.count(others, 'directory or link', 'directories and links')}" if others else ""


def _proof(where: Place, made: MadeBundle) -> str:
    if not where.node:
        return ""
    if made.proven:
        return f"{where.node} hashed the bundle after it was synced (on-node)"
    return f"none: {where.node} runs no commands; to read it back: {text.command('bundle', 'check', where)}"


def show_listing(lines: Sequence[IndexEntry], damage: str) -> None:
    """Show members as a table, with totals, and whether `damage` has cut the list."""
    rows = []
    for line in lines:
        member = line.member
        name = text.show(member.name) + "/" * (member.kind == DIRECTORY)
        if member.target:
            name += " -> " + text.show(member.target)
        bits = _TYPE_BITS.get(member.kind, 0)
        size = text.size(member.size) if member.kind == FILE else "-"
        rows.append((stat.filemode(bits | member.mode), size, text.moment(member.mtime_ns), name))
    if rows:
        text.table(("mode", "size", "changed", "name"), rows, right=(1,))
    files = [line.member for line in lines if line.member.kind == FILE]
    others = len(lines) - len(files)
    size = text.size(sum(member.size for member in files))
    terminal.say(
        terminal.style(
            f"{text.count(len(files), 'file')}, {size}{_and_others(others)}{_CUT if damage else ''}", bold=True
        )
    )


#: What is added where an archive could not be read to its end.
_CUT = "; as far as it can be read"
_TYPE_BITS = {FILE: stat.S_IFREG, DIRECTORY: stat.S_IFDIR, "link": stat.S_IFLNK, "fifo": stat.S_IFIFO}


def tell_unpacked(unpacked: Unpacked, json_: bool) -> None:
    """Show what was unpacked, and what was not and why."""
    where, path, into = unpacked.request.place, unpacked.path, unpacked.into
    bundle, read, record = unpacked.bundle, unpacked.read, unpacked.record
    counts = read.counts
    if json_:
        say_json(
            {
                "node": where.node,
                **name_fields(path),
                **name_fields(into.path, "into"),
                "into_node": into.node,
                "good": read.good,
                "files": read.files,
                "size_bytes": read.size,
                "checked_by_index": read.proven,
                "fetched_bytes": bundle.fetched,
                "counts": {what.replace(" ", "_"): count for what, count in sorted(counts.items())},
                "set_id_bits_left_out": read.bits,
                "damage": [{"at_byte": each.at, "reason": each.why} for each in read.damage],
                "members": [
                    {**name_fields(each.member.name), "outcome": each.what, "reason": each.why}
                    for each in read.reported
                ],
                **record_json(record),
            }
        )
        return
    from_, to = _shown(Place(where.node, path)), _shown(into)
    terminal.say(terminal.style(f"Unpacked {from_} into {to}{_CUT if read.damage else ''}", bold=True))
    rate = text.rate(read.files, read.size, unpacked.seconds)
    text.facts(
        [
            ("unpacked", f"{text.count(read.files, 'file')}, {text.size(read.size)}{f'; {rate}' if rate else ''}"),
            ("left as is", f"{text.number(counts[unpacking.LEFT])}, there already" if counts[unpacking.LEFT] else ""),
            (
                "replaced",
                f"{text.number(counts[unpacking.REPLACED])}; the old ones are in .yatagan-kept/{unpacked.kept_by}"
                if counts[unpacking.REPLACED]
                else "",
            ),
            ("proof", _held(read, bundle) if read.files else ""),
            ("fetched", _fetched(bundle) if where.node and not into.node else ""),
            ("set-id bits", f"left out of {text.count(read.bits, 'member')}" if read.bits else ""),
            record_row(record),
        ]
    )
    _tell_members(read)
    _tell_damage(read, unpacked.request.salvage)
    if counts[unpacking.IN_THE_WAY]:
        text.warn(
            f"{text.number(counts[unpacking.IN_THE_WAY])} not unpacked: the name is taken; "
            "--if-there replace-older or replace keeps the old"
        )


def _fetched(bundle: Bundle) -> str:
    index = bundle.index_file.size if bundle.index_file is not None else 0
    return f"{text.size(bundle.fetched)} of {text.size(bundle.source.size + index)}"


def _held(read: ReadResult, bundle: Bundle) -> str:
    if read.strays:
        return "none: the index beside it is of another archive"
    if bundle.index_file is None:
        return "none: there is no index, so nothing tells what the contents should be"
    return "every unpacked file was compared with its digest in the index"


def _tell_members(read: ReadResult) -> None:
    shown = [each for each in read.reported if each.what != unpacking.REPLACED]
    for each in shown[:_SHOWN]:
        if each.what == unpacking.IN_THE_WAY:
            why = f"a {each.why} is there already" if each.why != "something new" else "something new has its name"
        else:
            why = _REASONS.get(each.why) or _DIFFERENCES.get(each.what) or each.why  # type: ignore[call-overload]
        text.warn(f"{text.show(each.member.name)}: {each.what}: {text.show(why)}")
    if len(shown) > _SHOWN:
        text.warn(f"and {text.number(len(shown) - _SHOWN)} more: --json shows all")


def _tell_damage(read: ReadResult, salvaged: bool) -> None:
    for each in read.damage[:_SHOWN]:
        text.warn(damage_words(each))
    if read.damage:
        good = f"{text.count(read.files, 'file')}, {text.size(read.size)}"
        text.warn(f"{good} can be read" + ("" if salvaged else "; --salvage goes on behind the damage"))


def damage_words(damage: Damaged | Damage | None) -> str:
    """Where an archive is damaged, and how; "" where it is not."""
    if damage is None:
        return ""
    return f"the archive is damaged at byte {text.number(damage.at)} of its contents: {text.show(damage.why)}"


def tell_checked(checked: ArchiveChecked, json_: bool) -> None:
    """Show the verdict on an archive."""
    where, path, bundle, read = checked.where, checked.path, checked.bundle, checked.read
    if json_:
        say_json(
            {
                "node": where.node,
                **name_fields(path),
                "good": read.good,
                "has_index": bundle.index_file is not None,
                "members": read.counts["members"],
                "files": read.files,
                "size_bytes": read.size,
                "checked_by_index": read.proven,
                "damage": [{"at_byte": each.at, "reason": each.why} for each in read.damage],
                "differences": [{**name_fields(each.member.name), "verdict": each.what} for each in read.reported],
            }
        )
        return
    word = text.tinted("good", text.Tone.GOOD) if read.good else text.tinted("NOT GOOD", text.Tone.TROUBLE)
    terminal.say(terminal.style(f"{_shown(Place(where.node, path))}: ", bold=True) + word)
    index = (
        "there is none, so changed contents would not be noticed"
        if bundle.index_file is None
        else "it is of another archive"
        if read.strays
        else "every file was read and compared with its digest and facts"
    )
    text.facts([("read", f"{text.count(read.files, 'file')}, {text.size(read.size)}"), ("index", index)])
    _tell_members(read)
    _tell_damage(read, salvaged=True)
