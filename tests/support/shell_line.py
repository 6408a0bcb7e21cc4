"""`yatagan` in a line of a shell: the server of forking.py runs it, with the streams, words and directory it has here.

It ends as that run does. It is started for every such line, so it imports next to nothing.
"""

import array
import json
import os
import signal
import socket
import sys


def main(server: str) -> None:
    """Ask the server of this name; see forking.py."""
    streams, closed = [], ""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            closed += str(number)
            streams.append(os.open(os.devnull, os.O_RDWR))
        else:
            streams.append(number)
    environment = {**os.environ, "CLOSED_STREAMS": closed}
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as asking:
        asking.connect("\0" + server)
        order = json.dumps([sys.argv[1:], os.getcwd(), environment, None, False]).encode()
        asking.sendmsg([order], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", streams))])
        for number in range(3):  # a reader at the other end of a pipe waits for the program alone
            if str(number) not in closed:
                os.dup2(os.open(os.devnull, os.O_RDWR), number)
        asking.recv(100)
        status = int(asking.recv(100) or signal.SIGKILL)
    if os.WIFSIGNALED(status):
        os.kill(os.getpid(), os.WTERMSIG(status))
    os._exit(os.waitstatus_to_exitcode(status))
