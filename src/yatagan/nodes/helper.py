"""Our end of the helper, the program that runs on a node: start it over a login, ask, match answers to questions.

Nothing is installed: the program is sent over the login. It comes on standard input and is read by length, because
`python3 -` would wait for the end of the input and leave none for the questions.
"""

from __future__ import annotations

import asyncio
import importlib.resources
import json
import secrets
import time
from collections.abc import AsyncIterator, Callable
from typing import Any, Protocol

import asyncssh

from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.futures import fail
from yatagan.nodes.replies import GreetingReply, Reply, read_reply
from yatagan.portable.modules import PROGRAM

#: Longest answer line: a greeting lists the processes of one login, never more.
_LINE_LIMIT = 1 << 20
#: Bytes of an answer that are read at once, and the longest answer that is believed to be one.
_CHUNK, _LONGEST_LINE = 256 << 10, 48 << 20


class Pipe(Protocol):
    """The two ends of a command that runs on a node."""

    stdin: Any
    stdout: Any

    def close(self) -> None:
        """End the command."""


async def _lines(stream: Any) -> AsyncIterator[bytes]:
    """Lines of a stream, with their ends. Raises ValueError for one that never ends."""
    held: list[bytes] = []
    size = 0
    while data := await stream.read(_CHUNK):
        *whole, rest = data.split(b"\n")
        for line in whole:
            yield b"".join((*held, line, b"\n"))
            held, size = [], 0
        held.append(rest)
        size += len(rest)
        if size > _LONGEST_LINE:
            raise ValueError("a line without end")


class NoHelper(Exception):
    """The node does not run commands, or has no Python that we can use. The text says which."""


class SlowShell(NoHelper):
    """The node's shell has started nothing within `seconds`. Whether it runs commands is not known."""

    def __init__(self, seconds: float) -> None:
        super().__init__(f"its shell has started nothing within {seconds:.0f} s")
        self.seconds = seconds


def start_line(program: bytes) -> str:
    """The command that runs the program, in words that sh, csh and tcsh all understand.

    Isolated (-I, -S): else a `hashlib.py` in the start directory would run. The program comes on
    standard input, ahead of the requests, so its length must be said.
    """
    return f"exec python3 -I -S -c 'import sys; exec(sys.stdin.buffer.read({len(program)}))'"


#: Makes a module of ours out of its source, under its own name, so that those that import it find it.
_LOADER = """
import sys, types
def load(name, source):
    above = name
    while "." in above:
        above = above.rpartition(".")[0]
        sys.modules.setdefault(above, types.ModuleType(above)).__path__ = []
    module = sys.modules[name] = types.ModuleType(name)
    setattr(sys.modules[name.rpartition(".")[0]], name.rpartition(".")[2], module)
    exec(compile(source, name, "exec"), module.__dict__)
    return module
"""


def source_of(module: str) -> str:
    """The source of one of our modules that are kept to what nodes understand."""
    package, _, name = module.rpartition(".")
    return importlib.resources.files(package).joinpath(name + ".py").read_text(encoding="utf-8")


def program_with(token: str) -> bytes:
    """The helper's source, ending in the call that starts it."""
    loads = "".join(f"load({module!r}, {source_of(module)!r})\n" for module in PROGRAM)
    return f"{_LOADER}{loads}sys.modules[{PROGRAM[-1]!r}].main({token!r})\n".encode("ascii", "backslashreplace")


class Helper:
    """One running helper. Many tasks may ask at once."""

    def __init__(self, pipe: Pipe) -> None:
        self._pipe = pipe
        self._waiting: dict[int, asyncio.Future[Reply]] = {}
        self._next = 1
        self._reading: asyncio.Task[None] | None = None
        self._learned: set[str] = set(PROGRAM)
        #: One lesson at a time: the program on the node has several threads, and half a module is none.
        self._learning = asyncio.Lock()
        self.greeting = GreetingReply("", "", "", (), (), 0)
        #: Seconds that the node took to start it.
        self.started_in = 0.0
        #: How far each question was when it last gave a sign of life.
        self._busy: dict[int, int] = {}
        #: Called at every answer that comes, and at every sign of life that tells of progress.
        self.listeners: set[Callable[[], None]] = set()

    @classmethod
    async def start(cls, run: Any, patience: float) -> Helper:
        """Start the helper with `run(command) -> Pipe`, within `patience` seconds.

        Raises NoHelper when the node will not, SlowShell when that is not known.
        """
        began = time.monotonic()
        token = "yatagan-" + secrets.token_hex(16)
        program = program_with(token)
        try:
            async with asyncio.timeout(patience):
                pipe = await run(start_line(program))
                pipe.stdin.write(program)
                lines = _lines(pipe.stdout)
                if not await cls._find_token(lines, token.encode()):
                    pipe.close()
                    raise NoHelper("commands are not allowed, or there is no Python 3")
                helper = cls(pipe)
                helper._reading = asyncio.create_task(helper._read_answers(lines))
                try:
                    helper.greeting = read_reply(GreetingReply, await helper.ask("hello"))
                except BaseException:
                    await helper.close()
                    raise
        except TimeoutError:
            raise SlowShell(patience) from None
        except StoreError as error:
            raise NoHelper("what it answered makes no sense") from error
        except (OSError, asyncssh.Error) as error:
            raise NoHelper(f"the server refuses commands ({error})") from error
        helper.started_in = time.monotonic() - began
        return helper

    @staticmethod
    async def _find_token(lines: AsyncIterator[bytes], token: bytes) -> bool:
        """Skip what start-up files print. Returns False when the command ends before the token came."""
        seen = 0
        async for line in lines:
            if line.strip() == token:
                return True
            seen += len(line)
            if seen > _LINE_LIMIT:
                return False
        return False

    @property
    def ended(self) -> bool:
        """Whether it has ended."""
        return self._reading is None or self._reading.done()

    async def ask(self, do: str, path: bytes = b"", **more: Any) -> Reply:
        """Ask one question; `read_reply` reads the answer.

        Raises OSError with the error of the node's system, or StoreError: CONNECTION_LOST.
        """
        if self.ended:
            raise StoreError(Fault.CONNECTION_LOST, path, detail="the helper on the node has ended")
        number, self._next = self._next, self._next + 1
        future: asyncio.Future[Reply] = asyncio.get_running_loop().create_future()
        self._waiting[number] = future
        question = {"id": number, "do": do, **more}
        if path:
            question["path"] = path.decode("latin-1")
        try:
            self._pipe.stdin.write(json.dumps(question).encode("ascii") + b"\n")
        except (OSError, asyncssh.Error) as error:
            raise StoreError(Fault.CONNECTION_LOST, path, detail=str(error)) from error
        try:
            reply = await future
        finally:
            self._waiting.pop(number, None)
        if "broken" in reply:
            raise StoreError(Fault.HELPER_BROKEN, path, detail=f"{do}: {reply['broken']}")
        if "error" in reply:
            told = reply.get("errno")
            raise OSError(told if isinstance(told, int) and 0 <= told < 4096 else 0, str(reply["error"]))
        return reply

    async def learn(self, modules: tuple[str, ...]) -> None:
        """Send modules of ours, in this order, unless it has them. Raises as `ask` does."""
        async with self._learning:
            new = [module for module in modules if module not in self._learned]
            if new:
                await self.ask("learn", modules=[(module, source_of(module)) for module in new])
                self._learned.update(new)

    async def _read_answers(self, lines: AsyncIterator[bytes]) -> None:
        try:
            async for line in lines:
                reply = json.loads(line)
                if self._is_still(reply):
                    continue
                for heard in self.listeners:
                    heard()
                future = self._waiting.get(reply["id"])
                if future is not None and not future.done() and "busy" not in reply:
                    future.set_result(reply)
        except (OSError, asyncssh.Error, ValueError, KeyError, TypeError, RecursionError):
            pass  # a broken stream ends the helper; those who wait get the error below
        finally:
            for future in self._waiting.values():
                fail(future, StoreError(Fault.CONNECTION_LOST, detail="the helper on the node has ended"))

    def _is_still(self, reply: Any) -> bool:
        """Whether a sign of life shows no progress, or belongs to no question."""
        if "busy" not in reply:
            self._busy.pop(reply["id"], None)
            return False
        if reply["id"] not in self._waiting or reply["busy"] <= self._busy.get(reply["id"], -1):
            return True
        self._busy[reply["id"]] = reply["busy"]
        return False

    async def close(self) -> None:
        """End the helper; it ends by itself when the connection goes."""
        if self._reading is not None:
            self._reading.cancel()
        self._pipe.close()
