"""Other libraries that use originals are updated to the new place before these are set aside."""

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.crossing.status.queue import find_crossing
from fascis.files.errors import Refused
from tests.commands.test_commands import fascis
from tests.crossing.test_crash_points import Killed, Killer
from tests.judge import contents
from tests.library.making import timeline, write
from tests.thorough import STRIDE
from tests.worlds import oracle


@pytest.fixture
def river(bench):
    """A library whose timeline uses a clip of another one."""
    write(bench.library / "media/weir.mov", b"weir" * 4000)
    write(bench.library / "media/own.mov", b"own" * 3000)
    write(bench.library / "projects/own.otio", timeline("../media/own.mov"))
    clip = bench.library / "media/weir.mov"
    document = write(bench.drives / "inside/River/river.otio", timeline(str(clip)))
    for root in (bench.library, document.parent):
        remember(bench.workspace, survey_library(bench.workspace, root))
    return document


def crossed(bench, name=""):
    """The library's crossing, with home at the new place."""
    surveyed = survey_library(bench.workspace, bench.library)
    plan = make_plan(bench.workspace, surveyed, bench.heron, Choices(name=name))
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    crossing.run()
    crossing.looked()
    crossing.switch()
    id = crossing.id
    crossing.close()
    return id


def test_setting_aside_is_refused_until_others_use_the_new_place(bench, river):
    before, plays, originals = river.read_bytes(), oracle.plays(river, {}), contents(bench.library)
    fascis(bench, "survey", river.parent, "--json")
    said = fascis(bench, "relocate", bench.library, "--to", bench.heron, "--yes", "--json")[1]
    id = said["crossing"]
    status, said, _ = fascis(bench, "park", id, "--json")
    assert status == 3 and "would-break" in {p["code"] for p in said["problems"]}
    assert river.read_bytes() == before and contents(bench.library) == originals
    status, said, err = fascis(bench, "park", id, "--others-follow", "--json")
    assert (status, said["state"]) == (0, "parked"), err
    assert not bench.library.exists() and oracle.plays(river, {}) == plays
    assert str(bench.heron) in river.read_text()
    assert fascis(bench, "undo", id)[0] == 0
    assert river.read_bytes() == before and contents(bench.library) == originals
    assert oracle.plays(river, {}) == plays


def test_others_are_updated_only_while_home_is_there_and_originals_are_in_place(bench, river):
    plan = make_plan(
        bench.workspace,
        survey_library(bench.workspace, bench.library),
        bench.heron,
        Choices(after=After.COPY),
    )
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    crossing.run()
    before = river.read_bytes()
    with pytest.raises(Refused, match="once home is there"):
        crossing.lead_others()
    assert river.read_bytes() == before and crossing.state is State.SETTLED
    crossing.close()


@pytest.mark.parametrize("place", ["old", "new"])
def test_no_document_is_updated_to_another_content(bench, river, place):
    """An original or its copy changed since: the document still plays the original."""
    crossing = find_crossing(bench.workspace, crossed(bench))
    root = bench.library if place == "old" else crossing.places.target
    write(root / "media/weir.mov", b"graded" * 4000)
    before, plays = river.read_bytes(), oracle.plays(river, {})
    with pytest.raises(Refused, match="keeps using the original"):
        crossing.lead_others()
    with pytest.raises(Refused):
        crossing.park()
    assert (bench.library / "media/weir.mov").exists()
    assert river.read_bytes() == before and oracle.plays(river, {}) == plays
    assert crossing.state is State.SWITCHED
    crossing.close()


def test_interrupted_at_any_step_it_is_finished_or_undone(bench, river):
    """Whatever was written, the documents play what they played; undo restores all of it."""
    id, before, plays = crossed(bench), river.read_bytes(), oracle.plays(river, {})
    originals, step = contents(bench.library), 0
    while True:
        bench.step = Killer(step)
        crossing = find_crossing(bench.workspace, id)
        try:
            crossing.lead_others()
            ended = True
        except Killed:
            ended = False
        crossing.close()
        bench.step = lambda _name: None
        bench.again()
        assert oracle.plays(river, {}) == plays, f"cut off at step {step}"
        assert contents(bench.library) == originals
        again = find_crossing(bench.workspace, id)
        if step % 2:
            again.lead_others()
            assert str(bench.heron) in river.read_text()
        again.undo()
        again.close()
        assert river.read_bytes() == before, f"cut off at step {step}"
        if ended:
            return
        step += STRIDE
        id = crossed(bench, f"Weir {step}")
