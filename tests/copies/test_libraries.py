"""Known copies, and how they compare with their home."""

import os
import shutil
import time

import pytest

from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.workspace import from_environment
from tests.clock import within
from tests.commands.test_commands import fascis
from tests.judge import contents
from tests.library.making import timeline, write


@pytest.fixture
def studio(bench):
    """A library with a copy on heron: its home stays where it is."""
    lib = bench.library
    write(lib / "cut.otio", timeline("media/a.mov", "../Loose/l.wav"))
    write(bench.drives / "inside/Loose/l.wav", b"loose" * 90)
    for name in ("a", "b", "c"):
        write(lib / f"media/{name}.mov", name.encode() * 900)
    write(lib / "proxies/a.mov", b"proxy" * 100)
    words = ("--to", bench.heron, "--leave-out", "proxy", "--after", "copy", "--yes", "--json")
    status, said, err = fascis(bench, "relocate", lib, *words)
    assert (status, said["state"]) == (0, "settled"), err
    return lib


def copy_of(bench, *more):
    status, said, err = fascis(bench, "libraries", *more, "--json")
    assert status == 0, err
    (library,) = said["libraries"]
    (copy,) = library["copies"]
    return library, copy


def test_a_copy_is_known_and_equal_as_it_arrived(bench, studio):
    library, copy = copy_of(bench)
    assert library["home"]["path"] == str(studio) and library["home"]["connected"]
    assert copy["path"] == str(bench.heron / studio.name) and copy["drive"] == "heron"
    assert (copy["state"], copy["files"], copy["damaged"]) == ("equal", 5, 0)
    assert copy["verified_at"] and library["aside"] == []
    assert copy_of(bench, "--look")[1]["state"] == "equal", "left out by choice is no difference"


def change(bench, studio, how):
    there = bench.heron / studio.name
    if "new" in how:
        write(studio / "media/new.mov", b"new" * 70)
    if "moved" in how:
        (studio / "media/b.mov").rename(studio / "media/b2.mov")
    if "removed" in how:
        (studio / "media/c.mov").unlink()
    if "document" in how:
        write(studio / "cut.otio", timeline("media/a.mov", "media/b.mov", "../Loose/l.wav"))
    if "touched" in how:
        os.utime(studio / "media/a.mov", (1, 1))
    if "edited there" in how:
        write(there / "media/a.mov", b"edited in the copy")
    if "made there" in how:
        write(there / "media/made.mov", b"made in the copy")
    if "both" in how:
        write(studio / "media/a.mov", b"edited at home")
    if "lost" in how:
        (there / "media/a.mov").unlink()


@pytest.mark.parametrize(
    ("how", "state", "behind"),
    [
        ("new", "behind", 1),
        ("moved", "behind", 1),
        ("new moved removed document", "behind", 4),
        ("touched", "equal", 0),
        ("edited there", "ahead", 0),
        ("made there", "ahead", 0),
        ("made there, new", "differs", 1),
        ("edited there, both", "differs", 0),
        ("lost", "damaged", 1),
    ],
)
def test_after_a_comparison_the_state_of_a_copy_is_shown(bench, studio, how, state, behind):
    change(bench, studio, how)
    before = contents(bench.drives)
    copy = copy_of(bench, "--look")[1]
    assert (copy["state"], copy["behind_files"]) == (state, behind)
    assert contents(bench.drives) == before, "looking writes nothing"
    assert copy_of(bench)[1]["state"] == state, "it is remembered"


def test_away_is_away_and_surveying_a_copy_makes_no_home_of_it(bench, studio):
    status, _, _ = fascis(bench, "survey", bench.heron / studio.name, "--json")
    assert status == 0 and copy_of(bench)[0]["home"]["path"] == str(studio)
    bench.add_drive("heron", connected=False)
    copy = copy_of(bench, studio.name)[1]
    assert (copy["state"], copy["connected"]) == ("away", False)


def test_a_copy_that_was_deleted_is_damaged_until_it_is_forgotten(bench, studio):
    there = bench.heron / studio.name
    shutil.rmtree(there)
    assert copy_of(bench)[1]["state"] == "damaged"
    status, said, _ = fascis(bench, "libraries", "--forget", there, "--json")
    assert status == 0 and said["libraries"][0]["copies"] == []
    library = said["libraries"][0]["library_id"]
    before = contents(studio)
    status, said, _ = fascis(bench, "libraries", "--forget", library, "--json")
    assert (status, said["libraries"]) == (0, []) and contents(studio) == before
    assert fascis(bench, "libraries", "--forget", library, "--json")[0] == 2
    assert fascis(bench, "libraries", "nobody", "--json")[0] == 2


def test_originals_are_known_where_they_are_and_set_aside(bench, studio):
    words = ("--to", bench.heron, "--name", "Home", "--after", "keep", "--yes", "--json")
    status, said, err = fascis(bench, "relocate", studio, *words)
    assert status == 0, err
    library = fascis(bench, "libraries", "--json")[1]["libraries"][0]
    assert library["home"]["path"] == str(bench.heron / "Home")
    assert str(studio) in {c["path"] for c in library["copies"]}
    fascis(bench, "park", said["crossing"], "--json")
    library = fascis(bench, "libraries", "--json")[1]["libraries"][0]
    (aside,) = library["aside"]
    assert "(set aside" in aside["path"]
    assert str(studio) not in {c["path"] for c in library["copies"]}
    fascis(bench, "undo", said["crossing"], "--json")
    library = fascis(bench, "libraries", "--json")[1]["libraries"][0]
    assert library["home"]["path"] == str(studio) and library["aside"] == []


def test_two_hundred_libraries_are_listed_at_once(bench):
    register = from_environment().register
    drive = bench.workspace.drives.connected()[0]
    for n in range(200):
        root = bench.root / f"Library {n}"
        id = register.put_library(root, drive.uuid, f"Library {n}", "editing library")
        for copy in range(2):
            register.put_copy(id, drive, root / f"copy {copy}", "1234")
    begun = time.monotonic()
    status, said, _ = fascis(bench, "libraries", "--json")
    assert status == 0 and sum(len(x["copies"]) for x in said["libraries"]) == 400
    within(begun, 2)


def test_a_library_that_is_away_keeps_what_it_used_until_it_is_forgotten(bench, monkeypatch):
    lib = bench.library
    write(lib / "media/a.mov", b"a" * 900)
    write(lib / "cut.otio", timeline("media/a.mov"))
    other = bench.add_drive("otter") / "Otters"
    write(other / "otters.otio", timeline(str(lib / "media/a.mov")))
    monkeypatch.setenv("FASCIS_STAND_INS", str(bench.drives))
    workspace = from_environment()
    for folder in (lib, other):
        remember(workspace, survey_library(workspace, folder))
    (bench.drives / "otter").rename(bench.root / "in a drawer")
    words = ("relocate", lib, "--to", bench.heron, "--after", "release")
    _, said, _ = fascis(bench, *words, "--dry-run", "--json")
    (away,) = [p for p in said["problems"] if "is away" in p["sentence"]]
    assert "Otters" in away["sentence"] and [s["path"] for s in said["shared"]] == ["media/a.mov"]
    known = fascis(bench, "libraries", "Otters", "--json")[1]["libraries"][0]
    assert fascis(bench, "libraries", "--forget", known["library_id"])[0] == 0
    status, said, err = fascis(bench, *words, "--yes", "--json")
    assert (status, said["state"], said["shared"]) == (0, "released", []), err
    assert (bench.root / "in a drawer/Otters/otters.otio").exists() and not lib.exists()
