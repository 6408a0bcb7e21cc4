"""The demo, as `make demo` runs it."""

from __future__ import annotations

from conftest import Program, snapshot
from yatagan.practice.fenflux import CHAMBERS


def test_the_demo_explains_itself_and_leaves_something_to_try_on(program: Program) -> None:
    try:
        done = program("demo", "fen-demo")
    finally:
        program("practice", "--root", "fen-demo/practice", "--stop", expect=None)
    told = [
        "  yatagan list fen\n",
        "--plan-only",
        "is interrupted",
        "(exit status 4)",
        "  yatagan batch show\n",
        "  yatagan batch resume\n",
        "is finished",
        "Nothing to move",
        "  yatagan verify heron:campaign/fen\n",
        ": good",
        "  yatagan stage heron:campaign/results .\n",
        "all as it was written",
        "export YATAGAN_HOME=",
    ]
    assert "the connection was lost" in done.stderr
    at = [done.stdout.find(words) for words in told]
    assert -1 not in at and at == sorted(at), dict(zip(told, at, strict=True))
    near, heron = program.directory / "fen-demo", program.directory / "fen-demo" / "practice" / "heron" / "campaign"
    there = snapshot(heron / "fen")
    for name in (b"SHA256SUMS", b"SHA256SUMS.facts.jsonl"):
        del there[name]
    assert there == snapshot(near / "fen")
    assert len(list((near / "results").glob("flux-*.csv"))) == CHAMBERS
    assert "is not empty" in program("demo", "fen-demo", expect=5).stderr
