"""A catalog's folder that lies anywhere is copied by itself; the catalog stays, and follows."""

import pytest

from tests.commands.test_commands import fascis
from tests.judge import contents
from tests.library.making import catalog_at, write
from tests.worlds import oracle


@pytest.fixture
def catalog(bench):
    """A catalog whose photos lie elsewhere, on its drive."""
    photos = bench.drives / "inside/Photos"
    for place in ("2023/a.jpg", "2024 trip/heron.jpg", "2024 trip/night/otter.jpg"):
        write(photos / place, place.encode() * 300)
    write(photos / "2024 trip/heron.xmp", b"<x/>")
    write(photos / "2024 trip/not in the catalog.txt", b"notes")
    return catalog_at(
        bench.drives / "inside/Catalogs/River.fascat",
        [("uuid-inside", "Photos")],
        [(1, 1, "2023"), (2, 1, "2024 trip"), (3, 1, "2024 trip/night"), (4, 1, "gone")],
        [(1, "a.jpg"), (2, "heron.jpg"), (3, "otter.jpg"), (4, "lost.jpg")],
    )


def played(bench, catalog):
    return oracle.plays(catalog, {f"uuid-{n}": str(bench.drives / n) for n in ("inside", "heron")})


@pytest.mark.parametrize("how", ["path", "name", "whole library"])
@pytest.mark.parametrize("landing", ["--to", "--into"])
def test_a_trip_goes_and_the_catalog_knows_it_there(bench, catalog, how, landing):
    trip, there = bench.drives / "inside/Photos/2024 trip", bench.heron / "Archive"
    there.mkdir()
    before, plays = contents(trip), played(bench, catalog)
    library = catalog.parent if how == "whole library" else catalog
    words = ("--only", "2024 trip" if how == "name" else trip, landing, there)
    status, said, err = fascis(
        bench, "relocate", library, *words, "--after", "release", "--yes", "--json"
    )
    assert (status, said["state"], said["left_behind"]) == (0, "released", []), err
    assert [(f["format"], f["references"]) for f in said["followers"]] == [("fascat", 2)]
    assert said["part"] == {"projects": [], "folders": [str(trip)]}
    assert contents(there / "2024 trip") == before, "all that is in it, whoever uses it"
    assert played(bench, catalog) == plays and not trip.exists()
    assert (bench.drives / "inside/Photos/2023/a.jpg").exists()


def test_beside_its_photos_the_catalog_is_a_library_by_itself(bench):
    """For a single document, nothing else in its folder is copied except named parts."""
    photos = bench.drives / "inside/Photos"
    for place in ("2023/a.jpg", "2024 trip/heron.jpg", "2024 trip/b.txt"):
        write(photos / place, place.encode() * 300)
    catalog = catalog_at(
        photos / "River.fascat",
        [("uuid-inside", "Photos")],
        [(1, 1, "2023"), (2, 1, "2024 trip")],
        [(1, "a.jpg"), (2, "heron.jpg")],
    )
    plays = played(bench, catalog)
    words = ("--only", "2024 trip", "--to", bench.heron, "--after", "release", "--yes", "--json")
    status, said, err = fascis(bench, "relocate", catalog, *words)
    assert (status, said["state"]) == (0, "released"), err
    assert played(bench, catalog) == plays
    assert set(contents(photos)) - {next(k for k in contents(photos) if b"before-" in k)} == {
        b"River.fascat",
        b"2023/a.jpg",
    }
    assert (bench.heron / "2024 trip/b.txt").exists()


def test_a_folder_that_is_gone_or_does_not_belong_to_it_is_reported(bench, catalog):
    before = contents(bench.drives)
    relocate = ("relocate", catalog, "--to", bench.heron, "--yes", "--json")
    status, said, _ = fascis(bench, *relocate, "--only", "gone")
    (problem,) = [p for p in said["problems"] if p["code"] == "part-not-there"]
    assert status == 3 and "its photos are missing" in problem["sentence"]
    (bench.drives / "inside/Photos/other").mkdir()
    status, said, _ = fascis(bench, *relocate, "--only", bench.drives / "inside/Photos/other")
    assert status == 3 and "part-not-there" in {p["code"] for p in said["problems"]}
    (bench.drives / "inside/Photos/other").rmdir()
    assert contents(bench.drives) == before


@pytest.mark.parametrize("how", ["names", "whole paths", "one in the other"])
def test_several_go_together_into_a_folder_that_is_there(bench, catalog, how):
    photos, there = bench.drives / "inside/Photos", bench.heron / "Archive"
    write(there / "2023/other.jpg", b"stood there")
    before, plays = contents(photos), played(bench, catalog)
    parts = {
        "names": ["2023", "2024 trip"],
        "whole paths": [photos / "2023", photos / "2024 trip"],
        "one in the other": ["2023", "2024 trip", photos / "2024 trip/night"],
    }[how]
    words = [word for part in parts for word in ("--only", part)]
    release = ("--after", "release", "--yes", "--json")
    status, said, err = fascis(bench, "relocate", catalog, *words, "--into", there, *release)
    assert (status, said["state"], said["left_behind"]) == (0, "released", []), err
    assert set(said["part"]["folders"]) == {
        str(photos / part) for part in ("2023", "2024 trip", "2024 trip/night")[: len(parts)]
    }
    if how != "one in the other":
        assert contents(there) == before | {b"2023/other.jpg": contents(there)[b"2023/other.jpg"]}
    assert (there / "2023/other.jpg").read_bytes() == b"stood there"
    assert played(bench, catalog) == plays and not (photos / "2023").exists()
    status, _, err = fascis(bench, "undo", said["crossing"], "--json")
    assert played(bench, catalog) == plays, err


def test_those_that_cannot_go_together_are_reported(bench, catalog):
    before = contents(bench.drives)
    relocate = ("relocate", catalog, "--to", bench.heron, "--yes", "--json")
    status, said, _ = fascis(bench, *relocate, "--only", "2023", "--only", "2024 trip")
    assert status == 2 and "--name" in said["error"]
    status, said, _ = fascis(bench, *relocate, "--only", "2023", "--only", "gone", "--name", "Two")
    assert status == 3 and "part-not-there" in {p["code"] for p in said["problems"]}
    write(catalog.parent / "own/notes.txt", b"notes")
    both = ("--only", "2023", "--only", "own", "--name", "Two")
    status, said, _ = fascis(bench, "relocate", catalog.parent, *relocate[2:], *both)
    assert status == 2 and "one at a time" in said["error"]
    (catalog.parent / "own/notes.txt").unlink()
    (catalog.parent / "own").rmdir()
    assert contents(bench.drives) == before
