"""Runs on the node, with the node's own Python 3 and nothing but its standard library.

It is sent over the login and never touches the node's disk. Requests come as JSON lines on
standard input, answers go as JSON lines to standard output, after a line with the token that the
other side chose (what a start-up file printed before it is ignored). Paths travel as text with
one character a byte (Latin-1). The program ends when its input ends.

Kept to what Python 3.6 understands. Requests:

  hello                       who we are: host, boot, Python, digests, our session's processes, and that of the login
  session logins              the processes of some logins, or of their file servers
  clock                       what this machine takes the time to be
  digest_start path size algorithm  hash the first bytes of a file
  digests files algorithm     sync files, read and hash them; each with the facts with which that need not be done again
  look path                   facts in nanoseconds
  look_in path names          the same for names in a directory
  set path mode mtime_ns      mode and time of a file or directory, given as number or null
  read path                   the first 200 bytes (to prove with a token file that we see the same disk)
  alive boot processes        which of these processes still live
  read_small paths most       the contents of many small files
  learn modules               take in modules of ours, each (name, source); what they can do can be asked for then
  place placings              give proven part files their facts and names
  finish files                many part files proven and given their names
  extract bundle files        many small files out of a bundle that has arrived, each proven and given its name

Before the answer to a question that takes long come lines with the question's number and `busy`, as long as
there is progress: a server that hashes for an hour has not gone silent.
"""

import errno
import hashlib
import json
import os
import queue
import sys
import threading
import time
from base64 import b64encode
from typing import Any, Callable, Dict, List, Optional, Tuple

from yatagan.portable import small_files
from yatagan.portable.directories import facts, look_at, look_in, open_regular
from yatagan.portable.placing import Placing, place_by_name, set_by_name

#: A question and its answer, as JSON carries them: values by name.
Request = Dict[str, Any]
Reply = Dict[str, Any]

#: Seconds between signs of life while a file is read.
BUSY_SECONDS = 5.0
Busy = Callable[[int], None]


def raw(text: str) -> bytes:
    """The bytes of a path."""
    return text.encode("latin-1")


def boot() -> str:
    """The boot id of this machine; "" where it has none."""
    try:
        with open("/proc/sys/kernel/random/boot_id") as stream:
            return stream.read().strip()
    except OSError:
        return ""


def process(pid: int) -> Optional[Tuple[int, int]]:
    """(parent, start time) of a process, or None. The start time distinguishes processes of one number."""
    try:
        with open("/proc/%d/stat" % pid, "rb") as stream:
            fields = stream.read().rpartition(b")")[2].split()
    except OSError:
        return None
    return None if fields[0] in (b"Z", b"X") else (int(fields[1]), int(fields[19]))


def session(logins: List[int]) -> List[List[int]]:
    """Processes of logins: each process that started a helper's command, or serves files, and all below it.

    The file server of a login is a descendant of the process that also started our command, so it
    is among these. [] when the machine does not show them.
    """
    try:
        pids = [int(name) for name in os.listdir("/proc") if name.isdigit()]
    except OSError:
        return []
    seen: Dict[int, Tuple[int, int]] = {}
    for pid in pids:
        found = process(pid)
        if found:
            seen[pid] = found
    ours = []
    for pid in seen:
        above = pid
        while above in seen and above not in logins:
            above = seen[above][0]
        if above in logins:
            ours.append([pid, seen[pid][1]])
    return ours if len(ours) > 2 else []


def do_hello(request: Request, busy: Busy) -> Reply:
    """Answer who we are."""
    return {
        "host": os.uname().nodename,
        "boot": boot(),
        "python": "%d.%d.%d" % sys.version_info[:3],
        "algorithms": sorted(hashlib.algorithms_available),
        "session": session([os.getppid()]),
        "login": os.getppid(),
    }


def do_session(request: Request, busy: Busy) -> Reply:
    """Answer with the processes of several logins."""
    return {"session": session(request["logins"])}


def do_clock(request: Request, busy: Busy) -> Reply:
    """Answer with the time, in nanoseconds."""
    return {"clock_ns": time.time_ns() if hasattr(time, "time_ns") else int(time.time() * 1e9)}  # novermin


def do_digests(request: Request, busy: Busy) -> Reply:
    """Hash files."""
    files = [(raw(path), known) for path, known in request["files"]]
    return {"files": small_files.digests(files, request["algorithm"], SignOfLife(busy))}


def do_digest_start(request: Request, busy: Busy) -> Reply:
    """Hash the first bytes of a file."""
    path, size = raw(request["path"]), request["size"]
    return {"made": small_files.digest_start(path, size, request["algorithm"], SignOfLife(busy))}


def do_look(request: Request, busy: Busy) -> Reply:
    """Answer with the facts of a name, links not followed."""
    return {"facts": facts(look_at(raw(request["path"])))}


def do_look_in(request: Request, busy: Busy) -> Reply:
    """Answer with the facts of names in a directory."""
    found = look_in(raw(request["path"]), [raw(name) for name in request["names"]])
    return {"facts": [facts(each) if each is not None else [] for each in found]}


def do_set(request: Request, busy: Busy) -> Reply:
    """Set mode and time. Answers with the error number if that cannot be, or 0."""
    return {"unset": set_by_name(raw(request["path"]), request["mode"], request["mtime_ns"])}


def do_read(request: Request, busy: Busy) -> Reply:
    """Answer with the start of a small file."""
    descriptor = open_regular(raw(request["path"]), os.O_RDONLY)
    try:
        return {"text": os.read(descriptor, 200).decode("latin-1")}
    finally:
        os.close(descriptor)


def do_alive(request: Request, busy: Busy) -> Reply:
    """Answer which of these processes are still alive; after a restart of the machine none is."""
    if not boot() or request["boot"] != boot():
        return {"alive": [], "sure": bool(boot())}
    alive = []
    for pid, start in request["processes"]:
        seen = process(pid)
        if seen and seen[1] == start:
            alive.append([pid, start])
    return {"alive": alive, "sure": True}


class SignOfLife:
    """Sends a sign of life when one is due."""

    def __init__(self, busy: Busy) -> None:
        self._busy = busy
        self._told = time.monotonic()
        self._done = 0

    def __call__(self) -> None:
        """Count some progress."""
        self._done += 1
        if time.monotonic() - self._told >= BUSY_SECONDS:
            self._busy(self._done)
            self._told = time.monotonic()


def do_read_small(request: Request, busy: Busy) -> Reply:
    """Read small files."""
    found = small_files.read_small([raw(path) for path in request["paths"]], request["most"], SignOfLife(busy))
    return {"files": [[outcome, b64encode(data).decode("ascii"), facts] for outcome, data, facts in found]}


def wanted(request: Request) -> List[small_files.BundledFile]:
    """The bundled files of a request."""
    found = []
    for offset, size, digest, part, earlier, path, *rest in request["files"]:
        stale = tuple([raw(each) for each in earlier])
        found.append(small_files.BundledFile(offset, size, digest, raw(part), stale, raw(path), *rest))
    return found


def do_finish(request: Request, busy: Busy) -> Reply:
    """Finish part files."""
    return {"outcomes": small_files.finish(wanted(request), SignOfLife(busy))}


def do_place(request: Request, busy: Busy) -> Reply:
    """Place proven part files. Answers for each with an error number or 0, and that of the error with its facts."""
    outcomes = []
    for part, path, size, known, mode, mtime_ns, seen, kept in request["placings"]:
        wanted = Placing(raw(part), raw(path), size, known, mode, mtime_ns, seen, raw(kept))
        try:
            outcomes.append([0, place_by_name(wanted)])
        except OSError as error:
            outcomes.append([error.errno or errno.EIO, 0])
    return {"outcomes": outcomes}


def do_extract(request: Request, busy: Busy) -> Reply:
    """Extract small files from a bundle."""
    return {"outcomes": small_files.extract(raw(request["path"]), wanted(request), SignOfLife(busy))}


#: What was learned: what to ask for, and who does it.
LEARNED: Dict[str, Callable[[Request, Callable[[], None]], Reply]] = {}


#: What was taken in whole; `sys.modules` also has what is only half loaded.
LOADED: Dict[str, Any] = {}
LEARNING = threading.Lock()


def do_learn(request: Request, busy: Busy) -> Reply:
    """Load modules that were sent."""
    with LEARNING:
        for name, source in request["modules"]:
            if name not in LOADED:
                LOADED[name] = sys.modules["__main__"].load(name, source)
            LEARNED.update(getattr(LOADED[name], "HANDLERS", {}))
    return {}


class Pool:
    """Threads that do one thing after the other.

    The library's pool takes as long to import as Python itself, and every login waits for it.
    """

    def __init__(self, threads: int, do: Callable[[Request], None]) -> None:
        self._do = do
        self._waiting: "queue.Queue[Request]" = queue.Queue()
        for _ in range(threads):
            threading.Thread(target=self._work, daemon=True).start()

    def submit(self, request: Request) -> None:
        """Have it done, after those that came before."""
        self._waiting.put(request)

    def _work(self) -> None:
        while True:
            self._do(self._waiting.get())


def main(token: str) -> None:
    """Answer until the input ends."""
    os.nice(10)
    lock = threading.Lock()
    out = sys.stdout.buffer

    def say(message: Dict[str, Any]) -> None:
        line = json.dumps(message).encode("ascii") + b"\n"
        with lock:
            out.write(line)
            out.flush()

    def answer(request: Request) -> None:
        reply: Dict[str, Any] = {"id": request["id"]}

        def busy(done: int) -> None:
            say({"id": request["id"], "busy": done})

        try:
            if request["do"] in LEARNED:
                reply.update(LEARNED[request["do"]](request, SignOfLife(busy)))
            else:
                reply.update(globals()["do_" + request["do"]](request, busy))
        except OSError as error:
            reply.update({"errno": error.errno or 0, "error": error.strerror or str(error)})
        except Exception as error:  # a mistake of ours, or a Python that lacks something
            reply.update({"broken": "%s: %s" % (type(error).__name__, error)})
        say(reply)

    out.write(b"\n" + token.encode("ascii") + b"\n")
    out.flush()
    processors = max(2, os.cpu_count() or 2)
    pool = Pool(min(4, processors), answer)
    hashing: Dict[int, Pool] = {}
    for line in sys.stdin.buffer:
        request = json.loads(line.decode("ascii"))
        wanted = min(request.get("hashing", 0), processors)  # more than are usual, or fewer
        if wanted and wanted not in hashing:
            hashing[wanted] = Pool(wanted, answer)
        (hashing[wanted] if wanted else pool).submit(request)
    os._exit(0)
