"""A long line between two network namespaces, on which the kernel's own TCP sees the delay. Needs root.

The two ends are TUN devices; a process for each direction holds every packet until its time has come, and perhaps lets
it wait for its turn on a line of limited rate, or loses it. The kernel hands over packets of up to 64 KiB, so that
Python can follow.
"""

from __future__ import annotations

import collections
import fcntl
import os
import random
import select
import signal
import struct
import subprocess
import sys
import time
from dataclasses import dataclass
from typing import NoReturn, Self

NEAR, FAR = "yatagan-near", "yatagan-far"
NEAR_ADDRESS, FAR_ADDRESS = "10.77.1.1", "10.77.1.2"
_TUNSETIFF, _TUNSETOFFLOAD = 0x400454CA, 0x400454D0
_TUN, _NO_PI, _VNET_HDR = 1, 0x1000, 0x4000
_CHECKSUMS_AND_SEGMENTS = 1 | 2 | 4
_SEGMENT = 1448
#: How often it is looked for packets, in seconds: times are as exact as that.
_TICK = 0.0005


def possible() -> bool:
    """Whether this machine lets us make one."""
    return os.geteuid() == 0 and os.path.exists("/dev/net/tun")


def _ip(*words: str, check: bool = True) -> None:
    subprocess.run(["ip", *words], check=check, capture_output=True)


def _device(name: str, space: str, address: str, peer: str) -> int:
    """A TUN device in a namespace of its own: the descriptor at which its packets come out here."""
    descriptor = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
    fcntl.ioctl(descriptor, _TUNSETIFF, struct.pack("16sH22x", name.encode(), _TUN | _NO_PI | _VNET_HDR))
    fcntl.ioctl(descriptor, _TUNSETOFFLOAD, _CHECKSUMS_AND_SEGMENTS)
    _ip("netns", "add", space)
    _ip("link", "set", name, "netns", space)
    _ip("-n", space, "link", "set", "lo", "up")
    _ip("-n", space, "addr", "add", address, "peer", peer, "dev", name)
    _ip("-n", space, "link", "set", name, "mtu", "1500", "txqueuelen", "20000", "up")
    return descriptor


@dataclass(frozen=True)
class Link:
    """One line: one-way `delay` in seconds, `rate` in bytes a second each way (0: as it comes), `loss` of packets."""

    delay: float = 0.025
    rate: float = 0.0
    loss: float = 0.0

    def __enter__(self) -> Self:
        self._take_down()
        near = _device("yatagan-n", NEAR, NEAR_ADDRESS, FAR_ADDRESS)
        far = _device("yatagan-f", FAR, FAR_ADDRESS, NEAR_ADDRESS)
        children = []
        for source, target in ((near, far), (far, near)):
            child = os.fork()
            if child == 0:
                self._carry(source, target)
            children.append(child)
        object.__setattr__(self, "_children", children)
        os.close(near)
        os.close(far)
        return self

    def __exit__(self, *error: object) -> None:
        for child in self._children:  # type: ignore[attr-defined]
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
        self._take_down()

    @staticmethod
    def _take_down() -> None:
        for space in (NEAR, FAR):
            _ip("netns", "del", space, check=False)

    def _carry(self, source: int, target: int) -> NoReturn:
        """One direction, never out of order: a packet leaves when the line is free, and arrives a delay later."""
        try:
            self._carry_on(source, target)
        except BaseException:  # noqa: BLE001 there is nobody to tell
            os._exit(1)
        os._exit(0)

    def _carry_on(self, source: int, target: int) -> None:
        waiting: collections.deque[tuple[float, bytes]] = collections.deque()
        most, free = max(self.rate * self.delay * 2, 256 << 10), 0.0
        while True:
            # Never on the alert: the line must not take the processors from its two ends.
            if waiting:
                time.sleep(_TICK)
            else:
                select.select([source], [], [])
            now = time.monotonic()
            for _ in range(256):
                try:
                    packet = os.read(source, 70_000)
                except BlockingIOError:
                    break
                due = now + self.delay
                if self.rate:
                    free = max(free, now)
                    if (free - now) * self.rate + len(packet) > most:
                        continue  # the queue is full
                    free += len(packet) / self.rate
                    due = free + self.delay
                if self.loss and random.random() < self.loss * max(1, len(packet) // _SEGMENT):
                    continue
                waiting.append((due, packet))
            soon = time.monotonic() + _TICK / 2
            while waiting and waiting[0][0] <= soon:
                try:
                    os.write(target, waiting[0][1])
                except BlockingIOError:
                    break
                except OSError:
                    pass  # the other end is going down
                waiting.popleft()


if __name__ == "__main__":
    values = [float(word) for word in sys.argv[1:]]
    with Link(*values):
        print(f"{NEAR} {NEAR_ADDRESS} <-> {FAR} {FAR_ADDRESS}; Ctrl-C ends it", flush=True)
        signal.pause()
