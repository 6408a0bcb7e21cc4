"""What a batch that found a disk full waits for."""

from __future__ import annotations

from yatagan.batches import queueing
from yatagan.batches.queueing import WaitsFor, after_run
from yatagan.batches.states import BatchState
from yatagan.faults import SPACE_FAULTS, Fault


def test_only_space_is_waited_for() -> None:
    for fault in [*Fault, None]:
        waits = after_run(BatchState.HELD, fault, stopped_by_person=False, shutting_down=False)
        assert (waits is WaitsFor.ROOM) is (fault in SPACE_FAULTS)
        assert after_run(BatchState.HELD, fault, stopped_by_person=True, shutting_down=False) is None
    assert queueing.ROOM_SECONDS >= 60
