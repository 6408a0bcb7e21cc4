"""What machine this is, and which run of it.

A machine is known by its machine id (machine-id(5)), which stays when it gets another name. One run of it, from start
to stop, is known by the kernel's boot id: no other machine ever has the same. The name is for people.

Machines that were copied may have one machine id. Where their homes are one disk on the network, the name counts too.
"""

from __future__ import annotations

import hashlib
import platform
from functools import cache
from pathlib import Path

from yatagan.config.disks import on_network

_MACHINE_ID, _BOOT_ID = Path("/etc/machine-id"), Path("/proc/sys/kernel/random/boot_id")


@cache
def machine_id() -> str:
    """A digest of this machine's id, which itself is to stay on the machine; "" where it has none."""
    found = _line(_MACHINE_ID)
    return hashlib.sha256(b"yatagan " + found.encode()).hexdigest()[:16] if found else ""


@cache
def boot_id() -> str:
    """What names the time since this machine was started; "" where that cannot be known."""
    return _line(_BOOT_ID)


def machine_name() -> str:
    """What people call this machine."""
    return platform.node() or "host"


@cache
def machine_key(directory: Path) -> str:
    """A name for this machine's own files in a directory that several machines may share."""
    known = machine_id()
    if known and not on_network(directory):
        return known
    return hashlib.sha256(f"{machine_name()}\0{known}".encode()).hexdigest()[:16]


def _line(file: Path) -> str:
    try:
        return file.read_text(encoding="ascii", errors="replace").strip()
    except OSError:
        return ""
