"""Stands between a real SSH server and what it is told to run: answers of the helper arrive as a lie, if one is chosen.

Run by the server's ForceCommand with the name of a file that holds the lie: `WHICH:HOW`, where WHICH is what is asked
for (`hello` when it begins, `rest` for all else, or the name of one question). File transfer is left alone.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

#: A digest, wherever it stands.
_DIGEST = re.compile(r"[0-9a-f]{64}")
_RED = "\x1b[31mgood\x1b[2J\n"


def changed(value: Any, change: Callable[[Any], Any]) -> Any:
    """A value with something done to all that is in it."""
    if isinstance(value, dict):
        return {key: changed(each, change) for key, each in value.items()}
    if isinstance(value, list):
        return change([changed(each, change) for each in value])
    return change(value)


def numbers(to: Any) -> Callable[[Any], Any]:
    """Every number becomes another."""
    return lambda value: to if isinstance(value, int) and not isinstance(value, bool) else value


def digests(to: str) -> Callable[[Any], Any]:
    """Every digest becomes another."""
    return lambda value: to if isinstance(value, str) and _DIGEST.fullmatch(value) else value


def every(to: Any) -> Callable[[Any], Any]:
    """Everything becomes this."""
    return lambda value: to


def lists(change: Callable[[list[Any]], list[Any]]) -> Callable[[Any], Any]:
    """Every list becomes another."""
    return lambda value: change(value) if isinstance(value, list) else value


#: What becomes of the values of an answer.
VALUES: dict[str, Callable[[Any], Any]] = {
    "strings": every("x"),
    "lists": every([]),
    "nothing": every(None),
    "objects": every({}),
    "huge": numbers(10**300),
    "negative": numbers(-1),
    "fractions": numbers(float("nan")),
    "other-digest": digests("0" * 64),
    "words-for-digests": digests(_RED),
    "fewer": lists(lambda value: value[:-1]),
    "more": lists(lambda value: value + value[-1:]),
    "turned-round": lists(lambda value: value[::-1]),
}


def lie(how: str, reply: dict[str, Any]) -> bytes:
    """What is said instead of an answer."""
    number = reply["id"]
    if how in VALUES:
        told = {key: changed(each, VALUES[how]) for key, each in reply.items() if key != "id"}
        return json.dumps({"id": number, **told}).encode() + b"\n"
    line = json.dumps(reply).encode() + b"\n"
    match how:
        case "empty":
            return json.dumps({"id": number}).encode() + b"\n"
        case "silent":
            return b""
        case "other-id":
            return json.dumps({**reply, "id": number + 1000}).encode() + b"\n"
        case "no-id":
            return b'{"outcomes": []}\n'
        case "twice":
            return line + line
        case "a-list":
            return b"[]\n"
        case "noise":
            return b"\xff\x00\x1b[31m noise\n"
        case "no-end":
            return b"x" * (300 << 20)
        case "deep":
            return b"[" * 200_000 + b"\n"
        case "strange-error":
            return json.dumps({"id": number, "errno": 10**9, "error": _RED * 50}).encode() + b"\n"
        case "words-for-errors":
            return json.dumps({"id": number, "errno": "ENOENT", "error": {"why": _RED}}).encode() + b"\n"
        case "broken":
            return json.dumps({"id": number, "broken": _RED * 1000}).encode() + b"\n"
        case "dies":
            os._exit(1)
    raise ValueError(how)


def main() -> None:
    """Run the command, and tell the lie."""
    command = os.environ.get("SSH_ORIGINAL_COMMAND", "")
    if "sftp-server" in command:
        os.execvp("sh", ["sh", "-c", command])
    with open(sys.argv[1], encoding="utf-8") as file:
        which, _, how = file.read().partition(":")
    child = subprocess.Popen(["sh", "-c", command], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert child.stdin is not None and child.stdout is not None
    asked: dict[int, str] = {}

    def questions(child_in: Any) -> None:
        while data := sys.stdin.buffer.readline():
            if data.startswith(b'{"id"'):
                question = json.loads(data)
                asked[question["id"]] = question["do"]
            try:
                child_in.write(data)
                child_in.flush()
            except OSError:
                break
        child_in.close()

    threading.Thread(target=questions, args=(child.stdin,), daemon=True).start()
    for line in child.stdout:
        reply = json.loads(line) if line.startswith(b'{"id"') else None
        meant = False
        if reply is not None and "busy" not in reply:
            what = asked.get(reply["id"], "")
            meant = which == what or (which == "rest" and what not in ("hello", "session"))
        while reply is not None and meant and how == "busy":
            sys.stdout.buffer.write(json.dumps({"id": reply["id"], "busy": 1}).encode() + b"\n")
            sys.stdout.buffer.flush()
            time.sleep(0.2)
        sys.stdout.buffer.write(lie(how, reply) if reply is not None and meant else line)
        sys.stdout.buffer.flush()


main()
