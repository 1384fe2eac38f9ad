"""Landing in a new folder: staged, arrived, moved back, cleared; never over anything."""

import json
from contextlib import closing

import pytest

from fascis.crossing.places.clearing import beside_name
from fascis.files.errors import Refused
from tests.crossing.ways import settled, started
from tests.judge import contents


@pytest.fixture(params=["ext4", "exfat"])
def landed(request, bench, library):
    """A crossing that has arrived: by one rename, or into a folder that was claimed."""
    bench.to = bench.add_drive("egret", request.param)
    with closing(settled(bench, to=bench.to)) as crossing:
        yield bench, crossing.destinations[0]


def land(destination, *steps):
    """Does some steps of a landing on the opened drive; returns the result of the last one."""

    def work(medium):
        landing = destination.landing(medium)
        return [getattr(landing, step)() for step in steps][-1]

    return destination.at(work)


def test_it_comes_back_to_the_staging_folder_and_arrives_again(landed):
    bench, destination = landed
    before, target = contents(bench.library), destination.places.target
    assert land(destination, "has_landed") and not land(destination, "is_begun")
    land(destination, "begin", "withdraw")
    staged = bench.to / destination.places.staging.decode() / "library"
    assert contents(staged) == before and not target.exists()
    assert not land(destination, "has_landed") and land(destination, "is_begun")
    land(destination, "arrive", "clear")
    assert contents(target) == before == contents(bench.library)
    assert json.loads((target / ".fascis/identity.json").read_bytes())["name"] == "The Weir"
    assert sorted(p.name for p in bench.to.iterdir()) == ["The Weir", "stand-in.json"]
    assert land(destination, "has_landed") and not land(destination, "is_arriving")


def test_a_name_that_was_taken_meanwhile_is_not_touched(landed):
    bench, destination = landed
    before, target = contents(bench.library), destination.places.target
    land(destination, "begin", "withdraw")
    target.mkdir()
    (target / "heron.jpg").write_bytes(b"somebody's own")
    with pytest.raises(Refused, match="appeared meanwhile and was not changed"):
        land(destination, "arrive")
    assert {p.name for p in target.iterdir()} == {"heron.jpg"}
    assert (target / "heron.jpg").read_bytes() == b"somebody's own"
    staged = bench.to / destination.places.staging.decode() / "library"
    assert contents(staged) == before == contents(bench.library)


def test_what_a_person_put_into_it_is_set_apart_and_never_taken_along(landed):
    bench, destination = landed
    target = destination.places.target
    (target / "media/Day 01/otter.mov").write_bytes(b"filmed since")
    (target / "notes.txt").write_bytes(b"written there since")
    land(destination, "begin", "withdraw")
    apart = bench.to / beside_name(destination.places).decode()
    theirs = {p.name: p.read_bytes() for p in apart.rglob("*") if p.is_file()}
    assert theirs == {"otter.mov": b"filmed since", "notes.txt": b"written there since"}
    assert not target.exists() and (bench.library / "notes.txt").read_bytes() == b"breach first\n"


def test_the_staging_folder_of_another_crossing_is_refused_and_stays(bench, library):
    before = contents(library)
    with closing(started(bench)) as crossing:
        destination = crossing.destinations[0]
        staging = bench.heron / destination.places.staging.decode()
        staging.mkdir()
        (staging / "crossing.json").write_text(json.dumps({"token": "of another"}))
        (staging / "library").mkdir()
        (staging / "library/clip.mov").write_bytes(b"of another")
        for step in ("begin", "prove", "clear"):
            with pytest.raises(Refused, match="belongs to another crossing"):
                land(destination, step)
    assert (staging / "library/clip.mov").read_bytes() == b"of another"
    assert contents(library) == before


@pytest.mark.parametrize("content", [b"", b"{", b"[]", b'{"token": 5}'])
def test_a_token_that_is_invalid_is_refused(bench, library, content):
    with closing(started(bench)) as crossing:
        destination = crossing.destinations[0]
        land(destination, "begin")
        token = bench.heron / destination.places.staging.decode() / "crossing.json"
        token.write_bytes(content)
        with pytest.raises(Refused, match="staging folder"):
            land(destination, "prove")
        assert token.read_bytes() == content


def test_clearing_takes_what_is_ours_and_leaves_what_is_not(bench, library):
    before = contents(library)
    with closing(started(bench)) as crossing:
        destination = crossing.destinations[0]
        land(destination, "begin")
        staging = bench.heron / destination.places.staging.decode()
        assert {p.name for p in staging.iterdir()} == {"crossing.json", "plan.csv"}
        (staging / "a note of mine.txt").write_bytes(b"do not lose this")
        land(destination, "clear")
        apart = bench.heron / beside_name(destination.places).decode()
        kept = [p.read_bytes() for p in apart.rglob("*") if p.is_file()]
        assert kept == [b"do not lose this"] and not staging.exists()
        land(destination, "clear")  # there is nothing to clear any more
    assert contents(library) == before


def test_the_plan_lies_in_the_staging_folder_a_second_time(bench, library):
    with closing(started(bench)) as crossing:
        destination = crossing.destinations[0]
        land(destination, "begin", "begin")
        staging = bench.heron / destination.places.staging.decode()
        said = json.loads((staging / "crossing.json").read_bytes())
        assert said["token"] == destination.places.header.token and "decisions" not in said
        (goal,) = said["destinations"]
        assert (goal["landing"], goal["name"]) == ("new-folder", "The Weir")
        lines = (staging / "plan.csv").read_text().splitlines()
        assert len(lines) == 1 + len(contents(library))
