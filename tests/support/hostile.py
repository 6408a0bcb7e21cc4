"""A small file server that lies: `python hostile.py LIE-FILE`, as an SSH server starts it.

It serves the real disk over SFTP version 3 on standard input and output, without any library's help, and tells the
one lie that the file names. Everything else that it says is true.
"""

from __future__ import annotations

import os
import stat
import struct
import sys
import time
from collections.abc import Callable
from typing import Any

KINDS = {
    1: "init", 3: "open", 4: "close", 5: "read", 6: "write", 7: "lstat", 8: "fstat", 9: "setstat", 10: "fsetstat",
    11: "opendir", 12: "readdir", 13: "remove", 14: "mkdir", 15: "rmdir", 16: "realpath", 18: "rename",
    19: "readlink", 20: "symlink", 200: "extended",
}  # fmt: skip
EXTENSIONS = {
    b"posix-rename@openssh.com": b"1", b"statvfs@openssh.com": b"2", b"hardlink@openssh.com": b"1",
    b"fsync@openssh.com": b"1", b"limits@openssh.com": b"1",
}  # fmt: skip
LONG = "e" * 100_000


def text(value: bytes) -> bytes:
    return struct.pack(">I", len(value)) + value


def attributes(found: os.stat_result, **other: int) -> bytes:
    size, mode = other.get("size", found.st_size), other.get("mode", found.st_mode)
    mtime = other.get("mtime", int(found.st_mtime)) & 0xFFFFFFFF
    return struct.pack(">IQIIIII", 0xF, size, found.st_uid, found.st_gid, mode, mtime, mtime)


def status(code: int, said: bytes = b"") -> tuple[int, bytes]:
    return 101, struct.pack(">I", code) + text(said) + text(b"")


class Request:
    """One request, read from the front."""

    def __init__(self, data: bytes) -> None:
        self.kind = KINDS.get(data[0], "")
        self.number = data[1:5]
        self._rest = data[5:]

    def text(self) -> bytes:
        (length,) = struct.unpack_from(">I", self._rest)
        value, self._rest = self._rest[4 : 4 + length], self._rest[4 + length :]
        return value

    def numbers(self, form: str) -> tuple[int, ...]:
        found = struct.unpack_from(form, self._rest)
        self._rest = self._rest[struct.calcsize(form) :]
        return found

    def facts(self) -> dict[str, int]:
        (flags,) = self.numbers(">I")
        found = {}
        if flags & 1:
            (found["size"],) = self.numbers(">Q")
        if flags & 2:
            self.numbers(">II")
        if flags & 4:
            (found["mode"],) = self.numbers(">I")
        if flags & 8:
            _, found["mtime"] = self.numbers(">II")
        return found


class Server:
    """The true part."""

    def __init__(self, lie: str) -> None:
        self.what, _, self.how = lie.partition(":")
        self._handles: dict[bytes, Any] = {}
        self._next = 0
        self._told = 0

    def serve(self) -> None:
        read, write = sys.stdin.buffer.raw.read, sys.stdout.buffer  # type: ignore[union-attr]
        held = b""
        while data := read(1 << 18):
            held += data
            while len(held) >= 4 and len(held) >= 4 + (length := int.from_bytes(held[:4])):
                packet, held = held[4 : 4 + length], held[4 + length :]
                for answer in self.answers(packet):
                    write.write(answer)
                    write.flush()

    def answers(self, packet: bytes) -> list[bytes]:
        if packet[0] == 1:
            if (self.what, self.how) == ("init", "silent"):
                return []
            version = 2 if self.what == "version" else 3
            extra = text(b"odd@fen.example") + text(b"\xff" * 30) if self.what == "extension" else b""
            pairs = b"".join(text(name) + text(value) for name, value in EXTENSIONS.items())
            if self.what == "banner":
                return [b"Welcome to this node!\r\n" * 20]
            return [text(b"\x02" + struct.pack(">I", version) + pairs + extra)]
        request = Request(packet)
        try:
            kind, body = self.do(request)
        except OSError as error:
            code = {2: 2, 13: 3, 1: 3}.get(error.errno or 0, 4)
            kind, body = status(code, b"Failure")
        return self.lie(request, kind, body)

    def lie(self, request: Request, kind: int, body: bytes) -> list[bytes]:
        honest = text(bytes([kind]) + request.number + body)
        if self.what != request.kind:
            return [honest]
        self._told += 1
        match self.how:
            case "silent":
                return []
            case "late":
                time.sleep(0.3)
                return [honest]
            case "other-number":
                return [text(bytes([kind]) + b"\x7f\xff\xff\xff" + body)]
            case "twice":
                return [honest, honest]
            case "other-kind":
                return [text(b"\x69" + request.number + struct.pack(">I", 0))]
            case "unknown-kind":
                return [text(b"\xfe" + request.number + body)]
            case "short":
                return [text(bytes([kind]) + request.number + body[:2])]
            case "empty":
                return [b"\0\0\0\0"]
            case "huge":
                return [b"\x7f\xff\xff\xff" + honest[4:]]
            case "cut-off":
                sys.stdout.buffer.write(honest[: len(honest) // 2])
                sys.stdout.buffer.flush()
                os._exit(0)
            case "dies":
                os._exit(1)
            case "refuses":
                return [text(b"\x65" + request.number + status(4, b"Failure")[1])]
            case "denies":
                return [text(b"\x65" + request.number + status(3, b"no \x1b[31m\r\nway")[1])]
            case "no-room":
                return [text(b"\x65" + request.number + status(14)[1])]
            case "strange-code":
                return [text(b"\x65" + request.number + status(9999, LONG.encode())[1])]
            case "says-good":
                return [text(b"\x65" + request.number + status(0)[1])]
            case _:
                return [honest]

    def handle(self, what: Any) -> tuple[int, bytes]:
        self._next += 1
        name = b"%d" % self._next
        self._handles[name] = what
        return 102, text(name)

    def do(self, request: Request) -> tuple[int, bytes]:
        return getattr(self, f"do_{request.kind}", lambda request: status(8))(request)

    def do_realpath(self, request: Request) -> tuple[int, bytes]:
        real = os.path.realpath(request.text())
        names = {"relative": [b"fen"], "none": [], "several": [real, real], "control": [b"/\x1b[2J\n"],
                 "nul": [b"/a\0b"]}.get(self.how if self.what == "realpath" else "", [real])  # fmt: skip
        listed = b"".join(text(name) + text(name) + struct.pack(">I", 0) for name in names)
        return 104, struct.pack(">I", len(names)) + listed

    def _facts(self, found: os.stat_result) -> bytes:
        if self.what != "facts" or not stat.S_ISREG(found.st_mode):
            return attributes(found)
        match self.how:
            case "none":
                return struct.pack(">I", 0)
            case "large":
                return attributes(found, size=2**63)
            case "larger":
                return attributes(found, size=2**64 - 1)
            case "grown":
                return attributes(found, size=found.st_size + 7)
            case "shrunk":
                return attributes(found, size=found.st_size // 2)
            case "directory":
                return attributes(found, mode=0o40755)
            case "fifo":
                return attributes(found, mode=0o10644)
            case "unknown":
                return attributes(found, mode=0o177777)
            case "moving":
                self._told += 1
                return attributes(found, mtime=1_000_000_000 + self._told)
            case "extended":
                return struct.pack(">IQI", 0x80000001, found.st_size, 2**32 - 1)
        return attributes(found)

    def do_lstat(self, request: Request) -> tuple[int, bytes]:
        path = request.text()
        if self.what == "names" and self.how == "itself":
            path = path.partition(b"/self")[0]
        return 105, self._facts(os.lstat(path))

    def do_fstat(self, request: Request) -> tuple[int, bytes]:
        return 105, self._facts(os.fstat(self._handles[request.text()]))

    def do_opendir(self, request: Request) -> tuple[int, bytes]:
        path = request.text()
        if self.what == "names" and self.how == "itself":
            path = path.partition(b"/self")[0]  # a directory that contains itself
        if not os.path.isdir(path):
            return status(2, b"No such file")
        return self.handle([path, None])

    def do_open(self, request: Request) -> tuple[int, bytes]:
        path, (flags,) = request.text(), request.numbers(">I")
        mode = request.facts().get("mode", 0o644)
        wanted = (os.O_RDWR if flags & 2 else os.O_RDONLY) | (os.O_CREAT if flags & 8 else 0)
        return self.handle(os.open(path, wanted | (os.O_EXCL if flags & 32 else 0), mode))

    def do_close(self, request: Request) -> tuple[int, bytes]:
        what = self._handles.pop(request.text())
        if isinstance(what, int):
            os.close(what)
        return status(0)

    def do_read(self, request: Request) -> tuple[int, bytes]:
        handle, (offset, size) = request.text(), request.numbers(">QI")
        data = os.pread(self._handles[handle], size, offset)
        if self.what == "bytes":
            match self.how:
                case "few":
                    data = data[: max(1, len(data) // 50)]
                case "more":
                    data += b"more"
                case "early-end":
                    data = data if offset == 0 else b""
                case "no-end":
                    data = data or b"for ever"
                case "nothing":
                    return 103, text(b"")
        return (103, text(data)) if data else status(1, b"End of file")

    def do_write(self, request: Request) -> tuple[int, bytes]:
        handle, (offset,), data = request.text(), request.numbers(">Q"), request.text()
        if self.what != "drops" and not (self.what == "half" and len(data) > 10):
            os.pwrite(self._handles[handle], data, offset)
        elif self.what == "half":
            os.pwrite(self._handles[handle], data[: len(data) // 2], offset)
        return status(0)

    def _set(self, path: Any, facts: dict[str, int]) -> tuple[int, bytes]:
        if "mode" in facts:
            os.chmod(path, facts["mode"] & 0o7777)
        if "mtime" in facts:
            os.utime(path, (facts["mtime"], facts["mtime"]))
        return status(0)

    def do_setstat(self, request: Request) -> tuple[int, bytes]:
        return self._set(request.text(), request.facts())

    def do_fsetstat(self, request: Request) -> tuple[int, bytes]:
        return self._set(self._handles[request.text()], request.facts())

    def do_remove(self, request: Request) -> tuple[int, bytes]:
        os.unlink(request.text())
        return status(0)

    def do_mkdir(self, request: Request) -> tuple[int, bytes]:
        os.mkdir(request.text(), request.facts().get("mode", 0o755) & 0o7777)
        return status(0)

    def do_rmdir(self, request: Request) -> tuple[int, bytes]:
        os.rmdir(request.text())
        return status(0)

    def do_rename(self, request: Request) -> tuple[int, bytes]:
        old, new = request.text(), request.text()
        if os.path.lexists(new):
            return status(4, b"Failure")
        if (self.what, self.how) == ("rename", "not-done"):
            return status(0)
        os.rename(old, new)
        return status(4, b"Failure") if (self.what, self.how) == ("rename", "done-but-refused") else status(0)

    def do_readlink(self, request: Request) -> tuple[int, bytes]:
        target = os.readlink(request.text())
        target = {"nul": b"a\0b", "long": b"x" * 200_000, "out": b"/etc/passwd", "empty": b""}.get(
            self.how if self.what == "target" else "", target)  # fmt: skip
        return 104, struct.pack(">I", 1) + text(target) + text(target) + struct.pack(">I", 0)

    def do_symlink(self, request: Request) -> tuple[int, bytes]:
        target, path = request.text(), request.text()
        os.symlink(target, path)
        return status(0)

    def do_extended(self, request: Request) -> tuple[int, bytes]:
        match request.text().partition(b"@")[0]:
            case b"posix-rename":
                os.rename(request.text(), request.text())
            case b"hardlink":
                os.link(request.text(), request.text())
            case b"fsync":
                if self.what == "fsync" and self.how == "silent":
                    time.sleep(3600)
                if self.what == "fsync":
                    return status(4, b"Failure")
                os.fsync(self._handles[request.text()])
            case b"limits":
                if self.what == "limits":
                    most = {"zero": 0, "tiny": 1}.get(self.how, 2**64 - 1)
                    return 201, struct.pack(">4Q", most, most, most, most)
                return 201, struct.pack(">4Q", 262144, 261120, 261120, 1000)
            case b"statvfs":
                found = os.statvfs(request.text())
                free = 0 if self.what == "no-space" else found.f_bavail
                block = 2**63 if self.what == "space" else found.f_bsize
                return 201, struct.pack(">11Q", block, found.f_frsize, found.f_blocks, free, free, 1, 1, 1, 1, 0, 255)
            case _:
                return status(8)
        return status(0)

    # -- listings ----------------------------------------------------------------------------------------------

    def do_readdir(self, request: Request) -> tuple[int, bytes]:
        entry = self._handles[request.text()]
        path, names = entry
        if names is None:
            entry[1] = names = self._names(path)
        some = []
        for _ in range(100):
            found = next(names, None)
            if found is None:
                break
            some.append(found)
        if not some:
            return status(1, b"End of file")
        return 104, struct.pack(">I", len(some)) + b"".join(some)

    def _names(self, path: bytes) -> Any:
        for name in [b".", b"..", *sorted(os.listdir(path))]:
            yield self._entry(name, os.lstat(os.path.join(path, name)))
        if self.what == "names" and os.path.basename(path) == b"tree":
            yield from NAMES[self.how](self, os.lstat(os.path.join(path, b"a")), os.lstat(path))

    def _entry(self, name: bytes, found: os.stat_result, **other: int) -> bytes:
        facts = attributes(found, **other) if other or self.what != "facts" else self._facts(found)
        return text(name) + text(b"-rw-r--r-- " + name) + facts


def forever(entry: Callable[[int], bytes]) -> Any:
    number = 0
    while True:
        number += 1
        yield entry(number)


NAMES: dict[str, Callable[[Server, os.stat_result, os.stat_result], Any]] = {
    "climbs": lambda server, file, above: [server._entry(b"../out", file), server._entry(b"../../out", above)],
    "slash": lambda server, file, above: [server._entry(b"sub/out", file), server._entry(b"/etc/out", file)],
    "nul": lambda server, file, above: [server._entry(b"a\0b", file)],
    "no-name": lambda server, file, above: [server._entry(b"", file)],
    "long": lambda server, file, above: [server._entry(b"x" * 300, file)],
    "control": lambda server, file, above: [server._entry(b"\x1b]0;owned\x07\r\n", file)],
    "twice": lambda server, file, above: [server._entry(b"a", file)] * 3,
    "differs": lambda server, file, above: [server._entry(b"a", file, size=1), server._entry(b"a", file, size=2)],
    "same-for-ever": lambda server, file, above: forever(lambda number: server._entry(b"a", file)),
    "endless": lambda server, file, above: forever(lambda number: server._entry(b"n%d" % number, file)),
    "ours": lambda server, file, above: [server._entry(b".yatagan-x-1-1.part", file)],
    "itself": lambda server, file, above: [server._entry(b"self", above)],
    "not-there": lambda server, file, above: [server._entry(b"ghost", file), server._entry(b"ghosts", above)],
}  # fmt: skip

if __name__ == "__main__":
    with open(sys.argv[1]) as chosen:
        server = Server(chosen.read().strip())
    server.serve()
