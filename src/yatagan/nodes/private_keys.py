"""Reading SSH private keys, of which some need a pass phrase."""

from __future__ import annotations

from pathlib import Path

import asyncssh


class NeedsPassPhrase(Exception):
    """A private key cannot be read without its pass phrase."""


def read_key(file: str | Path) -> asyncssh.SSHKey:
    """A private key that has no pass phrase.

    Raises NeedsPassPhrase for one that has, asyncssh.KeyImportError for what is no key, and OSError.
    """
    try:
        return asyncssh.read_private_key(file)
    except asyncssh.KeyImportError as error:
        if "assphrase" in str(error):  # the library has no type of its own for a phrase that is missing
            raise NeedsPassPhrase from error
        raise
