"""A lease on an open file (Linux, fcntl(2)): as long as it is held, no other program has the file open.

Whoever opens the file, or cuts it short, is kept waiting by the kernel until the lease is let go. So a file on which it
was held from its first byte to its last holds what was written here, and nothing else.
"""

from __future__ import annotations

import contextlib
import fcntl
import signal


class WriteLease:
    """A lease on a descriptor, from now on; `held` is False where none is given: on many disks of other machines.

    The kernel tells of a waiting program by a signal. It is one that is ignored by itself: the usual one would end this
    process.
    """

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor
        self.held = False
        try:
            fcntl.fcntl(descriptor, fcntl.F_SETSIG, signal.SIGURG)
            fcntl.fcntl(descriptor, fcntl.F_SETLEASE, fcntl.F_WRLCK)
        except (OSError, AttributeError):
            return
        self.held = True

    def look(self) -> bool:
        """Whether it is still held. Once another program waits for the file it is let go."""
        if self.held and fcntl.fcntl(self._descriptor, fcntl.F_GETLEASE) != fcntl.F_WRLCK:
            self.let_go()
        return self.held

    def let_go(self) -> None:
        """Let it go, for good: also this process would wait for it if it opened the file once more."""
        if self.held:
            self.held = False
            with contextlib.suppress(OSError):  # the kernel has taken it already
                fcntl.fcntl(self._descriptor, fcntl.F_SETLEASE, fcntl.F_UNLCK)
