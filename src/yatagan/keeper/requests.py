"""What a connected command may ask of a keeper's store, and of the files that it has open."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncGenerator
from dataclasses import dataclass, field
from typing import Any

from yatagan.engine.run import BatchRun
from yatagan.errors import KeeperFault, KeeperRefuses, NeedsAnswer, StoreError
from yatagan.keeper.protocol import Gone, Peer
from yatagan.nodes.prompts import LoginProgress, Prompter, Question
from yatagan.stores.interface import Facts, machine_of
from yatagan.stores.sftp import SftpStore
from yatagan.stores.sftp_file import SftpFile

#: What a store answers for others, word for word.
_PLAIN = frozenset(
    [
        "look",
        "look_closely",
        "read_link",
        "free_space",
        "owner",
        "group",
        "clock_ns",
        "copy_part",
        "make_directory",
        "make_link",
        "sync_directory",
        "is_real",
        "keep",
        "rename",
        "remove",
        "remove_directory",
        "writers_gone",
    ]
)
#: What its machine answers, word for word.
_MACHINE = frozenset(("digest", "digests", "read_small", "run", "same_disk"))
_OPENING = frozenset(("open", "create_part", "reopen_part"))


class PromptRelay(Prompter):
    """Puts a server's questions to the connected command. Answers pass through and are not kept."""

    def __init__(self, peer: Peer) -> None:
        self._peer = peer

    async def answer(self, question: Question) -> str:
        try:
            return str(await self._peer.ask("answer", question))
        except Gone:
            raise NeedsAnswer(question.node, question.text) from None

    def tell(self, node: str, said: str) -> None:
        self._peer.tell("said", node, said)

    def refused(self, node: str, tries_left: int | None) -> None:
        self._peer.tell("refused", node, tries_left)

    def note(self, text: str) -> None:
        self._peer.tell("noted", text)

    def waiting(self, node: str, seconds: float, reached: LoginProgress) -> None:
        self._peer.tell("waiting", node, seconds, reached)

    def waited(self) -> None:
        self._peer.tell("waited")


@dataclass(slots=True)
class Conversation:
    """What one connected command has open: a store, files and listings by number, and a batch."""

    store: SftpStore | None = None
    files: dict[int, SftpFile] = field(default_factory=dict)
    listings: dict[int, AsyncGenerator[list[tuple[bytes, Facts]], None]] = field(default_factory=dict)
    run: BatchRun | None = None
    stopped: bool = False
    next: int = 1

    def number(self) -> int:
        """A new number."""
        self.next += 1
        return self.next

    def stop(self) -> None:
        """Stop its batch, which may not have begun yet."""
        self.stopped = True
        if self.run is not None:
            self.run.stop()

    async def close(self) -> None:
        """Close everything."""
        self.stop()
        if self.store is not None:
            for listing in self.listings.values():
                with contextlib.suppress(StoreError):
                    await listing.aclose()
            for file in self.files.values():
                with contextlib.suppress(StoreError):  # they would stay open on the node as long as the login
                    await file.close()
            await self.store.close()


async def of_the_store(client: Conversation, store: SftpStore, what: str, values: tuple[Any, ...]) -> Any:
    """Answer a question about the store, or an open file."""
    if what in _PLAIN:
        return await getattr(store, what)(*values)
    room, _, name = what.partition(".")
    if room == "machine" and name in _MACHINE:
        return await getattr(machine_of(store), name)(*values)
    if what in _OPENING:
        number = client.number()
        client.files[number] = await getattr(store, what)(*values)
        return number
    match what:
        case "resolve":
            path, follow = values
            return await store.resolve(path, follow=follow)
        case "entries":
            number = client.number()
            client.listings[number] = store.entries(*values)
            return number
        case "more":
            handful: list[tuple[bytes, Facts]] = await anext(client.listings[values[0]], [])
            if not handful:
                del client.listings[values[0]]
            return handful
        case "no more":
            return await client.listings.pop(values[0]).aclose()
        case "set_facts":
            path, mode, mtime_ns = values
            return await store.set_facts(path, mode=mode, mtime_ns=mtime_ns)
    number, *rest = values
    match what:
        case "place":
            return await store.place(client.files[number], *rest)
        case "file.close":
            return await client.files.pop(number).close()
        case "file.facts" | "file.read" | "file.write" | "file.sync":
            return await getattr(client.files[number], what.removeprefix("file."))(*rest)
        case _:
            raise KeeperRefuses(KeeperFault.UNKNOWN_REQUEST, what)
