"""How files will be proven, and what a server cannot do for that: rows of a plan."""

from __future__ import annotations

from yatagan.batches.states import Evidence
from yatagan.batches.steps import Prove
from yatagan.cli.terminal import text
from yatagan.stores.interface import Store


def proof(evidence: Evidence | None, prove: Prove, source: Store, destination: Store) -> str:
    """The row for the proof, and why it is no better. `evidence`: what there will be, as `evidence_for` says."""
    match evidence:
        case Evidence.READ_BACK:
            here = " here" if not (destination.traits.here and source.traits.here) else ""
            return f"every file is read back and hashed{here} (read-back)"
        case Evidence.ON_NODE if destination.traits.here:
            return f"{source.name} hashes every file too, and the digests must agree (on-node)"
        case Evidence.ON_NODE:
            return f"{destination.name} hashes every file after it is synced (on-node)"
        case Evidence.ON_ARRIVAL:
            return "every file is hashed here during the transfer (on-arrival)"
        case _ if prove is Prove.NONE:
            return "not asked for: contents are not looked at (sent)"
        case _:
            return f"none: {_why_none(destination)}; --prove read-back reads every file back"


def _why_none(node: Store) -> str:
    """Why a node cannot prove anything."""
    if node.machine is not None:
        return f"on {node.name} commands and file transfer see different disks"
    if node.traits.shell_too_slow:
        waited = text.duration(node.traits.shell_seconds)
        return f"{node.name} may run commands, but its shell has started nothing within {waited}"
    return f"{node.name} runs no commands"


def no_sync(prove: Prove, destination: Store) -> str:
    """The warning about a server that cannot sync files."""
    if destination.traits.syncs:
        return ""
    words = f"{destination.name} does not offer it: after an interruption, half-sent files start over"
    synced_by_proof = destination.machine is not None and prove in (Prove.AUTO, Prove.ON_NODE)
    return words if synced_by_proof else f"{words}; what a power failure there takes is not noticed"
