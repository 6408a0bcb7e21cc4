"""Why a login failed, in our terms: from the exceptions of the SSH library and of the system."""

from __future__ import annotations

import os
import socket

import asyncssh

from yatagan.config.nodes import Node
from yatagan.errors import CannotReach
from yatagan.nodes.sftp_client import NotFiles


def bad_key(node: Node, said: str, remedy: str = "") -> CannotReach:
    """The error for a key file that cannot be used."""
    remedy = remedy or f"name another: yatagan node change {node.name} --key FILE"
    return CannotReach(node.name, "login", f"the key cannot be used: {said}", passing=False, remedy=remedy)


def answers_refused(node: Node) -> CannotReach:
    """The error after wrong answers to what a server asked."""
    return CannotReach(
        node.name,
        "login",
        "the server did not accept what was answered",
        passing=False,
        remedy="check user name, password and code; after several wrong ones, wait: sites lock accounts",
    )


def explain(node: Node, error: Exception) -> CannotReach:
    """The error for a failed login: which step failed, and what to do."""
    name, said = node.name, str(error)
    match error:
        case socket.gaierror():
            return CannotReach(
                name,
                "look-up",
                f"no address is known for {node.address!r}",
                remedy="check the spelling and that the network (VPN?) is up",
            )
        case asyncssh.HostKeyNotVerifiable():
            return CannotReach(name, "host-key", said, passing=False, remedy="ask the site which host key is right")
        case asyncssh.DisconnectError() if "authentication failures" in said:
            return CannotReach(
                name,
                "login",
                "the server ended it after too many tries",
                passing=False,
                remedy="name the one key that is right with --key, or wait a while after wrong answers",
            )
        case asyncssh.PermissionDenied():
            return CannotReach(
                name,
                "login",
                "the server refused the login",
                passing=False,
                remedy="check the user name and the key (--user, --key), or the password that was typed",
            )
        case asyncssh.KeyImportError() | asyncssh.KeyEncryptionError():
            return bad_key(node, said)
        case FileNotFoundError() | PermissionError() | IsADirectoryError():
            return CannotReach(name, "login", f"a key or configuration file cannot be read: {said}", passing=False)
        case TimeoutError():
            return CannotReach(name, "connect", "no answer", remedy="check the address and that the network is up")
        case asyncssh.KeyExchangeFailed() | asyncssh.ProtocolNotSupported() | asyncssh.ProtocolError():
            return CannotReach(name, "key-exchange", said, passing=False)
        case ValueError() | asyncssh.ConfigParseError():
            return CannotReach(name, "connect", said, passing=False, remedy="check ~/.ssh/config")
        case OSError():
            # The library's own words for a refused connection are a tuple in brackets.
            said = os.strerror(error.errno).lower() if error.errno else said
            return CannotReach(name, "connect", said, remedy="check address and port, and that the network is up")
        case _:
            return CannotReach(name, "connect", said or type(error).__name__)


def files_refused(node: Node, error: Exception) -> CannotReach:
    """The error for a login without a file channel."""
    said = str(error)
    if isinstance(error, NotFiles):
        return CannotReach(
            node.name,
            "sftp",
            "the account's shell prints text where files should come",
            passing=False,
            remedy="silence its start-up file for sessions without a terminal",
        )
    if isinstance(error, TimeoutError):
        return CannotReach(
            node.name,
            "sftp",
            "the login was accepted, but the file server did not answer",
            remedy="the node may be overloaded; try again, or ask the site",
        )
    if isinstance(error, ConnectionError):
        return CannotReach(
            node.name,
            "sftp",
            "the login ended before the file server answered",
            remedy="the account may have no shell, or the server no file service",
        )
    return CannotReach(node.name, "sftp", said or type(error).__name__)
