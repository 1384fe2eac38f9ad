"""The demo's world.

What its libraries refer to, and that a crossing of it leaves timelines that find everything.
"""

import opentimelineio as otio
import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.demo.scenario import make_world
from fascis.library.standing import Standing
from tests.judge import contents


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    return make_world(tmp_path_factory.mktemp("river"), slow=False, brief=True)


def found_and_lost(document):
    """How many references of a timeline lead to a file, by opentimelineio alone; how many not."""
    found, lost = 0, set()
    for clip in otio.adapters.read_from_file(str(document)).find_clips():
        reference = clip.media_reference
        if isinstance(reference, otio.schema.ImageSequenceReference):
            places = [
                document.parent / reference.target_url_for_image_number(i)
                for i in range(reference.number_of_images_in_sequence())
            ]
        else:
            places = [
                document.parent / reference.target_url.removeprefix("file://").replace("%20", " ")
            ]
        for place in places:
            if place.is_file() and "field-2" not in place.parts:
                found += 1
            else:
                lost.add(place)
    return found, lost


@pytest.mark.long
def test_the_libraries_have_every_standing(world):
    uses = survey_library(world.workspace, world.weir).uses
    counts = {s: len(uses.of(s)) for s in (Standing.LOOSE, Standing.AWAY, Standing.MISSING)}
    assert counts == {Standing.LOOSE: 13, Standing.AWAY: 4, Standing.MISSING: 16}
    assert all(o.size for o in uses.of(Standing.MISSING)), (
        "last known, from before the folder was renamed"
    )
    assert (
        len({o.path.rpartition(b"/")[0] for o in uses.of(Standing.LOOSE)}) >= 3
        and not uses.not_understood
    )
    clips = list(
        otio.adapters.read_from_file(str(world.weir / "timelines/Feature.otio")).find_clips()
    )
    assert len(clips) >= 200
    bell = survey_library(world.workspace, world.drives / "studio-internal/Bell")
    assert (bell.kind, bell.uses.documents[0].references) == ("photo catalog", 170)


def test_after_a_crossing_the_timelines_find_everything_there(world):
    internal = world.drives / "studio-internal"
    places = [world.weir, *(internal / n for n in ("Desktop", "Field recordings", "Footage"))]
    before = [contents(p) for p in places]
    plan = make_plan(
        world.workspace, survey_library(world.workspace, world.weir), world.heron_a, Choices()
    )
    crossing = Crossing.start(world.workspace, plan, decided=True)
    assert crossing.run() is State.SETTLED
    there = world.heron_a / world.weir.name
    for name in ("Feature", "Teaser", "Interviews"):
        found, lost = found_and_lost(there / f"timelines/{name}.otio")
        was_found, was_lost = found_and_lost(world.weir / f"timelines/{name}.otio")
        assert (found, len(lost)) == (was_found, len(was_lost)) and found > 30, name
        assert all(
            "Day 04" in p.parts or "field-2" in p.parts or p.suffix == ".tif" for p in lost
        ), name
    assert [contents(p) for p in places] == before
    crossing.close()
