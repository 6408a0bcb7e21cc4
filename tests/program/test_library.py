"""Yatagan from Python: as its guide shows it, in a script and in a loop that runs already."""

from __future__ import annotations

import asyncio
import contextlib
import io
import json
import locale
import logging
import os
import re
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

import yatagan
from conftest import Far, Program, first_run, snapshot, wait_for
from yatagan.archives.compression import Form
from yatagan.batches.states import BatchState
from yatagan.config.home import Home
from yatagan.operations.bagging import BagRequest, bag_directory, verify_bag
from yatagan.operations.bundle_make import BundleRequest, make_bundle
from yatagan.operations.bundle_read import UnpackArchive, check_archive, list_archive, unpack_archive
from yatagan.operations.earlier_batch import EarlierUse
from yatagan.request_errors import BadBag, BadBundle, WrongBag, WrongBundle

GUIDE = Path(__file__).parents[2] / "docs" / "guide" / "from-python.md"


def example() -> str:
    (found,) = re.findall(r"```python\n(.*?)```", GUIDE.read_text(), re.DOTALL)
    return str(found).replace("heron:", "oak:")


def make_fen(program: Program) -> Path:
    fen = program.directory / "fen"
    fen.mkdir()
    for number in range(3):
        (fen / f"{number}.csv").write_text("CH4 1.9 ppm\n" * number)
    return fen


def desk_of(program: Program) -> yatagan.Desk:
    home = Home(program.home, program.home, program.home / ".ssh", program.home)
    return yatagan.open_desk(program.directory, home=home)


def test_the_guide_in_a_script(program: Program, oak: Far) -> None:
    fen = make_fen(program)
    script = example() + "\nimport sys\nassert not {'click', 'rich'} & sys.modules.keys()\n"
    done = subprocess.run(
        [sys.executable, "-c", script],
        cwd=program.directory,
        env=program.environment(),
        capture_output=True,
        text=True,
        check=False,
    )
    assert (done.returncode, done.stderr) == (0, ""), done.stderr
    first, *_, last = done.stdout.splitlines()
    assert first == "3 files, 36 bytes" and last.endswith(" finished True")
    assert snapshot(oak.root / "campaign" / "fen") == snapshot(fen)
    name = last.split()[0]
    assert program.json("batch", "show", name)["good"]
    assert program.json("ledger", "show")["records"][0]["batch"] == name


def state_of_process() -> dict[str, Any]:
    umask = os.umask(0o022)
    os.umask(umask)
    return {
        "umask": umask,
        "directory": os.getcwd(),
        "signals": {number: signal.getsignal(number) for number in signal.valid_signals() - {signal.SIGCHLD}},
        "locale": locale.setlocale(locale.LC_ALL),
        "root logger": (logging.root.level, list(logging.root.handlers)),
    }


def test_in_a_loop_that_runs_already(program: Program, oak: Far) -> None:
    """The process is as it was, before, during and after; nothing is printed."""
    fen, before, during = make_fen(program), state_of_process(), []

    async def stage() -> yatagan.AcceptedBatch:
        during.append(state_of_process())  # the loop itself takes SIGINT
        desk = desk_of(program)
        request = yatagan.StageRequest((desk.place("fen"),), desk.place("oak:in"))
        async with yatagan.plan_stage(desk, request) as planned:
            accepted = await planned.accept()
        async with accepted:
            during.extend([state_of_process() async for _ in accepted.run()])
            assert accepted.outcome.good
            return accepted

    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
        asyncio.run(stage())
    assert len(during) > 4 and all(each == during[0] for each in during) and state_of_process() == before
    assert out.getvalue() == "" and snapshot(oak.root / "in" / "fen") == snapshot(fen)


def test_a_task_that_is_cancelled_leaves_a_batch_to_resume(program: Program, oak: Far) -> None:
    data = os.urandom(3_000_000)
    (program.directory / "big").write_bytes(data)

    async def stage() -> str:
        desk = desk_of(program)
        request = yatagan.StageRequest((desk.place("big"),), desk.place("oak:in"), max_rate=1_000_000)
        async with yatagan.plan_stage(desk, request) as planned:
            accepted = await planned.accept()
        async with accepted:

            async def carry() -> None:
                async for _ in accepted.run():
                    pass

            task = asyncio.ensure_future(carry())
            await asyncio.to_thread(wait_for, lambda: any((oak.root / "in").glob(".yatagan-*.part")))
            task.cancel()
            with pytest.raises(asyncio.CancelledError):
                await task
            assert accepted.outcome.standing.state is BatchState.INTERRUPTED
            return accepted.name

    async def go_on(name: str = "") -> bool:
        desk = desk_of(program)
        async with await yatagan.resume(desk, yatagan.ResumeRequest(name)) as accepted:
            assert accepted.name == first
            with pytest.raises(yatagan.YataganError):  # it is ours
                await yatagan.resume(desk, yatagan.ResumeRequest(first))
            if not (finished := accepted.outcome.good):
                assert [event async for event in accepted.run()]
            assert accepted.outcome.good
            return finished

    first = asyncio.run(stage())
    assert not asyncio.run(go_on())
    assert (oak.root / "in" / "big").read_bytes() == data
    assert asyncio.run(go_on(first)), "it is finished already"
    assert "is finished already" in program("batch", "resume", first).stdout
    (oak.root / "in" / "big").unlink()
    second = asyncio.run(stage())
    program("batch", "cancel", second)
    for _ in range(2):  # whoever is refused holds nothing
        with pytest.raises(yatagan.YataganError) as refused:
            asyncio.run(go_on(second))
        assert type(refused.value).__name__ == "BatchCancelled"


def test_a_batch_that_another_takes_first_stays_in_the_queue(program: Program) -> None:
    """Between a plan and its acceptance a worker may have taken what an earlier stage left."""
    make_fen(program)
    desk = desk_of(program)
    request = yatagan.StageRequest((desk.place("fen"),), desk.place("there"))

    async def work() -> None:
        async with yatagan.plan_stage(desk, request) as planned, await planned.accept() as left:
            pass
        desk.queue().add(left.name, [], 0o022)
        async with yatagan.plan_stage(desk, request) as planned:
            assert planned.use is EarlierUse.GO_ON
            left.batch.lock()
            with pytest.raises(yatagan.YataganError, match=left.name):
                await planned.accept()
            assert desk.queue().entry(left.name) is not None
            left.batch.unlock()
            async with await planned.accept() as again:
                assert again.name == left.name and desk.queue().entry(left.name) is None

    asyncio.run(work())


def test_a_request_is_a_value(program: Program) -> None:
    desk = desk_of(program)

    def request(**more: Any) -> yatagan.StageRequest:
        return yatagan.StageRequest((desk.place("fen"),), desk.place("oak:in"), **more)

    assert request() == request() and hash(request()) == hash(request())
    assert request(choice=yatagan.Choice([b"*.csv"])) == request(choice=yatagan.Choice([b"*.csv"]))
    assert request(choice=yatagan.Choice([b"*.csv"])) != request()
    assert json.loads(request(by=yatagan.By.DIGEST).options)["by_digest"]
    with pytest.raises(yatagan.YataganError):
        yatagan.StageRequest((yatagan.Place("oak", b"a"), yatagan.Place("", b"b")), desk.place("there"))


def test_relative_places_need_a_directory(program: Program) -> None:
    home = Home(program.home, program.home, program.home / ".ssh", program.home)
    desk = yatagan.open_desk(home=home)
    with pytest.raises(yatagan.YataganError, match="no directory"):
        desk.place("fen")
    assert desk.place(str(program.directory)).path == os.fsencode(program.directory)


DAY = """
import asyncio, os, sys
from dataclasses import replace
import yatagan


async def main():
    desk = yatagan.open_desk(".")
    fen, there = desk.place("fen"), desk.place("oak:in")
    request = yatagan.StageRequest((fen,), there)
    async with yatagan.plan_stage(desk, request) as planned:
        assert planned.plan.summary.files == 3 and planned.cautions == []
        accepted = await planned.accept()
    async with accepted:
        events = [event async for event in accepted.run()]
    assert accepted.outcome.good and len(events) > 4

    made = await yatagan.make_list(desk, yatagan.ListRequest(fen, output=desk.place("list")))
    assert made.files == 3 and not made.unread
    verified = await yatagan.verify(desk, yatagan.VerifyRequest(desk.place("oak:in/fen"), against=desk.place("list")))
    assert verified.good and verified.verdicts.files == 3
    assert (await yatagan.verify(desk, yatagan.VerifyRequest(batch=accepted.name))).good

    sides = yatagan.CompareRequest(fen, desk.place("oak:in/fen"), by=yatagan.By.DIGEST)
    assert (await yatagan.compare(desk, sides)).same
    os.rename("fen/1.csv", "moved-away")
    assert not (await yatagan.compare(desk, sides)).same

    (wanted,) = yatagan.wanted_trees(desk, yatagan.RestoreRequest(fen))
    lost = await yatagan.find_lost(desk, wanted)
    assert list(lost.losses.lost) == [b"1.csv"] and lost.whole
    for back in lost.returns():
        async with yatagan.plan_stage(desk, back.request, picked=back.picked) as planned:
            accepted = await planned.accept()
        async with accepted:
            async for _ in accepted.run():
                pass
    assert (await yatagan.compare(desk, sides)).same

    kinds = [record.kind for record in desk.ledger().records()]
    assert sorted(kinds) == ["listed", "restored", "staged", "verified", "verified"], kinds
    assert all(not record.fields.get("command") for record in desk.ledger().records())
    yatagan.add_routine(desk, "again", replace(request, destination=desk.place("oak:again")), yatagan.Every(3600.0))
    assert not {"click", "rich"} & sys.modules.keys()


asyncio.run(main())
"""


def test_a_day_of_a_notebook(program: Program, oak: Far) -> None:
    """Staged, listed, verified, compared, restored, on record, and staged again by a worker; nothing is printed."""
    fen = make_fen(program)
    done = subprocess.run(
        [sys.executable, "-c", DAY], cwd=program.directory, env=program.environment(), capture_output=True, text=True
    )
    assert (done.returncode, done.stdout, done.stderr) == (0, "", ""), done.stderr
    assert first_run(program, "again")["outcome"] == "moved"
    assert snapshot(oak.root / "again" / "fen") == snapshot(fen) == snapshot(oak.root / "in" / "fen")
    assert "stage fen oak:again" in " ".join(program("routine", "show", "again").stdout.split())
    again = program.json("routine", "show", "again")["runs"][0]["batch"]
    assert program.json("batch", "show", again)["command"] == [], "nothing was typed for it"
    program("routine", "remove", "again")


def test_bundles_and_bags(program: Program) -> None:
    """Made, listed, unpacked and checked, each on record; what cannot be is refused by a value."""
    fen = make_fen(program)
    desk = desk_of(program)

    async def work() -> None:
        bundle = await make_bundle(desk, BundleRequest((desk.place("fen"),), desk.place("fen.tar.gz"), level=9))
        assert (bundle.made.totals.files, bundle.recipe.form, bundle.recipe.level) == (3, Form.GZIP, 9)
        listing = await list_archive(desk, bundle.where, yatagan.Choice([b"2.csv"]))
        assert [line.member.name for line in listing.lines if line.digest] == [b"fen/2.csv"] and listing.damage is None
        assert (await check_archive(desk, bundle.where)).read.good
        unpacked = await unpack_archive(desk, UnpackArchive(bundle.where, desk.place("out")))
        assert unpacked.read.good and snapshot(program.directory / "out" / "fen") == snapshot(fen)
        bag = await bag_directory(desk, BagRequest(desk.place("fen"), info=(("Contact-Name", "fen-flux"),)))
        assert (bag.files, bag.algorithms, bag.place) == (3, ("sha256",), yatagan.Place("", bytes(fen) + b"-bag"))
        assert (await verify_bag(desk, bag.place)).verdict.valid
        for why, request in (
            (WrongBundle.EXISTS, BundleRequest((desk.place("fen"),), desk.place("fen.tar.gz"))),
            (WrongBundle.LEVEL, BundleRequest((desk.place("fen"),), desk.place("b.tar.gz"), level=10)),
            (WrongBundle.LEVEL, BundleRequest((desk.place("fen"),), desk.place("b.tar"), level=1)),
            (WrongBundle.SEVERAL_MACHINES, BundleRequest((desk.place("fen"), yatagan.Place("oak", b"fen")))),
            (WrongBundle.SAME_NAME, BundleRequest((desk.place("fen"), desk.place("out/fen")), desk.place("c.tar"))),
            (WrongBundle.ENDING_AND_FORM, BundleRequest((desk.place("fen"),), desk.place("b.tar"), Form.GZIP)),
        ):
            with pytest.raises(BadBundle) as refused:
                await make_bundle(desk, request)
            assert refused.value.why is why
        for no_bag, asked in (
            (WrongBag.IN_ITSELF, BagRequest(desk.place("fen"), desk.place("fen/bag"))),
            (WrongBag.NO_DIRECTORY, BagRequest(desk.place("fen/1.csv"))),
            (WrongBag.OF_A_NODE, BagRequest(yatagan.Place("oak", b"fen"))),
        ):
            with pytest.raises(BadBag) as none:
                await bag_directory(desk, asked)
            assert none.value.why is no_bag

    asyncio.run(work())
    records = program.json("ledger", "show")["records"]
    assert [record["kind"] for record in reversed(records)] == ["bundled", "unpacked", "bundled", "verified"]
    assert all(record["outcome"] == "good" and not record.get("command") for record in records)
