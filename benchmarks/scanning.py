"""`python -m benchmarks.scanning HOME NEAR FAR`: list two trees, here and on the node oak, and do nothing with them."""

from __future__ import annotations

import asyncio
import os
import sys
from pathlib import Path

from yatagan.config.home import Home
from yatagan.config.nodes import NodeBook
from yatagan.config.settings import ConnectionSettings
from yatagan.nodes.prompts import NoPrompter
from yatagan.stores.local import LocalStore
from yatagan.stores.node_source import NodeSource
from yatagan.trees.scan import scan


async def main(home: Path, near: str, far: str) -> None:
    here = LocalStore(os.fsencode(home))
    found = Home(home, home, home / ".ssh", home)
    there = await NodeSource(NodeBook(found.nodes_file).get("oak"), found, ConnectionSettings(), NoPrompter()).open()
    trees = [await scan(here, await here.resolve(near.encode())), await scan(there, await there.resolve(far.encode()))]
    assert len(trees[0].entries) == len(trees[1].entries)
    await there.close()


if __name__ == "__main__":
    asyncio.run(main(Path(sys.argv[1]), *sys.argv[2:]))
