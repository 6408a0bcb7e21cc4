"""Whether only the changed parts of a file need to be sent."""

from __future__ import annotations

from yatagan.stores.interface import Facts, Kind, Readable, Store

#: Files from this size on are looked into for parts that need not be sent.
REUSE_LEAST = 4 << 20


def may_reuse(source: Readable, destination: Store, facts: Facts, seen: Facts | None, least: int) -> bool:
    """Whether parts of what a file replaces may be used again: one end is here, the other can look for itself."""
    near, far = source.traits.here, destination.traits.here
    able = near is not far and (destination if near else source).machine is not None
    return able and seen is not None and seen.kind is Kind.FILE and min(facts.size, seen.size) >= least
