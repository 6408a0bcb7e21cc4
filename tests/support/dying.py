"""Has the program killed (SIGKILL, as kill -9 does) at one chosen moment.

Moments: apply-before:N and apply-after:N (the Nth write of the journal, before or after it is committed), token:1
(the node is being tried for its disk), bytes:N (N bytes were acknowledged), placed:N (the Nth final name was
given and nobody told), kept:1 (the helper dies with us when it has kept what is to be replaced), ledger-before:1 and
ledger-after:1 (around the append to the ledger).
"""

from __future__ import annotations

import os
import signal
from collections.abc import Callable
from typing import Any

from yatagan.batches.journal import Journal
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.ledger.ledger import Ledger
from yatagan.nodes import helper
from yatagan.stores.helper_machine import HelperMachine
from yatagan.stores.interface import Placement, Writer
from yatagan.stores.sftp import SftpStore
from yatagan.stores.sftp_file import SftpFile


def die() -> None:
    os.kill(os.getpid(), signal.SIGKILL)


def die_between_keeping_and_renaming() -> None:
    """The helper dies right after it has kept what is to be replaced, and then so do we."""
    source_of, place = helper.source_of, SftpStore.place

    def deadly(module: str) -> str:
        done = "keep(directory, name, below, kept)\n"
        source = source_of(module)
        assert module != "yatagan.portable.placing" or source.count(done) == 1
        return source.replace(done, done + "        os.kill(os.getpid(), 9)\n")

    async def dying(self: SftpStore, part: Writer, wanted: Placement) -> Fault | None:
        try:
            return await place(self, part, wanted)
        except StoreError:
            die()
            raise

    helper.source_of = deadly
    SftpStore.place = dying  # type: ignore[method-assign]


def die_at(moment: str) -> None:
    """Prepare it, in a process that is to be the program."""
    moment, _, number = moment.partition(":")
    left = int(number)

    def counted(before: bool, step: Callable[..., int] = lambda *args: 1) -> Callable[[Any], Any]:
        def wrap(function: Any) -> Any:
            nonlocal left

            def now(*args: Any) -> bool:
                nonlocal left
                left -= step(*args)
                return left <= 0

            if moment.startswith(("apply", "ledger")):

                def plain(*args: Any, **more: Any) -> Any:
                    last = now(*args)
                    if last and before:
                        die()
                    result = function(*args, **more)
                    if last:
                        die()
                    return result

                return plain

            async def later(*args: Any, **more: Any) -> Any:
                result = await function(*args, **more)
                if now(*args):
                    die()
                return result

            return later

        return wrap

    match moment:
        case "apply-before" | "apply-after":
            Journal.apply = counted(moment == "apply-before")(Journal.apply)  # type: ignore[method-assign]
        case "bytes":
            SftpFile.write = counted(False, lambda file, offset, data: len(data))(SftpFile.write)  # type: ignore[method-assign]
        case "placed":
            SftpStore.place = counted(False)(SftpStore.place)  # type: ignore[method-assign]
            finish = counted(False, lambda machine, files: len(files))  # small files, many at once
            HelperMachine.finish = finish(HelperMachine.finish)  # type: ignore[method-assign]
        case "token":  # the first part file of a session is the token
            SftpStore.create_part = counted(False)(SftpStore.create_part)  # type: ignore[method-assign]
        case "kept":
            die_between_keeping_and_renaming()
        case "ledger-before" | "ledger-after":
            Ledger.append = counted(moment == "ledger-before")(Ledger.append)  # type: ignore[method-assign]
        case _:
            raise SystemExit(f"unknown moment {moment}")
