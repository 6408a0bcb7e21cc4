"""Whether the paths of this machine that were accepted with a plan still lead where they led."""

from __future__ import annotations

import os

from yatagan.batches.journal_data import Header
from yatagan.errors import StoreError
from yatagan.faults import Fault
from yatagan.stores.local import LocalStore


async def refuse_moved(header: Header) -> None:
    """Raise StoreError, LEADS_ELSEWHERE, if one leads elsewhere by now, to what was not planned."""
    here = LocalStore(b"/")
    for root in header.roots:
        # A source may be a link, which is staged as such; what we write into must not have become one.
        into = root == header.destination and not header.destination_node
        if (real := await here.resolve(root, follow=into)) != root:
            raise StoreError(Fault.LEADS_ELSEWHERE, root, detail=os.fsdecode(real))
