"""How files will be proven, and what a server cannot do for that: rows of a plan."""

from __future__ import annotations

from yatagan.batches.steps import Prove
from yatagan.cli.terminal import text
from yatagan.stores.interface import Store


def proof(prove: Prove, source: Store, destination: Store, same_disk: bool) -> str:
    """The row for the proof, and why it is no better."""
    if destination.traits.here and source.traits.here:
        if prove is Prove.NONE:
            return "not asked for: contents are not looked at (sent)"
        return "every file is read back and hashed (read-back)"
    if prove is Prove.READ_BACK:
        return "every file is read back and hashed here (read-back)"
    if destination.traits.here:
        if prove is Prove.ON_NODE:
            return f"{source.name} hashes every file too, and the digests must agree (on-node)"
        return "every file is hashed here during the transfer (on-arrival)"
    if prove is Prove.NONE:
        return "not asked for: contents are not looked at (sent)"
    if destination.machine is not None and same_disk:
        return f"{destination.name} hashes every file after it is synced (on-node)"
    if destination.machine is not None:
        return (
            f"none: on {destination.name} commands and file transfer see different disks; "
            "--prove read-back reads every file back"
        )
    return f"none: {destination.name} {_no_commands(destination)}; --prove read-back reads every file back"


def _no_commands(store: Store) -> str:
    """Why a node cannot prove anything."""
    if store.traits.shell_too_slow:
        waited = text.duration(store.traits.shell_seconds)
        return f"may run commands, but its shell has started nothing within {waited}"
    return "runs no commands"


def no_sync(prove: Prove, destination: Store) -> str:
    """The warning about a server that cannot sync files."""
    if destination.traits.syncs:
        return ""
    words = f"{destination.name} does not offer it: after an interruption, half-sent files start over"
    synced_by_proof = destination.machine is not None and prove in (Prove.AUTO, Prove.ON_NODE)
    return words if synced_by_proof else f"{words}; what a power failure there takes is not noticed"
