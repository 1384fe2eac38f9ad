"""What the window decides, without a window."""

import pytest

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.status.scales import Balance, Check
from fascis.desktop.crossings.answers import (
    DriveNow,
    Situation,
    safe_to,
    step_after,
    why_not_delete,
)
from fascis.desktop.crossings.stations import STATIONS, lane_name, reached
from fascis.desktop.kit import theme
from fascis.library.roles import Role

EVEN = Balance([Check("Files", "1", ("1",), "equal", True)], [(1, 1)])
TIPPED = Balance([Check("Newer", "1", ("",), "", False)], [(1, 1)])


@pytest.mark.parametrize("look", list(theme.THEMES.values()), ids=list(theme.THEMES))
def test_every_text_can_be_read(look):
    for text in theme.TEXTS:
        for ground in (*theme.GROUNDS, "chosen"):
            assert theme.contrast(getattr(look, text), getattr(look, ground)) >= 4.5, (
                look.name,
                text,
                ground,
            )
    assert theme.contrast(look.on_ink, look.ink) >= 4.5


def situation(state=State.SWITCHED, looked=True, even=True, running=False, **drive):
    return Situation(state, running, (DriveNow("Heron A", **drive),), looked, even)


@pytest.mark.parametrize(
    ("change", "reason"),
    [({}, ""), ({"looked": False}, "not looked"), ({"even": False}, "not in balance"),
    ({"proven": False}, "perhaps from memory"),
     ({"state": State.SETTLED}, "home has not gone"), ({"state": State.COPYING,
     "unverified": 5_000_000, "files_unverified": 3}, "5.00\u00a0MB in 3\u00a0files not verified")],
)  # fmt: skip
def test_deleting_waits_for_everything(change, reason):
    said = why_not_delete(situation(**change))
    assert (said == "") if not reason else reason in said


@pytest.mark.parametrize("even", [True, False])
@pytest.mark.parametrize("state", list(State))
def test_the_answers_agree_with_the_button(state, even):
    """Deleting is confirmed in exactly the states in which the button can be pressed."""
    s = situation(state, even=even)
    answer = next((a.answer for a in safe_to(s) if "delete" in a.question), "No")
    assert (answer == "Yes") == (even and state in (State.SWITCHED, State.PARKED))
    assert answer != "Yes" or why_not_delete(s) == ""


@pytest.mark.parametrize(
    ("state", "after", "looked", "balance", "step"),
    [(State.SETTLED, After.KEEP, False, EVEN, "open"), (State.SETTLED, After.KEEP, True, EVEN,
    "switch"), (State.SETTLED, After.COPY, True, EVEN, "receipt"),
     (State.SWITCHED, After.KEEP, True, EVEN, "receipt"), (State.SWITCHED, After.RELEASE, True,
     EVEN, "park"), (State.SWITCHED, After.PARK, True, TIPPED, "receipt"),
     (State.PARKED, After.RELEASE, True, EVEN, "receipt"), (State.SETTLED, After.KEEP, True, None,
     "wait")],
)  # fmt: skip
def test_one_next_step_that_never_deletes(state, after, looked, balance, step):
    assert step_after(state, after, looked, balance) == step != "delete"


def test_stations_follow_the_state():
    assert [
        reached(s)[0]
        for s in (State.PLANNED, State.SETTLED, State.SWITCHED, State.PARKED, State.RELEASED)
    ] == [1, 4, 5, 6, 7] and len(STATIONS) == 7


def test_a_strand_is_named_for_its_folder_and_its_role():
    assert (
        lane_name(b"media/Day 01", Role.ORIGINAL) == "media/Day 01"
        and lane_name(b"proxies/Day 01", Role.PROXY) == "proxies/Day 01"
    )
    assert (
        lane_name(b"stills", Role.SIDECAR) == "stills, sidecars"
        and lane_name(b"a\nb", Role.OTHER) == "a\\nb"
    )
