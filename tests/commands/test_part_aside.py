"""A part set aside: folders whole, files one by one, never the library, and all of it back."""

import os
import shutil
from contextlib import suppress

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing
from tests.commands.test_commands import fascis
from tests.crossing.test_crash_points import Killed, Killer
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import timeline, write
from tests.worlds import oracle


@pytest.fixture
def studio(bench):
    """A project with a folder of its own, a clip of its own elsewhere, and one that is shared."""
    lib = bench.library
    for place in ("media/own.mov", "media/shared.mov", "media/other.mov"):
        write(lib / place, place.encode() * 500)
    write(
        lib / "projects/Spring/spring.otio",
        timeline("../../media/own.mov", "../../media/shared.mov"),
    )
    write(lib / "projects/Spring/notes/day one.txt", b"notes")
    (lib / "projects/Spring/empty").mkdir()
    write(lib / "projects/Autumn/autumn.otio", timeline("../../media/shared.mov"))
    return lib


def cross(bench, *words, only="Spring"):
    relocate = ("relocate", bench.library, "--to", bench.heron, "--only", only, *words)
    return fascis(bench, *relocate, "--yes", "--json")


def files(folder):
    return {os.fsdecode(place) for place in contents(folder)}


STAYS = {"media/shared.mov", "media/other.mov", "projects/Autumn/autumn.otio"}
ASIDE = {"media/own.mov", "projects/Spring/spring.otio", "projects/Spring/notes/day one.txt"}


def test_what_would_be_deleted_is_set_aside_and_the_rest_plays(bench, studio):
    autumn = studio / "projects/Autumn/autumn.otio"
    before, plays = contents(studio), oracle.plays(autumn, {})
    project = (studio / "projects/Spring").stat().st_ino
    status, said, err = cross(bench, "--after", "park")
    assert (status, said["state"]) == (0, "parked"), err
    aside = studio.parent / f"Spring (set aside {said['crossing'][:8]})"
    assert said["parked_at"] == str(aside)
    assert (files(studio), files(aside)) == (STAYS, ASIDE)
    assert (aside / "projects/Spring").stat().st_ino == project, "a folder goes whole"
    assert not (studio / "projects/Spring").exists() and (aside / "projects/Spring/empty").is_dir()
    assert oracle.plays(autumn, {}) == plays
    status, _, err = fascis(bench, "undo", said["crossing"], "--json")
    assert status == 0, err
    assert contents(studio) == before and not aside.exists()


def test_set_aside_it_can_be_deleted(bench, studio):
    _, said, _ = cross(bench, "--after", "park")
    _, found, _ = fascis(bench, "release", said["crossing"], "--list", "--json")
    assert {x["path"] for x in found["goes"]} == ASIDE
    assert {x["path"] for x in found["stays"]} == {"media/shared.mov"}
    status, said, err = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert (status, said["state"], said["released_files"]) == (0, "released", len(ASIDE)), err
    assert files(studio) == STAYS and not list(studio.parent.glob("*set aside*"))
    assert (bench.heron / "Spring/projects/Spring/spring.otio").exists()


def test_a_folder_with_anything_else_in_it_stays_with_that(bench, studio):
    _, said, _ = cross(bench)
    write(studio / "projects/Spring/notes/late.txt", b"made since")
    status, said, _ = fascis(bench, "park", said["crossing"], "--json")
    assert said["state"] == "parked"
    assert files(studio) == STAYS | {"projects/Spring/notes/late.txt"}
    aside = studio.parent / f"Spring (set aside {said['crossing'][:8]})"
    assert files(aside) == ASIDE


def test_what_was_worked_in_is_not_set_aside(bench, studio):
    _, said, _ = cross(bench)
    spring = studio / "projects/Spring/spring.otio"
    spring.write_bytes(spring.read_bytes() + b" ")
    before = contents(studio)
    status, said, _ = fascis(bench, "park", said["crossing"], "--json")
    assert status != 0 and said["problems"][-1]["code"] == "worked-in-since"
    assert contents(studio) == before and not list(studio.parent.glob("*set aside*"))


def test_an_old_name_that_something_else_has_by_now_is_not_touched(bench, studio):
    _, said, _ = cross(bench, "--after", "park")
    mine = write(studio / "media/own.mov", b"somebody's")
    status, refused, _ = fascis(bench, "undo", said["crossing"], "--json")
    assert status == 3 and refused["problems"][-1]["code"] == "destination-exists"
    assert mine.read_bytes() == b"somebody's"
    mine.rename(mine.with_name("mine.mov"))
    assert fascis(bench, "undo", said["crossing"], "--json")[0] == 0
    assert files(studio) == STAYS | ASIDE | {"media/mine.mov"}
    assert not list(studio.parent.glob("*set aside*"))


def test_where_nothing_can_be_renamed_it_is_reported_before_the_start(bench, studio, mounted):
    """The library is a drive's own top folder: nothing lies beside it."""
    where = mounted("ext4", 60)
    shutil.copytree(studio, where, dirs_exist_ok=True)
    real(bench)
    surveyed = survey_library(bench.workspace, where)
    choices = Choices(only=frozenset(["Spring"]), after=After.PARK)
    plan = make_plan(bench.workspace, surveyed, bench.heron, choices)
    assert "cannot-set-aside" in {p.code for p in plan.problems if p.severity == "stops"}


def test_interrupted_at_every_step_nothing_is_lost_and_it_resumes_or_is_undone(bench, studio):
    before = contents(studio)
    surveyed = survey_library(bench.workspace, studio)
    choices = Choices(only=frozenset(["Spring"]), after=After.PARK)
    plan = make_plan(bench.workspace, surveyed, bench.heron, choices)
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    crossing.run()
    crossing.switch()
    crossing.close()
    aside = crossing.places.parked_path
    points = 0
    for lives in range(200):
        bench.step = Killer(lives)
        crossing = find_crossing(bench.again(), crossing.id)
        with suppress(Killed):
            crossing.park()
            crossing.put_back()
        done = crossing.state is State.SWITCHED and bench.step.left > 0
        crossing.close()
        now = contents(studio) | (contents(aside) if aside.exists() else {})
        assert now == before, lives
        points += 1
        if done:
            break
    assert points > 10 and contents(studio) == before and not aside.exists()
    bench.step = lambda _name: None
    crossing = find_crossing(bench.again(), crossing.id)
    crossing.undo()
    crossing.close()
    assert contents(studio) == before
