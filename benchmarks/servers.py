"""A real OpenSSH server on a loopback port, and a relay that makes it look far away."""

from __future__ import annotations

import asyncio
import getpass
import os
import signal
import socket
import subprocess
import threading
import time
from collections import deque
from pathlib import Path
from typing import Self


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as free:
        port: int = free.getsockname()[1]
    return port


class Sshd:
    """Keys only; `root` is the start directory of its nodes. It listens at `address`, perhaps in a namespace."""

    def __init__(self, base: Path, address: str = "127.0.0.1", space: str = "") -> None:
        self._base = base / "sshd"
        self.root = base / "far"
        self.port = free_port()
        self.address = address
        self.key = str(self._base / "login")
        self._prefix = ["ip", "netns", "exec", space] if space else []

    def __enter__(self) -> Self:
        self._base.mkdir()
        self.root.mkdir()
        for name in ("host", "login"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self._base / name], check=True)
        (self._base / "config").write_text(
            f"Port {self.port}\nListenAddress {self.address}\nHostKey {self._base}/host\nPidFile none\nUsePAM no\n"
            f"StrictModes no\nAuthorizedKeysFile {self._base}/login.pub\nPermitRootLogin yes\n"
            "Subsystem sftp /usr/lib/openssh/sftp-server\n"
        )
        if os.geteuid() == 0:
            os.makedirs("/run/sshd", exist_ok=True)
        log = self._base / "log"
        server = ["/usr/sbin/sshd", "-D", "-f", str(self._base / "config"), "-E", str(log)]
        self._child = subprocess.Popen([*self._prefix, *server])
        while not (log.exists() and "Server listening" in log.read_text()):
            if self._child.poll() is not None:
                raise RuntimeError(log.read_text())
            time.sleep(0.05)
        return self

    def __exit__(self, *error: object) -> None:
        self._child.send_signal(signal.SIGTERM)
        self._child.wait(10)

    def add(self, node: str, port: int | None = None) -> list[str]:
        """The command that saves it as a node, perhaps behind another port."""
        shown = subprocess.run(
            ["ssh-keygen", "-lf", self._base / "host.pub"], capture_output=True, text=True, check=True
        )
        options = {
            "--port": str(port or self.port),
            "--user": getpass.getuser(),
            "--key": self.key,
            "--start": str(self.root),
            "--trust": shown.stdout.split()[1],
        }
        return ["node", "add", node, self.address, *(word for pair in options.items() for word in pair)]


class Relay:
    """Passes every byte on after a delay (seconds, one way), with so many bytes on their way as TCP would have."""

    def __init__(self, target: int, *, delay: float, window: int = 3 << 20) -> None:
        self._target, self._delay, self._window = target, delay, window
        self.port = free_port()
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._ready = threading.Event()

    def __enter__(self) -> Self:
        self._thread.start()
        self._ready.wait(10)
        return self

    def __exit__(self, *error: object) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(10)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_until_complete(asyncio.start_server(self._connected, "127.0.0.1", self.port))
        self._ready.set()
        self._loop.run_forever()

    async def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        far_reader, far_writer = await asyncio.open_connection("127.0.0.1", self._target)
        await asyncio.gather(self._pass(reader, far_writer), self._pass(far_reader, writer), return_exceptions=True)

    async def _pass(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One direction: what was read is written when its time has come."""
        waiting: deque[tuple[float, bytes]] = deque()
        held, changed, ended = 0, asyncio.Event(), False

        async def deliver() -> None:
            nonlocal held
            while waiting or not ended:
                if not waiting:
                    changed.clear()
                    await changed.wait()
                    continue
                due, data = waiting[0]
                await asyncio.sleep(max(0.0, due - time.monotonic()))
                waiting.popleft()
                held -= len(data)
                writer.write(data)
                await writer.drain()
                changed.set()
            writer.close()

        task = asyncio.ensure_future(deliver())
        while data := await reader.read(1 << 16):
            waiting.append((time.monotonic() + self._delay, data))
            held += len(data)
            changed.set()
            while held > self._window:
                changed.clear()
                await changed.wait()
        ended = True
        changed.set()
        await task
