"""Space that a plan asks for."""

from __future__ import annotations

import pytest

from yatagan.errors import NoRoom
from yatagan.planning.plan import Plan
from yatagan.planning.room import refuse_without_room


def test_what_is_there_already_needs_no_space_a_second_time() -> None:
    plan = Plan(b"/there", [], [], 1, free=1500)
    plan.summary.size = 2000
    with pytest.raises(NoRoom) as error:
        refuse_without_room(plan, "oak", 0)
    assert (error.value.needed, error.value.free) == (2000, 1500)
    plan.safe = 500
    refuse_without_room(plan, "oak", 0)
    with pytest.raises(NoRoom):
        refuse_without_room(plan, "oak", 1)
