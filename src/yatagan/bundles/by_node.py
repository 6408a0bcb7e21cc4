"""Bundles made, read and unpacked on a node, by the node: no byte of them comes over the connection.

The helper learns what it needs for it; see `portable/archives.py` for what it does.
"""

from __future__ import annotations

import posixpath
import secrets
from collections import Counter
from collections.abc import AsyncIterator, Iterator, Mapping
from itertools import islice
from typing import TypeVar

from yatagan.bundles.make import Recipe, part_of
from yatagan.bundles.read import Damage, ReadResult, UnpackRequest
from yatagan.errors import ArchiveTooLarge, BadArchive, StoreError
from yatagan.faults import Fault
from yatagan.nodes.replies import (
    BundleReply,
    ChangedReply,
    ContentsReply,
    MembersReply,
    Reply,
    TooMuchReply,
    UnpackReply,
    read_reply,
)
from yatagan.portable.index import Totals
from yatagan.portable.modules import ARCHIVES
from yatagan.portable.tar import FILE, Member
from yatagan.portable.unpacking import MemberOutcome
from yatagan.stores.interface import Kind, Store, Values, machine_of
from yatagan.trees.patterns import compile_pattern
from yatagan.trees.scan import Tree

P = TypeVar("P", ContentsReply, MembersReply)


async def make_there(store: Store, path: bytes, trees: Mapping[bytes, Tree], recipe: Recipe) -> Totals:
    """Have a node make a bundle of its own scanned trees, at an absolute path there, with its index.

    Raises StoreError: UNSUPPORTED where the node cannot do it, EXISTS, SOURCE_CHANGED and others.
    """
    token = secrets.token_hex(8)
    for tree in trees.values():
        await _same_disk(store, tree.root)
    entries = _entries(trees)
    while some := list(islice(entries, _ENTRIES_PER_MESSAGE)):
        await _work(store, "hear", path, {"token": token, "entries": some})
    reply = await _work(
        store,
        "make",
        path,
        {
            "part": _text(part_of(path, recipe.run, 1)),
            "index_part": _text(part_of(path, recipe.run, 2)),
            "token": token,
            "anonymous": recipe.manner.anonymous,
            "latest_ns": recipe.manner.latest_ns,
            "form": recipe.form.value,
            "level": recipe.level,
        },
    )
    return Totals(*read_reply(BundleReply, reply, store.name).totals)


def _entries(trees: Mapping[bytes, Tree]) -> Iterator[list[str]]:
    """Entries for a bundle: name in it, path, and kind."""
    for name, tree in trees.items():
        for below in tree.entries.in_order():
            kind = tree.entries[below].kind
            if kind.carried:
                inside = posixpath.join(name, below) if below else name
                yield [_text(inside), _text(tree.absolute(below)), kind.value]


async def unpack_there(store: Store, path: bytes, into: bytes, wish: UnpackRequest) -> ReadResult:
    """Unpack an archive of a node into a directory of that node. Raises as `bundles.read.unpack`, and UNSUPPORTED."""
    await _same_disk(store, path)
    reply = await _work(
        store,
        "unpack",
        path,
        {
            "into": _text(into),
            "run": wish.manner.run,
            "if_there": wish.manner.if_there,
            "links_out": wish.manner.links_out,
            "most": wish.manner.most,
            "salvage": wish.salvage,
            "only": [_text(compile_pattern(pattern).pattern) for pattern in wish.choice.only],
            "skip": [_text(compile_pattern(pattern).pattern) for pattern in wish.choice.skip],
        },
    )
    found = read_reply(UnpackReply, reply, store.name)
    return ReadResult(
        counts=Counter(found.counts),
        files=found.files,
        size=found.size,
        proven=found.proven,
        reported=[MemberOutcome(Member(name, FILE, 0, 0, 0), what, why) for name, what, why in found.reported],
        damage=[Damage(at, why) for at, why in found.damage],
        bits=found.bits,
        strays=found.strays,
    )


async def contents_there(store: Store, path: bytes, most: int | None = None) -> dict[bytes, str]:
    """The SHA-256 of every file in an archive of a node, but of those larger than `most` bytes.

    Made by the node from the archive's bytes; of members that cannot be read there is none. Raises StoreError:
    UNSUPPORTED where the node cannot do it.
    """
    found = dict[bytes, str]()
    async for reply in _in_parts(ContentsReply, store, "contents", path, most=most):
        some = dict(reply.found)
        if not some.keys() - found.keys():
            break  # the same part came again
        found.update(some)
    return found


async def members_there(store: Store, path: bytes) -> list[Member]:
    """The members of an archive of a node, in its order, read by the node.

    Raises StoreError: UNSUPPORTED where the node cannot do it, DAMAGED where it cannot be read to its end.
    """
    found: list[Member] = []
    async for reply in _in_parts(MembersReply, store, "members", path):
        if reply.damaged:
            raise StoreError(Fault.DAMAGED, path, store=store.name, detail=reply.damaged)
        found += [Member(*each) for each in reply.found]
    return found


async def _in_parts(kind: type[P], store: Store, what: str, path: bytes, **values: int | None) -> AsyncIterator[P]:
    """The parts of a long answer. Raises StoreError, UNSUPPORTED where the node cannot do it."""
    await _same_disk(store, path)
    token = secrets.token_hex(8)
    reply = await machine_of(store).run(ARCHIVES, what, path, {"token": token, **values})
    if "missing" in reply:
        raise StoreError(Fault.UNSUPPORTED, path, store=store.name, detail=f"the node lacks {reply['missing']}")
    for _ in range(_MOST_PARTS):
        part = read_reply(kind, reply, store.name)
        yield part
        if not part.found:
            return
        reply = await machine_of(store).run(ARCHIVES, "more", path, {"token": token})
    raise StoreError(Fault.NONSENSE, path, store=store.name, detail="the helper's, without an end")


#: Parts of an answer, before it is taken for one without an end.
_MOST_PARTS = 20_000
#: Entries that are said at once: messages are bounded, and so is what one of them may take in.
_ENTRIES_PER_MESSAGE = 5000


def _text(name: bytes) -> str:
    return name.decode("latin-1")


async def _same_disk(store: Store, path: bytes) -> None:
    """Raise StoreError, UNSUPPORTED, unless the node's commands see what its store shows under this path."""
    found = await store.look_closely(path)
    if found is None:
        raise StoreError(Fault.MISSING, path, store=store.name)
    if store.machine is None or (found.changed_ns is None and found.kind is not Kind.LINK):
        raise StoreError(Fault.UNSUPPORTED, path, store=store.name)


async def _work(store: Store, what: str, path: bytes, values: Values) -> Reply:
    """Have it done there. Raises StoreError, BadArchive where the node lacks something, ArchiveTooLarge."""
    reply = await machine_of(store).run(ARCHIVES, what, path, values)
    if "missing" in reply:
        why = f"the node lacks {reply['missing']}, without which it cannot be done there"
        raise BadArchive(path, why, "take --format tar.gz to make it, or unpack it here", store=store.name)
    if "changed" in reply:
        raise StoreError(Fault.SOURCE_CHANGED, read_reply(ChangedReply, reply, store.name).changed, store=store.name)
    if "too_much" in reply:
        raise ArchiveTooLarge(path, most=read_reply(TooMuchReply, reply, store.name).too_much, store=store.name)
    return reply
