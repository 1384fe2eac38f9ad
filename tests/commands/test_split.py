"""A library split into several: each whole, and one release when all of them are there."""

import os
from contextlib import suppress

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.glance import read_header
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.split import Split, one_for_each, plan_split
from fascis.crossing.status.queue import find_split
from fascis.files.control import Control
from tests.commands.test_commands import fascis
from tests.conftest import Bench
from tests.crossing.test_crash_points import Killed, Killer
from tests.judge import contents
from tests.library.making import timeline, write
from tests.thorough import STRIDE
from tests.worlds import oracle

NAMES = ("Autumn", "Spring", "Winter")


def fill(bench):
    """Three projects; a clip that all use, one that two use, one each; and unused files."""
    lib = bench.library
    for place in ("media/all.mov", "media/two.mov", "media/unused.mov"):
        write(lib / place, place.encode() * 400)
    for name in NAMES:
        write(lib / f"media/{name}.mov", name.encode() * 300)
        clips = [f"../../media/{name}.mov", "../../media/all.mov"]
        if name != "Winter":
            clips.append("../../media/two.mov")
        write(lib / f"projects/{name}/{name}.otio", timeline(*clips))
    write(lib / "papers/contract.txt", b"contract")
    return lib


@pytest.fixture
def studio(bench):
    return fill(bench)


def files(folder):
    return {os.fsdecode(place) for place in contents(folder)}


def split(bench, *words):
    return fascis(bench, "split", bench.library, "--to", bench.heron, *words, "--json")


def plays(folder):
    return {n: oracle.plays(p, {}) for n in NAMES for p in folder.rglob(f"{n}.otio")}


def part_of(name):
    shared = {"media/all.mov"} | ({"media/two.mov"} if name != "Winter" else set())
    return {f"media/{name}.mov", f"projects/{name}/{name}.otio"} | shared


def test_each_project_is_a_library_with_all_it_uses(bench, studio):
    before, played = contents(studio), plays(studio)
    length = sum(p.stat().st_size for p in studio.rglob("*") if p.is_file())
    status, said, err = split(bench)
    assert (status, said["state"]) == (0, "switched"), err
    assert [p["to"] for p in said["parts"]] == [[str(bench.heron / n)] for n in NAMES]
    for name in NAMES:
        assert files(bench.heron / name) == part_of(name)
    assert plays(bench.heron) == played and contents(studio) == before
    assert said["before_bytes"] == length
    assert said["parts_bytes"] == sum(
        p.stat().st_size
        for n in NAMES
        for p in (bench.heron / n).rglob("*")
        if p.is_file() and ".fascis" not in p.parts
    )
    unused = (studio / "media/unused.mov", studio / "papers/contract.txt")
    assert said["stays"] == {"files": 2, "bytes": sum(p.stat().st_size for p in unused)}
    ids = {p["library_id"] for p in said["parts"]}
    assert len(ids) == 3, "each is a library of its own"


def test_one_release_at_the_end_takes_what_every_part_holds(bench, studio):
    played = plays(studio)
    _, said, _ = split(bench)
    one = said["parts"][0]["crossing"]
    status, refused, _ = fascis(bench, "release", one, "--yes", "--json")
    assert status == 3 and said["split"] in refused["problems"][-1]["sentence"]
    _, found, _ = fascis(bench, "release", said["split"], "--list", "--json")
    assert {x["path"] for x in found["goes"]} == set().union(*map(part_of, NAMES))
    assert found["stays"] == [] and found["frees_bytes"] > 0
    status, said, err = fascis(bench, "release", said["split"], "--yes", "--json")
    assert (status, said["state"]) == (0, "released"), err
    assert files(studio) == {"media/unused.mov", "papers/contract.txt"}
    assert plays(bench.heron) == played
    assert [p["left_behind"] for p in said["parts"]] == [[], [], []]
    _, receipts, _ = fascis(bench, "receipts", said["split"], "--json")
    assert len(receipts["receipts"]) == 3


def test_an_original_that_one_part_does_not_hold_any_more_stays(bench, studio):
    _, said, _ = split(bench)
    (bench.heron / "Winter/media/all.mov").write_bytes(b"spoiled")
    _, found, _ = fascis(bench, "release", said["split"], "--list", "--json")
    assert [(x["path"], x["why"]) for x in found["stays"]] == [("media/all.mov", "copy-changed")]
    status, said, _ = fascis(bench, "release", said["split"], "--yes", "--json")
    assert (status, said["state"]) == (1, "released")
    assert files(studio) == {"media/unused.mov", "papers/contract.txt", "media/all.mov"}


def test_a_document_that_stays_keeps_what_it_uses(bench, studio):
    write(studio / "overview.otio", timeline("media/all.mov", "media/Winter.mov"))
    kept = oracle.plays(studio / "overview.otio", {})
    parts = [f"--part={n}={n}" for n in NAMES]
    status, said, err = split(bench, *parts, "--after", "release", "--yes")
    assert (status, said["state"]) == (0, "released"), err
    assert oracle.plays(studio / "overview.otio", {}) == kept
    assert files(studio) == {
        "overview.otio",
        "media/all.mov",
        "media/Winter.mov",
        "media/unused.mov",
        "papers/contract.txt",
    }
    left = {x["path"]: x["by"] for p in said["parts"] for x in p["left_behind"]}
    assert left == {"media/all.mov": ["overview.otio"], "media/Winter.mov": ["overview.otio"]}


def test_named_parts_and_the_rest(bench, studio):
    played = plays(studio)
    status, said, err = split(
        bench, "--part", "Year=Spring,Autumn", "--rest", "Others", "--after", "release", "--yes"
    )
    assert (status, said["state"]) == (0, "released"), err
    assert files(bench.heron / "Year") == part_of("Spring") | part_of("Autumn")
    assert files(bench.heron / "Others") == part_of("Winter") | {
        "media/unused.mov",
        "papers/contract.txt",
    }
    assert plays(bench.heron) == played and files(studio) == set()
    assert said["stays"] == {"files": 0, "bytes": 0}


def test_set_aside_together_and_undone(bench, studio):
    before = contents(studio)
    status, said, err = split(bench, "--after", "park", "--yes")
    assert (status, said["state"]) == (0, "parked"), err
    assert files(studio) == {"media/unused.mov", "papers/contract.txt"}
    status, said, err = fascis(bench, "undo", said["split"], "--json")
    assert (status, said["state"]) == (0, "undone"), err
    assert contents(studio) == before and not list(studio.parent.glob("*set aside*"))


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (("--part", "Spring"), "is not"),
        (("--part", "A=Spring", "--part", "B=Spring"), "in two parts"),
    ],
)
def test_parts_that_are_none_are_refused(bench, studio, words, sentence):
    status, said, _ = split(bench, *words)
    assert status == 2 and sentence in said["error"] and not list(bench.heron.glob("A*"))


def test_a_dry_run_and_a_refusal_write_nothing(bench, studio):
    (bench.heron / "Spring").mkdir()
    before = contents(bench.drives)
    status, said, _ = split(bench, "--dry-run", "--part", "Cold=Winter")
    assert status == 0 and [p["to"] for p in said["parts"]] == [[str(bench.heron / "Cold")]]
    status, said, _ = split(bench, "--yes")
    assert (status, said["state"]) == (3, "refused")
    assert {"destination-exists"} <= {p["code"] for p in said["problems"]}
    status, said, _ = split(bench, "--part", "X=Nowhere", "--yes")
    assert status == 3 and "part-not-there" in {p["code"] for p in said["problems"]}
    assert contents(bench.drives) == before


def whole_way(bench):
    surveyed = survey_library(bench.workspace, bench.library)
    libraries = one_for_each(surveyed)
    plan = plan_split(bench.workspace, surveyed, bench.heron, libraries, After.RELEASE)
    go_on(Split.start(bench.workspace, plan, consent=True))


def go_on(found):
    try:
        found.run(Crossing.run)
        found.advance(True, Control())
    finally:
        found.close()


def test_interrupted_at_any_step_nothing_is_lost_and_it_resumes(tmp_path):
    def make(name):
        bench = Bench(tmp_path / name)
        fill(bench)
        return bench

    rehearsal = make("rehearsal")
    rehearsal.step = counter = Killer(10**9)
    whole_way(rehearsal)
    assert counter.passed > 100 and files(rehearsal.library) == {
        "media/unused.mov",
        "papers/contract.txt",
    }
    for point in range(12, counter.passed, 2 * STRIDE - 1):
        bench = make(f"at {point}")
        before, played = contents(bench.library), plays(bench.library)
        bench.step = Killer(point)
        with suppress(Killed):
            whole_way(bench)
        now = set(contents(bench.library).values()) | set(contents(bench.heron).values())
        assert set(before.values()) <= now, point
        bench.step = lambda _n: None
        bench.again()
        id = split_begun(bench)
        if id is None:
            assert contents(bench.library) == before
            continue
        found = find_split(bench.workspace, id)
        if not found.complete:
            with pytest.raises(Exception, match="cut off before all of its parts"):
                found.run(Crossing.run)
            found.undo()
            assert contents(bench.library) == before and files(bench.heron) == {"stand-in.json"}
            continue
        go_on(found)
        assert (
            plays(bench.heron) == played and find_split(bench.workspace, id).state is State.RELEASED
        )
        assert files(bench.library) == {"media/unused.mov", "papers/contract.txt"}, point


def split_begun(bench):
    """The id of the split that was begun, if one was."""
    headers = [read_header(p) for p in bench.workspace.crossings.glob("*.sqlite")]
    return next((h.split.id for h in headers if h and h.split), None)
