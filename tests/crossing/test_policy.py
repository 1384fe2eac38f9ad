"""One policy: the table, the window and the crossing agree."""

from itertools import product

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.policy import (
    Act,
    Facts,
    Step,
    acts,
    brings_along,
    next_step,
    usual_after,
    why_not_release,
    would_delete,
)
from fascis.crossing.model.states import UNFINISHED, State
from fascis.desktop.crossings.answers import DriveNow, Situation, safe_to, why_not_delete
from fascis.files.codes import Code
from fascis.files.errors import Refused
from tests.crossing.ways import settled
from tests.judge import contents

BOTH = (False, True)
DOES = {
    Act.SWITCH: Crossing.switch,
    Act.SET_ASIDE: Crossing.park,
    Act.PUT_BACK: Crossing.put_back,
    Act.RELEASE: Crossing.release,
    Act.UNDO: Crossing.undo,
}
WAYS = {
    State.SETTLED: (),
    State.SWITCHED: (Crossing.switch,),
    State.PARKED: (Crossing.switch, Crossing.park),
    State.RELEASED: (Crossing.switch, Crossing.park, Crossing.release),
    State.UNDONE: (Crossing.undo,),
}
# Finished steps are not repeated, and are not an error.
ALREADY = {
    (Act.RELEASE, State.RELEASED),
    (Act.SET_ASIDE, State.PARKED),
    (Act.PUT_BACK, State.SWITCHED),
}


@pytest.mark.parametrize("state", list(State))
def test_the_window_lets_originals_go_exactly_when_the_policy_does(state):
    for looked, even, busy, proven in product(BOTH, BOTH, BOTH, BOTH):
        facts = Facts(state, looked=looked, even=even, busy=busy, proven=proven)
        seen = Situation(state, False, (DriveNow("h", proven=proven),), looked, even, busy=busy)
        code = why_not_release(facts)
        assert (why_not_delete(seen) == "") == (code is None), facts
        said = next((a.answer for a in safe_to(seen) if "delete" in a.question), "No")
        if said == "Yes":
            assert code is None and state in (State.SWITCHED, State.PARKED)
        if code is None and state is not State.RELEASED:
            assert looked and even and proven and not busy and said == "Yes"


@pytest.mark.parametrize("state", list(WAYS))
@pytest.mark.parametrize("act", list(DOES))
def test_a_crossing_does_what_the_table_lets_it_do_and_refuses_the_rest(bench, library, state, act):
    crossing = settled(bench)
    for step in WAYS[state]:
        step(crossing)
    assert crossing.state is state
    before = contents(bench.heron / "The Weir")
    if act in acts(state) or (act, state) in ALREADY:
        DOES[act](crossing)
    else:
        with pytest.raises(Refused) as refusal:
            DOES[act](crossing)
        assert refusal.value.code == Code.WRONG_STATE
        assert crossing.state is state
    assert contents(bench.heron / "The Weir") == before


@pytest.mark.parametrize("state", [State.SWITCHED, State.PARKED])
def test_what_is_not_understood_must_be_examined_first(bench, library, state):
    crossing = settled(bench)
    for step in WAYS[state]:
        step(crossing)
    crossing.places.header.references["not_understood"] = 1
    before = contents(crossing.places.origin())
    with pytest.raises(Refused) as refusal:
        crossing.release()
    assert refusal.value.code == why_not_release(crossing._facts(even=True)) == Code.NOT_LOOKED
    assert contents(crossing.places.origin()) == before
    crossing.looked()
    assert why_not_release(crossing._facts(even=True)) is None


def test_no_step_of_the_table_deletes_and_none_is_out_of_reach():
    reached = set()
    for state, after, looked, even, newer, trouble, needed in product(
        State, After, BOTH, (None, *BOTH), BOTH, BOTH, BOTH
    ):
        facts = Facts(state, after, looked, even=even, newer=newer, trouble=trouble, needed=needed)
        step = next_step(facts)
        reached.add(step)
        if step is Step.SWITCH:
            assert Act.SWITCH in acts(state) and looked and not newer and not trouble
        if step is Step.SET_ASIDE:
            assert Act.SET_ASIDE in acts(state) and looked and even and not needed
        if step is Step.LEAD:
            assert Act.SET_ASIDE in acts(state) and looked and needed
        if step is Step.BRING:
            assert Act.BRING in acts(state)
    assert reached == set(Step)


@pytest.mark.parametrize("state", sorted(UNFINISHED))
def test_nothing_is_offered_before_it_has_arrived(state):
    assert acts(state) == frozenset()
    assert why_not_release(Facts(state, looked=True, even=True)) is Code.WRONG_STATE


@pytest.mark.parametrize(
    ("lacks", "after", "state", "usual", "deletes", "brings"),
    [
        (False, After.KEEP, State.SETTLED, After.KEEP, True, True),
        (True, After.COPY, State.SETTLED, After.COPY, False, False),
        (True, After.COPY, State.SWITCHED, After.COPY, True, False),
        (False, After.RELEASE, State.SETTLED, After.KEEP, True, True),
    ],
)
def test_what_is_usual_where_nobody_said(lacks, after, state, usual, deletes, brings):
    assert usual_after(lacks) is usual
    assert would_delete(state, after) is deletes
    assert brings_along(after, asked=False) is brings and brings_along(after, asked=True)
