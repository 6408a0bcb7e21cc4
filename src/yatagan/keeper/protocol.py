"""What a keeper and a command say to each other: values in frames, and questions with answers both ways.

A frame is two lengths of four bytes, a head in JSON, and a body that holds the byte strings of the head, one after
the other. The head spells what JSON has no word for: `{"b": 3}` is the body's next three bytes, `{"is": NAME}` one of
our own classes. Sequences arrive as tuples.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import struct
from collections.abc import Awaitable, Callable
from dataclasses import fields, is_dataclass
from enum import Enum
from typing import Any

from yatagan import errors, faults
from yatagan.batches import events, states, steps
from yatagan.config import areas, nodes
from yatagan.errors import YataganError
from yatagan.futures import fail
from yatagan.keeper.endpoint import who_is
from yatagan.nodes import prompts
from yatagan.stores import interface

_LOG = logging.getLogger(__name__)
_LENGTHS = struct.Struct(">II")
#: What JSON has words for.
_PLAIN = frozenset((type(None), bool, int, float, str))
#: Longest frame that is read: the largest answer is a handful of a directory's entries.
_LONGEST = 16 << 20


def _classes() -> dict[str, type[Any]]:
    """Every class that may travel, by name."""
    found: dict[str, type[Any]] = {}
    for module in (errors, faults, events, states, steps, areas, nodes, prompts, interface):
        for name, value in vars(module).items():
            ours = isinstance(value, type) and value.__module__ == module.__name__
            if ours and (is_dataclass(value) or issubclass(value, Enum | YataganError)):
                found[name] = value
    return found


class Codec:
    """Values to frames and back. Data classes of other rooms may be added by callers."""

    def __init__(self, *more: type[Any]) -> None:
        self._classes = {**_classes(), **{each.__name__: each for each in more}}
        self._fields = {
            name: tuple(field.name for field in fields(each))
            for name, each in self._classes.items()
            if is_dataclass(each)
        }

    def pack(self, value: object) -> bytes:
        """One frame. Raises TypeError for what cannot travel."""
        body: list[bytes] = []
        head = json.dumps(self._spell(value, body), separators=(",", ":")).encode("ascii")
        length = sum(map(len, body))
        return b"".join([_LENGTHS.pack(len(head), length), head, *body])

    def unpack(self, head: bytes, body: bytes) -> Any:
        """The value of a frame. Raises ValueError when it makes no sense."""
        try:
            return self._read(json.loads(head), _Bytes(body))
        except (KeyError, TypeError, RecursionError) as error:
            raise ValueError(f"not understood: {error}") from error

    def _spell(self, value: Any, body: list[bytes]) -> object:
        kind = type(value)  # a listing is made of a few kinds, distinguished a million times
        if kind in _PLAIN:
            return value
        if kind is bytes:
            body.append(value)
            return {"b": len(value)}
        if kind is tuple or kind is list:
            return [self._spell(each, body) for each in value]
        if kind is dict:
            return {"d": [[key, self._spell(each, body)] for key, each in value.items()]}
        name = kind.__name__
        if self._classes.get(name) is not kind:
            raise TypeError(f"{name} cannot travel")
        if issubclass(kind, Enum):
            return {"is": name, "of": value.value}
        if issubclass(kind, YataganError):
            return {"is": name, "of": self._spell(vars(value), body), "says": str(value)}
        return {"is": name, "of": [self._spell(getattr(value, field), body) for field in self._fields[name]]}

    def _read(self, spelled: Any, body: _Bytes) -> Any:
        if isinstance(spelled, list):
            return tuple(self._read(each, body) for each in spelled)
        if not isinstance(spelled, dict):
            return spelled
        if "b" in spelled:
            return body.take(spelled["b"])
        if "d" in spelled:
            return {key: self._read(each, body) for key, each in spelled["d"]}
        kind, inner = self._classes[spelled["is"]], self._read(spelled["of"], body)
        if issubclass(kind, YataganError):
            error = kind.__new__(kind, spelled["says"])  # each has parameters of its own, and keeps them as attributes
            vars(error).update(inner)
            return error
        return kind(inner) if issubclass(kind, Enum) else kind(*inner)


class _Bytes:
    """The body of a frame, read from the front."""

    def __init__(self, body: bytes) -> None:
        self._body = body
        self._at = 0

    def take(self, count: int) -> bytes:
        """The next bytes. Raises ValueError when there are too few."""
        taken = self._body[self._at : self._at + count]
        if len(taken) != count or count < 0:
            raise ValueError("the frame is cut short")
        self._at += count
        return taken


class Gone(Exception):
    """The other end has closed the connection."""


Handler = Callable[[str, tuple[Any, ...]], Awaitable[Any]]


class Peer:
    """One end of a connection. Either end may ask the other, many things at once, and tell it things.

    `handle(what, values)` answers what the other end asks, each in a task of its own that ends with the connection;
    `hear(what, values)` takes what it tells, in order.
    """

    def __init__(
        self,
        codec: Codec,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
        handle: Handler,
        hear: Callable[[str, tuple[Any, ...]], None],
    ) -> None:
        self._codec = codec
        self._reader = reader
        self._writer = writer
        self._handle = handle
        self._hear = hear
        self._next = 0
        self._waiting: dict[int, asyncio.Future[Any]] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self._failure: Exception | None = None
        self.gone = asyncio.Event()
        self._reading = asyncio.create_task(self._read())

    @property
    def process(self) -> int | None:
        """The process at the other end; None where the system does not say."""
        return who_is(self._writer.get_extra_info("socket"))[0]

    @property
    def backlog(self) -> int:
        """Bytes that the other end has not read yet."""
        return self._writer.transport.get_write_buffer_size()

    async def ask(self, what: str, *values: object) -> Any:
        """Ask, and wait for the answer. Raises the error that the other end answers with, or Gone."""
        if self.gone.is_set():
            raise Gone
        self._next += 1
        number, future = self._next, asyncio.get_running_loop().create_future()
        self._waiting[number] = future
        try:
            self._send(("ask", number, what, *values))
            return await future
        finally:
            del self._waiting[number]

    def tell(self, what: str, *values: object) -> None:
        """Send without waiting for an answer; nothing happens if the other end has gone."""
        if not self.gone.is_set():
            self._send(("tell", 0, what, *values))

    def _send(self, frame: tuple[object, ...]) -> None:
        packed = self._codec.pack(frame)
        if len(packed) > _LONGEST:  # the other end would hang up, and the cause would be unknown
            raise YataganError(f"{frame[2] if frame[0] == 'ask' else frame[0]}: this is too much to be said at once")
        self._writer.write(packed)

    async def _read(self) -> None:
        try:
            while True:
                head, body = _LENGTHS.unpack(await self._reader.readexactly(_LENGTHS.size))
                if head + body > _LONGEST:
                    raise ValueError("the frame is too long")
                kind, number, *rest = self._codec.unpack(
                    await self._reader.readexactly(head), await self._reader.readexactly(body)
                )
                self._take(kind, number, rest)
        except (OSError, EOFError, ValueError):
            pass  # whatever it was, nothing more can be understood
        finally:
            self.gone.set()
            for future in self._waiting.values():
                fail(future, self._failure or Gone())
            for task in self._tasks:
                task.cancel()
            self._writer.close()

    def _take(self, kind: str, number: int, rest: list[Any]) -> None:
        if kind == "ask":
            what, *values = rest
            task = asyncio.create_task(self._answer(number, what, tuple(values)))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)
        elif kind == "tell":
            what, *values = rest
            try:
                self._hear(what, tuple(values))
            except Exception as error:  # a terminal that has gone, for one: the waiting command must learn of it
                self._failure = error
                raise EOFError from error
        elif (future := self._waiting.get(number)) is not None and not future.done():
            if kind == "error":
                fail(future, rest[0])
            else:
                future.set_result(rest[0])

    async def _answer(self, number: int, what: str, values: tuple[Any, ...]) -> None:
        try:
            answer: tuple[object, ...] = ("answer", number, await self._handle(what, values))
        except YataganError as error:
            answer = ("error", number, error)
        except Exception as error:  # noqa: BLE001 - a defect: the caller must get an answer anyway
            _LOG.exception("asked %s", what)
            answer = ("error", number, YataganError(f"this could not be done for a fault in Yatagan: {error!r}"))
        with contextlib.suppress(OSError):
            try:
                self._send(answer)
            except YataganError as error:
                self._send(("error", number, error))
            await self._writer.drain()

    async def close(self) -> None:
        """Hang up."""
        self._reading.cancel()
        await asyncio.gather(self._reading, *self._tasks, return_exceptions=True)
