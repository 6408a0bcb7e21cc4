"""A simulated world for the engine: two machines, a line, faults from a seed, and virtual time.

The disks have a volatile and a durable half: written bytes are durable only after an answered sync, and when
the power goes, any subset of the rest survives. A line that drops leaves requests behind, which the far
side may have done, may never do, or may do much later, when a hung server process wakes up. The process
that stages may die at any write of its journal. Everything that happens is drawn from one seed.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import random
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Any

from simulated_world import AWAY, VICTIM, Died, Machine, Opening, VirtualLoop, World
from yatagan.batches.counts import BatchCounts, outcome_of
from yatagan.batches.journal import Journal
from yatagan.batches.journal_data import Header, Standing
from yatagan.batches.states import BatchState, Evidence, StepState
from yatagan.batches.steps import Prove, Times
from yatagan.engine.executor import Conditions, Executor
from yatagan.engine.retry import RetryPolicy
from yatagan.engine.scheduler import Limits
from yatagan.engine.session import evidence_for
from yatagan.faults import Fault
from yatagan.places import KEPT_DIRECTORY
from yatagan.planning.bundling import Costs
from yatagan.planning.placed_before import Placed
from yatagan.planning.plan import Plan
from yatagan.planning.planner import BundlingChoice, PlanWish, make_plan
from yatagan.planning.takeover import can_go_on, remove_parts, sync_what_is_there, take_over
from yatagan.stores.interface import Facts, Kind
from yatagan.transfer.transfer import Tuning
from yatagan.trees.patterns import Choice

BATCH, AGAIN = "261124-test", "261124-next"


class DyingJournal(Journal):
    """Kills the process at one of its writes: before it, or after it and before anybody hears of it."""

    die_at: int | None = None
    writes = 0
    death: asyncio.Future[None] | None = None

    def apply(self, changes, pace=()) -> None:  # type: ignore[no-untyped-def]
        if self.death is not None and self.death.done():
            raise Died
        self.writes += 1
        if self.writes == self.die_at and self.death is not None:
            if self.die_before:
                self.death.set_result(None)
                raise Died
            super().apply(changes, pace)
            self.death.set_result(None)
            raise Died
        super().apply(changes, pace)

    die_before = True


class Clock:
    """Virtual time."""

    def __init__(self, loop: VirtualLoop) -> None:
        self._loop = loop

    def monotonic(self) -> float:
        return self._loop.now

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)


async def _inline(function, *args):  # type: ignore[no-untyped-def]
    return function(*args)


@dataclass
class Scenario:
    """What one seed draws."""

    world: World
    here: Machine
    far: Machine
    upload: bool
    prove: Prove
    before: dict[bytes, bytes]
    foreign: dict[bytes, bytes]
    deaths: list[int]
    together: bool = False
    #: After the first interruption or death the stage is given again, with other options or the same.
    again: str = ""
    promised: Evidence | None = None
    #: A file that only grows, or is said to.
    growing: bytes = b""
    #: What is known of the time before: what was put where.
    placed: dict[bytes, Placed] = field(default_factory=dict)

    @property
    def source(self) -> Machine:
        return self.here if self.upload else self.far

    @property
    def destination(self) -> Machine:
        return self.far if self.upload else self.here


def draw(seed: int) -> Scenario:
    """A scenario from a seed."""
    world = World(seed)
    rng = world.rng
    helper = rng.random() < 0.6
    here = Machine(world, "here", helper=True, copies=False, syncs=True, full_after=None)
    far = Machine(
        world,
        "far",
        helper=helper,
        copies=rng.random() < 0.5,
        syncs=rng.random() < 0.8,
        full_after=rng.randrange(20, 200) if rng.random() < 0.15 else None,
    )
    upload = rng.random() < 0.75
    proofs = [Prove.AUTO, Prove.NONE, Prove.READ_BACK] + ([Prove.ON_NODE] if helper else [])
    scenario = Scenario(world, here, far, upload, rng.choice(proofs), {}, {}, [])
    source, destination = scenario.source, scenario.destination
    source.make(b"/fen", Kind.DIRECTORY)
    destination.make(b"/top", Kind.DIRECTORY)
    files = [b"/fen/f%d" % number for number in range(rng.randint(1, 4))]
    if rng.random() < 0.5:
        source.make(b"/fen/sub", Kind.DIRECTORY)
        files.append(b"/fen/sub/g")
    if rng.random() < 0.4:
        source.make(b"/fen/link", Kind.LINK, target=b"f0")
    for path in files:
        source.make(path, Kind.FILE, rng.randbytes(rng.randrange(0, 60)), age=rng.choice([1e6, 1.0, 0.0]))
    if rng.random() < 0.4:
        destination.make(b"/top/fen", Kind.DIRECTORY)
        old = rng.randbytes(10)
        destination.make(b"/top/fen/f0", Kind.FILE, old, age=2e6)
        if world.near and seed % 2 == 0:
            old = _edited(source.names[b"/fen/f0"].data, random.Random(seed))
            destination.names[b"/top/fen/f0"].durable = old
        scenario.before[b"/top/fen/f0"] = old
    _draw_faults(scenario, files)
    _draw_more(scenario, random.Random(seed * 7919 + 1))
    if seed % 10 in (7, 9):
        _draw_growing(scenario, random.Random(seed * 7919 + 2))
    if helper and scenario.prove is Prove.AUTO and seed % 2:
        # A bundle has thousands of bytes: larger blocks keep the number of requests what the faults are drawn for.
        scenario.together, world.block = True, 600
        if far.room is not None:
            far.room *= 50
    return scenario


def _edited(data: bytes, rng: random.Random) -> bytes:
    """The file as it may have been before: a few bytes others, more, or fewer."""
    at = rng.randrange(len(data) + 1)
    return data[: max(0, at - rng.randrange(4))] + rng.randbytes(rng.randrange(4)) + data[at:]


def _draw_faults(scenario: Scenario, files: list[bytes]) -> None:
    world, rng = scenario.world, scenario.world.rng
    if rng.random() < 0.8:
        world.drop_at = {rng.randrange(1, 120) for _ in range(rng.randint(1, 3))}
    # Without a sync request nobody can promise anything about a power failure, and we say so instead.
    if rng.random() < 0.3 and scenario.far.syncs:
        world.power_at = {rng.randrange(1, 120)}
    world.wake_at = {rng.randrange(1, 400) for _ in range(rng.randint(0, 3))}
    world.refusals = rng.randint(0, 2)
    if rng.random() < 0.4:
        scenario.deaths = [rng.randrange(1, 40) for _ in range(rng.randint(1, 2))]
    may_change = scenario.upload or scenario.far.helper
    if rng.random() < 0.3 and may_change:
        victim = rng.choice(files)
        size = len(scenario.source.names[victim].data)
        same_size = rng.random() < 0.5
        data = rng.randbytes(size if same_size else size + rng.randint(1, 20))
        early = rng.random() < 0.5
        world.happen_at[rng.randrange(1, 30 if early else 80)] = lambda: scenario.source.rewrite(victim, data)
    if rng.random() < 0.25:
        path, data = b"/top" + rng.choice(files), rng.randbytes(12)

        def appear() -> None:
            if path not in scenario.destination.names and path.rpartition(b"/")[0] in scenario.destination.names:
                scenario.destination.make(path, Kind.FILE, data, age=0)
                scenario.foreign[path] = data

        world.happen_at[rng.randrange(5, 120)] = appear


def _draw_more(scenario: Scenario, rng: random.Random) -> None:
    """Faults that were thought of later, from numbers of their own."""
    world, far = scenario.world, scenario.far
    if rng.random() < 0.2:
        world.silent_at = {rng.randrange(1, 120)}
    if rng.random() < 0.2:  # zeros may be left out
        for path, inode in scenario.source.names.items():
            if inode.kind is Kind.FILE and b"/top" + path not in scenario.before and inode.data:
                size = len(inode.data)
                inode.durable = bytes(rng.randrange(size + 1)).ljust(size, b"x")
                inode.versions[:] = [inode.durable]
    scenario.again = rng.choice(["", "", "same", "other"])
    if rng.random() < 0.15:
        world.happen_at = {rng.randrange(10, 100): lambda: scenario.destination.swap(b"/top/fen")}
    elif far.helper and scenario.upload and rng.random() < 0.15:
        if rng.random() < 0.3:
            far.other_disk = True
            scenario.prove = Prove.AUTO if scenario.prove is Prove.ON_NODE else scenario.prove
        else:
            at = rng.randrange(5, 80)
            world.drop_at.add(at)
            world.happen_at[at] = lambda: setattr(far, "other_disk", True)


def _draw_growing(scenario: Scenario, rng: random.Random) -> None:
    """A logger's file: of some there is a beginning at the destination. Now and then it does not only grow."""
    world, source, path = scenario.world, scenario.source, b"/fen/f0"
    if source.names[path].kind is not Kind.FILE:
        return
    scenario.growing, final = path, b"/top" + path
    if final in scenario.before and rng.random() < 0.8:
        old = source.names[path].data[: rng.randrange(1, 40)]
        there = scenario.destination.make(final, Kind.FILE, old, age=2e6)
        scenario.before[final] = old
        facts = Facts(Kind.FILE, len(old), there.mtime_ns, there.mode)
        digest = hashlib.sha256(old if rng.random() < 0.8 else b"another").hexdigest()
        scenario.placed[final] = Placed(facts, digest)
    for _ in range(rng.randint(0, 4)):
        world.happen_at[rng.randrange(1, 90)] = lambda: source.append(path, rng.randbytes(rng.randint(1, 9)))
    if rng.random() < 0.3 and (scenario.upload or scenario.far.helper):
        data = rng.randbytes(rng.randrange(1, 60))
        whole = rng.random() < 0.5

        def spoil() -> None:
            if whole:
                source.rotate(path, data)
            else:  # a header is written anew, and more comes at the end
                source.rewrite(path, data[:2] + source.names[path].data[2:] + data)

        world.happen_at[rng.randrange(1, 90)] = spoil


def run(scenario: Scenario) -> tuple[BatchCounts, Journal]:
    """Plan, then run until the batch is finished, through every death and interruption."""
    loop = scenario.world.loop
    asyncio.set_event_loop(loop)
    loop.set_exception_handler(lambda loop, context: None)  # a killed process leaves tasks that nobody asks
    try:
        return loop.run_until_complete(_run(scenario))
    finally:
        left = asyncio.all_tasks(loop)
        for task in left:
            task.cancel()
        with contextlib.suppress(AssertionError):
            loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
        asyncio.set_event_loop(None)
        loop.close()


async def _run(scenario: Scenario) -> tuple[BatchCounts, Journal]:
    world = scenario.world
    ends = (
        Opening(world, scenario.source, here=scenario.upload),
        Opening(world, scenario.destination, here=not scenario.upload),
    )
    together = BundlingChoice(Costs(), always=True) if scenario.together else None
    stores = await ends[0].open(), await ends[1].open()
    plan = await _plan(scenario, stores, together)
    times = Times.NOW if len(scenario.before) % 3 == 1 else Times.KEEP
    scenario.promised = evidence_for(scenario.prove, *stores, plan.same_disk)
    near, far = ("", "far") if scenario.upload else ("far", "")
    header = Header(BATCH, 0, ("stage",), near, far, b"/top", scenario.prove, times=times, promised=scenario.promised)
    journal = DyingJournal.in_memory(header, plan.steps())
    assert isinstance(journal, DyingJournal)
    world.calm = False
    for _ in range(40):
        journal.die_at = scenario.deaths.pop() if scenario.deaths else None
        journal.die_before = world.rng.random() < 0.5
        journal.writes = 0
        journal.death = world.loop.create_future()
        state = await _one_run(scenario, journal, ends)
        if state is BatchState.FINISHED:
            break
        if scenario.far.room is not None:
            scenario.far.room = None  # somebody made room
        if journal.standing().fault in (Fault.OTHER_DISK, Fault.NO_PROOF):
            journal.prove_by(Prove.READ_BACK)  # somebody was told, and has agreed
        if scenario.again:
            journal = await _stage_again(scenario, journal, ends, together)
    else:
        raise AssertionError("the batch never came to an end")
    world.calm = True
    if scenario.upload and scenario.far.syncs and world.rng.random() < 0.5:
        scenario.far.lose_power()  # what is called finished outlasts that
    scenario.here.wake()
    scenario.far.wake()
    return outcome_of(journal), journal


async def _plan(
    scenario: Scenario,
    stores: tuple[Any, Any],
    together: BundlingChoice | None,
    earlier: Journal | None = None,
) -> Plan:
    """What the user's command makes of it. `earlier`: what was begun before."""

    def placed(paths: Iterable[bytes]) -> dict[bytes, Placed]:
        wanted = list(paths)
        steps = earlier.placed(wanted) if earlier is not None else {}
        known = {path: Placed(step.facts, step.digest) for path, step in steps.items()}
        return {path: each for path in wanted if (each := known.get(path) or scenario.placed.get(path))}

    growing = Choice([scenario.growing.rpartition(b"/")[2]]) if scenario.growing else None
    ends = [(b"/fen", b"fen")], b"/top"
    return await make_plan(*stores, *ends, PlanWish(together=together, placed=placed, growing=growing))


async def _stage_again(
    scenario: Scenario, journal: DyingJournal, ends: tuple[Opening, Opening], together: BundlingChoice | None
) -> DyingJournal:
    """The same stage, given once more by the user: its batch goes on, or another one takes over what is there of it."""
    world, options = scenario.world, "" if scenario.again == "same" else "other"
    scenario.again = ""
    world.calm = True
    stores = await ends[0].open(), await ends[1].open()
    plan = await _plan(scenario, stores, together, journal)
    header = replace(journal.header(), id=AGAIN, options=options)
    if not can_go_on(journal, header, plan.steps()):
        await sync_what_is_there(journal, stores[1])
        steps = take_over(plan.steps(), journal, plan.chooses)
        new = DyingJournal.in_memory(header, steps, journal.witnesses())
        assert isinstance(new, DyingJournal)
        journal.cancel(AGAIN)
        await remove_parts(journal, stores[1], keep=frozenset(step.adopts for step in new.begun()))
        journal = new
    world.calm = False
    return journal


async def _one_run(scenario: Scenario, journal: DyingJournal, ends: tuple[Opening, Opening]) -> BatchState | None:
    """One process; None when it died."""
    world = scenario.world
    conditions = Conditions(
        limits=Limits(steps_at_once=4, retry=RetryPolicy(patience=60)),
        tuning=Tuning(
            memory=6 * world.block,
            sync_bytes=3 * world.block // 2,
            sync_seconds=1000,
            in_thread=_inline,
            reuse_least=8,
            reuse_block=2,
        ),
        clock=Clock(world.loop),
        jitter=world.rng.random,
        threaded=False,
    )
    executor = Executor(journal, ends[0], ends[1], lambda event: None, conditions)
    work: asyncio.Future[Standing] = asyncio.ensure_future(executor.run())
    assert journal.death is not None
    either: set[asyncio.Future[Any]] = {work, journal.death}
    await asyncio.wait(either, return_when=asyncio.FIRST_COMPLETED)
    if not journal.death.done():
        return (await work).state
    # A killed process does nothing more: its sessions are lost and its tasks end where they stand.
    for store in executor.stores:
        store.lost = True  # type: ignore[attr-defined]
    tasks = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
    for task in tasks:
        task.cancel()
    await asyncio.gather(*tasks, return_exceptions=True)
    return None


def check(scenario: Scenario, outcome: BatchCounts, journal: Journal) -> None:
    """What must always hold, after everything has happened and hung processes have woken up."""
    source, there = scenario.source, scenario.destination.tree()
    swapped = scenario.destination.swapped
    strays = {path for path in there if path.startswith(VICTIM + b"/")}
    assert not (strays and not scenario.upload), f"{strays}: outside of the destination"
    if swapped:
        # What is in the directory that was moved away is where it was put.
        there |= {path.removeprefix(AWAY): value for path, value in there.items() if path.startswith(AWAY + b"/")}
    promised = scenario.promised is not None and scenario.promised.is_proof
    for step in journal.steps():
        assert step.state in (StepState.IN_PLACE, StepState.LEFT, StepState.FAILED, StepState.NOT_CARRIED), step
    for path, inode in source.names.items():
        if inode.kind is not Kind.FILE or not path.startswith(b"/fen/"):
            continue
        final = b"/top" + path
        if final in scenario.foreign and there.get(final, ("", b""))[1] == scenario.foreign[final]:
            continue
        if final in there:
            known = [*inode.versions, scenario.before.get(final)]
            if path == scenario.growing:  # as far as it was when the plan was made
                known += [each[: len(there[final][1])] for each in inode.versions]
            assert there[final][1] in known, f"{final!r} is a mixture or half a file"
    for final, data in (scenario.before | scenario.foreign).items():
        # What appeared after the first plan may be replaced by the second one, which has seen it.
        batches = [BATCH] if final in scenario.foreign and journal.header().id == BATCH else [BATCH, AGAIN]
        keeping = [b"/top/%b/%b%b" % (KEPT_DIRECTORY, batch.encode(), final[4:]) for batch in batches]
        kept = [scenario.destination.names[path].data for path in keeping if path in scenario.destination.names]
        if final == b"/top" + scenario.growing and there[final][1].startswith(data):
            continue  # what was there is the beginning of what is
        assert data in (there[final][1], *kept), f"{final!r} was replaced and not kept"
    for step in journal.steps(StepState.IN_PLACE):
        if step.kind.value == "file":
            assert step.path in there, f"{step.path!r} is not in place"
            held = there[step.path][1]
            assert hashlib.sha256(held).hexdigest() == step.digest, f"{step.path!r} is not what the journal says"
            assert step.evidence is not None
            assert step.evidence.is_proof or not promised, f"{step.path!r} was promised a proof"
    if outcome.good and not scenario.foreign and not swapped:
        expected = {b"/top" + path: value for path, value in source.tree().items() if path.startswith(b"/fen")}
        found = {path: value for path, value in there.items() if path.startswith(b"/top/fen")}
        assert set(found) == set(expected)
    parts = [path for path in scenario.destination.names if path.endswith(b".part")]
    if outcome.good and not swapped:
        assert not parts, f"part files left: {parts}"
