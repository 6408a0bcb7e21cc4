"""A place against a checksum list: the one in it, another here or on a node, or one that the caller has read."""

from __future__ import annotations

import hashlib
import posixpath
from collections.abc import Sequence
from dataclasses import dataclass, replace

from yatagan.bundles.see_through import SeeThrough
from yatagan.desk.desk import Desk
from yatagan.digests.any_lists import ListRead, Reading, read_list
from yatagan.digests.checksum_lists import LIST_NAME, Listed
from yatagan.errors import BadList
from yatagan.operations.looking import Looking
from yatagan.operations.verify_request import Against, VerifyRequest
from yatagan.operations.watching import Watcher, scan_place
from yatagan.places import Place
from yatagan.request_errors import BadVerify, WrongVerify
from yatagan.stores.interface import Kind, Readable
from yatagan.trees import checksum_record
from yatagan.trees.checksum_record import Expected, is_record
from yatagan.trees.patterns import Choice
from yatagan.trees.scan import Tree
from yatagan.verdicts.algorithm_of_list import refuse_other_algorithm
from yatagan.verdicts.claims import Claims
from yatagan.verdicts.verification import Finding, Verdicts


async def verify_place(
    desk: Desk, request: VerifyRequest, looking: Looking, watcher: Watcher, given: bytes | None
) -> tuple[Verdicts, Place, Against]:
    """Compare a place with a list. Raises BadVerify, BadList, StoreError."""
    where, choice = request.place, request.choice
    assert where is not None
    store = SeeThrough(await desk.open(desk.source(where, names=True)))
    try:
        tree = await scan_place(store, where, choice, watcher)
        found = await _find_list(desk, store, tree, request, given)
        read = _read(found, tree, request.reading)
        listed = [line for line in read.lines if choice.chooses(line.path)]
        if store.take_as_files(tree.absolute(line.path) for line in listed):
            tree = await scan_place(store, where, choice, watcher)
        if choice and not listed:
            raise BadVerify(WrongVerify.NOTHING_CHOSEN, str(where))
        alone = tree.entries[b""].kind is not Kind.DIRECTORY
        if alone:
            listed = _only(listed, where)
        expected = None if alone else _expected(found, tree, request.reading, choice)
        if not request.by_digest and expected is None:
            raise BadVerify(WrongVerify.BARE_LIST, str(found.place))
        verdicts = await looking.verdicts(store, tree, Claims(listed, expected, read.contradictions))
        if read.assumed and request.by_digest and not verdicts.count(Finding.SAME, Kind.FILE):
            await refuse_other_algorithm(store, tree, listed, str(found.place))
        digest, inside = hashlib.sha256(found.data).hexdigest(), request.against is None and given is None
        return verdicts, where, Against(tree.root, found.place, digest, listed, inside=inside, crlf=read.crlf)
    finally:
        await store.close()


@dataclass(frozen=True, slots=True)
class _List:
    """A list that was found: where, what is in it, and what is in the facts file beside it, if there is one."""

    place: Place
    data: bytes
    facts: bytes | None = None


def _read(found: _List, tree: Tree, reading: Reading) -> ListRead:
    name = str(found.place)
    if reading.algorithm is None and found.facts is not None:
        reading = replace(reading, algorithm=checksum_record.algorithm_of(found.facts))
    read = read_list(found.data, name, reading)
    if not read.lines and found.facts is None and any(not is_record(path) for path in tree.entries.of_kind(Kind.FILE)):
        raise BadList(name, 0, "it names no file, though there are some")
    return read


def _expected(found: _List, tree: Tree, reading: Reading, choice: Choice) -> dict[bytes, Expected] | None:
    """The facts of what is chosen; None for a bare list, and for one of which other paths are meant."""
    if found.facts is None or reading.below or reading.drop:
        return None
    expected = checksum_record.read_facts(
        found.facts, found.data, str(found.place) + checksum_record.FACTS_SUFFIX.decode()
    )
    if not choice:
        return expected
    return {path: facts for path, facts in expected.items() if path in tree.entries or choice.chooses(path)}


def _only(listed: Sequence[Listed], where: Place) -> list[Listed]:
    """The record of a single file: its own line."""
    found = [line for line in listed if posixpath.basename(line.path) == where.name]
    if len({line.path for line in found}) != 1:
        raise BadVerify(WrongVerify.NOT_ON_LIST, str(where))
    return [Listed(b"", line.digest, line.algorithm) for line in found]


async def _find_list(desk: Desk, store: Readable, tree: Tree, request: VerifyRequest, given: bytes | None) -> _List:
    """Read the list that is meant, and the facts file beside it if there is one."""
    where, against = request.place, request.against
    assert where is not None
    if given is not None:
        return _List(against or Place("", b"-"), given)
    if against is None:
        alone = tree.entries[b""].kind is not Kind.DIRECTORY
        path = tree.root + b".sha256" if alone else posixpath.join(tree.root, LIST_NAME)
        place, there = Place(where.node, path), store
    else:
        there = store if against.node == where.node else await desk.open(desk.source(against, commands=False))
        place = Place(against.node, await there.resolve(against.path, follow=True))
    try:
        if await there.look(place.path) is None:
            raise BadVerify(WrongVerify.NO_LIST, str(place), str(where))
        data = await checksum_record.fetch(there, place.path)
        facts_path = place.path + checksum_record.FACTS_SUFFIX
        facts = await checksum_record.fetch(there, facts_path) if await there.look(facts_path) is not None else None
        return _List(place, data, facts)
    finally:
        if there is not store:
            await there.close()
