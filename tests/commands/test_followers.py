"""Documents that stay follow copied files: each plays what it played, and can be restored."""

import fcntl
import os
import sqlite3
import stat
import subprocess
import sys
from contextlib import closing, suppress

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.deleting import deleting_now
from fascis.crossing.status.queue import find_crossing
from fascis.files.control import Control
from fascis.files.errors import Cancelled
from tests.commands.test_commands import fascis
from tests.crossing.test_crash_points import Killed, Killer
from tests.judge import contents
from tests.library.making import catalog_at, timeline, write
from tests.worlds import oracle

TRIP = "photos/2024 trip"


@pytest.fixture
def river(bench):
    """A library with a catalog, a project, and a trip's folder that all of them use."""
    lib = bench.library
    for place in (
        "photos/2023/a.jpg",
        f"{TRIP}/heron.jpg",
        f"{TRIP}/weir.jpg",
        f"{TRIP}/frames/f_001.png",
        f"{TRIP}/frames/f_002.png",
        "media/salmon.mov",
    ):
        write(lib / place, f"content of {place}".encode() * 200)
    write(lib / TRIP / "heron.xmp", b"<x/>")
    catalog_at(
        lib / "River.fascat",
        [("uuid-inside", f"{lib.name}/photos")],
        [(1, 1, "2023"), (2, 1, "2024 trip")],
        [(1, "a.jpg"), (2, "heron.jpg"), (2, "weir.jpg")],
    )
    write(
        lib / "projects/Spring/spring.otio",
        timeline(f"../../{TRIP}/heron.jpg", "../../media/salmon.mov"),
    )
    write(lib.parent / "Beside/list.m3u8", f"#EXTM3U\n{lib}/{TRIP}/weir.jpg\n".encode())
    (lib / "latest.jpg").symlink_to(lib / TRIP / "heron.jpg")
    return lib


def staying(bench):
    return [
        bench.library / "River.fascat",
        bench.library / "projects/Spring/spring.otio",
        bench.library.parent / "Beside/list.m3u8",
    ]


def played(bench):
    mounts = {f"uuid-{n}": str(bench.drives / n) for n in ("inside", "heron")}
    found = {path: oracle.plays(path, mounts) for path in staying(bench)}
    found["link"] = (bench.library / "latest.jpg").read_bytes()
    return found


def cross(bench, *words, only=TRIP):
    library = bench.library
    relocate = ("relocate", library, "--to", bench.heron, "--only", only, *words)
    return fascis(bench, *relocate, "--yes", "--json")


def rows(catalog):
    """Everything of a catalog but where its folders are."""
    with closing(sqlite3.connect(f"file:{catalog}?mode=ro", uri=True)) as db:
        tables = [n for (n,) in db.execute("SELECT name FROM sqlite_master WHERE type='table'")]
        return {
            t: db.execute(f"SELECT * FROM {t}").fetchall()
            for t in tables
            if t not in ("place", "folder")
        }


def test_a_folder_goes_and_everything_that_stays_follows_it(bench, river):
    before, catalog = played(bench), rows(river / "River.fascat")
    status, said, err = cross(bench, "--after", "release")
    assert (status, said["state"], said["shared"], said["left_behind"]) == (
        0,
        "released",
        [],
        [],
    ), err
    assert {f["path"]: (f["format"], f["references"]) for f in said["followers"]} == {
        "River.fascat": ("fascat", 2),
        "projects/Spring/spring.otio": ("otio", 1),
        os.path.realpath(river.parent / "Beside/list.m3u8"): ("m3u8", 1),
        "latest.jpg": ("link", 1),
    }
    assert played(bench) == before
    assert rows(river / "River.fascat") == catalog, "only its folders are elsewhere"
    assert not (river / TRIP).exists()
    assert (river / "photos/2023/a.jpg").exists() and (river / "media/salmon.mov").exists()
    assert (bench.heron / "2024 trip" / TRIP / "heron.xmp").exists()
    _, receipt, _ = fascis(bench, "receipts", said["crossing"], "--json")
    assert receipt["led"] and receipt["followers"] == said["followers"]
    assert receipt["left_out"]["files"] == 0, "the rest is not left out of a part"
    page = bench.root / "receipt.html"
    fascis(bench, "receipts", said["crossing"], "--html", page)
    assert "River.fascat<td>2\u00a0references" in page.read_text()


def test_followers_are_reported_before_the_start_and_a_dry_run_writes_nothing(bench, river):
    before = contents(bench.drives / "inside")
    status, said, err = cross(bench, "--dry-run")
    assert status == 0 and len(said["followers"]) == 4 and said["frees_bytes"] > 0
    assert "led to the new place: River.fascat (2" in err
    assert contents(bench.drives / "inside") == before


def test_a_copy_leads_nobody(bench, river):
    before = contents(bench.drives / "inside")
    status, said, _ = cross(bench, "--after", "copy")
    assert (status, said["state"], said["followers"]) == (0, "settled", [])
    assert contents(bench.drives / "inside") == before


def test_after_undo_every_document_has_its_earlier_bytes(bench, river):
    before = contents(bench.drives / "inside")
    _, said, _ = cross(bench)
    assert said["state"] == "switched" and contents(bench.drives / "inside") != before
    status, _, err = fascis(bench, "undo", said["crossing"], "--json")
    assert status == 0, err
    assert contents(bench.drives / "inside") == before
    assert not fascis(bench, "receipts", said["crossing"], "--json")[1]["led"]
    assert (bench.heron / "2024 trip" / TRIP / "heron.jpg").exists()


def test_a_follower_that_was_worked_in_since_keeps_that_work(bench, river):
    _, said, _ = cross(bench)
    spring = river / "projects/Spring/spring.otio"
    spring.write_bytes(spring.read_bytes() + b" ")
    worked = contents(bench.drives / "inside")
    status, refused, _ = fascis(bench, "undo", said["crossing"], "--json")
    assert status == 3 and "was worked in since" in refused["problems"][0]["sentence"]
    assert contents(bench.drives / "inside") == worked
    assert fascis(bench, "release", said["crossing"], "--list", "--json")[1]["stays"] == []


def test_its_act_is_undone_with_the_crossing_only(bench, river):
    _, said, _ = cross(bench)
    kept = next(river.glob("River.fascat.before-*")).name.rpartition("-")[2]
    led = played(bench)
    status, _, err = fascis(bench, "undo", kept, "--json")
    assert status != 0 and f"by crossing {said['crossing']}" in err
    assert played(bench) == led


@pytest.mark.parametrize("shared", ["stays", "follows"])
def test_a_project_may_be_followed_and_a_folder_may_be_left(bench, river, shared):
    write(river / "projects/Autumn/autumn.otio", timeline(f"../../{TRIP}/weir.jpg"))
    before = played(bench)
    only = TRIP if shared == "stays" else "Autumn"
    status, said, err = cross(bench, "--shared", shared, "--after", "release", only=only)
    assert (status, said["state"]) == (0, "released"), err
    assert played(bench) == before
    if shared == "stays":
        assert said["followers"] == [] and (river / TRIP / "weir.jpg").exists()
        assert {"River.fascat"} <= {by for x in said["shared"] for by in x["used_by"]}
    else:
        assert not (river / TRIP / "weir.jpg").exists() and (river / TRIP / "heron.jpg").exists()
        assert {f["path"] for f in said["followers"]} == {
            "River.fascat",
            os.path.realpath(river.parent / "Beside/list.m3u8"),
        }


def protect(bench):
    (bench.library / "projects/Spring/spring.otio").chmod(0o444)


def name_only(bench):
    write(
        bench.library / "cut.edl",
        b"TITLE: cut\n\n001  AX  V  C  00:00:00:00 00:00:01:00 00:00:00:00 00:00:01:00\n"
        b"* FROM CLIP NAME: weir.jpg\n",
    )


def unknown(bench):
    place = f"{bench.library}/{TRIP}/weir.jpg"
    write(bench.library.parent / "Beside/board.thing", f'{{"pictures": ["{place}"]}}'.encode())


@pytest.mark.parametrize(
    ("make", "who"), [(protect, "spring.otio"), (name_only, "cut.edl"), (unknown, "board.thing")]
)
def test_what_cannot_be_led_is_refused_whole(bench, river, make, who):
    make(bench)
    before = contents(bench.drives / "inside")
    status, said, _ = cross(bench, "--after", "release")
    (problem,) = [p for p in said["problems"] if p["code"] == "would-break"]
    assert status == 3 and who in problem["sentence"] and "--shared stays" in str(problem) + _
    assert contents(bench.drives / "inside") == before and not list(bench.heron.glob("2024*"))
    assert cross(bench, "--after", "release", "--shared", "stays")[0] == 0
    assert (river / TRIP / "weir.jpg").exists()


def test_a_catalog_with_another_program_s_journal_beside_it_is_not_updated(bench, river):
    write(river / "River.fascat-wal", b"not merged")
    before = contents(bench.drives / "inside")
    status, said, err = cross(bench, "--after", "release")
    assert (status, said["state"]) == (3, "refused"), err
    (problem,) = [p for p in said["problems"] if p["code"] == "would-break"]
    assert "River.fascat-wal lies beside the catalog" in problem["sentence"]
    assert contents(bench.drives / "inside") == before and not list(bench.heron.glob("2024*"))


def test_a_follower_that_a_program_has_open_is_refused_before_anything_is_begun(bench, river):
    before = contents(bench.drives / "inside")
    program = subprocess.Popen(
        [sys.executable, "-c", "import sys; f = open(sys.argv[1], 'r+b'); print(1); input()"]
        + [river / "River.fascat"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    )
    try:
        assert program.stdout.read(1) == b"1"
        status, said, _ = cross(bench, "--after", "release")
    finally:
        program.communicate(b"\n")
    (problem,) = [p for p in said["problems"] if p["code"] == "would-break"]
    assert status == 3 and "has River.fascat open" in problem["sentence"]
    assert contents(bench.drives / "inside") == before and not list(bench.heron.glob("2024*"))


def test_what_cannot_be_undone_leaves_followers_at_the_new_place(bench, river):
    """Another crossing holds the library: nothing of the undo is done, not half of it."""
    _, said, _ = cross(bench)
    led = contents(bench.drives / "inside")
    held = os.open(river, os.O_RDONLY | os.O_DIRECTORY)
    try:
        fcntl.flock(held, fcntl.LOCK_EX)
        status, refused, _ = fascis(bench, "undo", said["crossing"], "--json")
    finally:
        os.close(held)
    assert status == 3 and refused["state"] == "switched"
    assert contents(bench.drives / "inside") == led
    assert fascis(bench, "undo", said["crossing"], "--json")[0] == 0
    assert not list(river.rglob("*.before-*"))


def started(bench):
    surveyed = survey_library(bench.workspace, bench.library)
    choices = Choices(only=frozenset([TRIP]), after=After.RELEASE)
    plan = make_plan(bench.workspace, surveyed, bench.heron, choices)
    crossing = Crossing.start(bench.workspace, plan, decided=True, consent=True)
    assert crossing.run() is State.SETTLED
    return crossing


def test_interrupted_at_every_step_everything_plays_and_it_resumes(bench, river):
    before, all_before = played(bench), contents(bench.drives / "inside")
    crossing = started(bench)
    id = crossing.id
    crossing.close()
    lives, points = 0, 0
    while True:
        bench.step = Killer(lives)
        bench.again()
        crossing = find_crossing(bench.workspace, id)
        if crossing.state is State.SWITCHED:
            break
        with suppress(Killed):
            crossing.switch()
        crossing.close()
        assert played(bench) == before, f"after {lives} steps"
        assert contents(river / TRIP) == contents(bench.heron / "2024 trip" / TRIP)
        lives, points = lives + 1, points + 1
    assert points > 8 and crossing.state is State.SWITCHED
    assert played(bench) == before
    assert deleting_now(crossing).stays == [], "all of them are led"
    bench.step = lambda _name: None
    crossing.undo()
    crossing.close()
    assert contents(bench.drives / "inside") == all_before


def test_a_document_that_cannot_be_written_any_more_when_home_would_go_changes_none(bench, river):
    crossing = started(bench)
    spring = river / "projects/Spring/spring.otio"
    spring.chmod(0o444)
    before = contents(bench.drives / "inside")
    with pytest.raises(Exception, match="cannot be led to the new place"):
        crossing.switch()
    assert crossing.state is State.SETTLED and contents(bench.drives / "inside") == before
    spring.chmod(stat.S_IMODE(spring.stat().st_mode) | 0o200)
    crossing.switch()
    assert crossing.state is State.SWITCHED and len(list(river.glob("River.fascat.before-*"))) == 1
    crossing.close()


def test_the_lists_of_the_rest_are_right_afterwards(bench, river):
    """It crossed before, so it has a manifest: now without the files that left, and with updated
    documents.
    """
    otter = bench.add_drive("otter", "ext4")
    _, said, _ = fascis(
        bench, "relocate", river, "--to", otter, "--after", "release", "--yes", "--json"
    )
    assert said["state"] == "released"
    home = otter / river.name
    before = contents(home)
    relocate = ("relocate", home, "--to", bench.heron, "--only", TRIP, "--yes", "--json")
    _, said, err = fascis(bench, *relocate)
    assert said["state"] == "switched" and len(said["followers"]) >= 3, err
    status, found, _ = fascis(bench, "verify", home, "--json")
    assert (status, found["edited"], found["missing"], found["damaged"]) == (0, [], [], [])
    assert fascis(bench, "undo", said["crossing"], "--json")[0] == 0
    assert contents(home) == before, "its lists too"
    _, said, _ = fascis(bench, *relocate, "--name", "Trip", "--after", "release")
    assert said["state"] == "released"
    status, found, _ = fascis(bench, "verify", home, "--json")
    assert (status, found["edited"], found["missing"], found["damaged"]) == (0, [], [], [])
    assert (home / "photos/2023/a.jpg").exists() and found["matching"] == found["files"]
    assert fascis(bench, "verify", bench.heron / "Trip", "--json")[0] == 0


def test_lists_that_cannot_be_read_are_left_as_they_are(bench, river):
    write(river / ".fascis/manifest.b3", b"no manifest")
    write(river / ".fascis/inventory.csv", b"no inventory")
    status, said, err = cross(bench, "--after", "release")
    assert (status, said["state"]) == (0, "released"), err
    _, receipt, _ = fascis(bench, "receipts", said["crossing"], "--json")
    told = {os.path.basename(a["path"]) for a in receipt["attention"]}
    assert {"manifest.b3", "inventory.csv"} <= told
    assert (river / ".fascis/manifest.b3").read_bytes() == b"no manifest"
    assert (river / ".fascis/inventory.csv").read_bytes() == b"no inventory"
    assert sorted(p.name for p in (river / ".fascis").iterdir()) == ["inventory.csv", "manifest.b3"]


def test_a_follower_that_was_deleted_since_does_not_keep_the_crossing_from_being_undone(
    bench, river
):
    _, said, _ = cross(bench)
    spring = river / "projects/Spring/spring.otio"
    spring.unlink()
    assert fascis(bench, "undo", said["crossing"], "--json")[0] == 0
    assert not spring.exists() and len(list(spring.parent.iterdir())) == 1, "as it was is kept"
    assert None not in oracle.plays(
        river / "River.fascat", {"uuid-inside": str(bench.drives / "inside")}
    )


def test_names_that_are_two_by_the_way_they_are_read_are_not_mixed_up(bench, river):
    """If both are copied, it plays the same one as before; if only one is, it is refused."""
    write(river / TRIP / "weir%20two.jpg", b"as it is written" * 9)
    write(river / TRIP / "weir two.jpg", b"as it is decoded" * 9)
    write(river.parent / "Beside/two.m3u8", f"#EXTM3U\n{river}/{TRIP}/weir%20two.jpg\n".encode())
    two = river.parent / "Beside/two.m3u8"
    before = oracle.plays(two, {})
    status, said, err = cross(bench, "--after", "release")
    assert (status, said["state"]) == (0, "released"), err
    assert oracle.plays(two, {}) == before != [None]


def test_stopped_while_followers_are_searched_for_nothing_is_changed(bench, river):
    crossing = started(bench)
    before = contents(bench.drives / "inside")
    control = Control()
    control.stop()
    with pytest.raises(Cancelled):
        crossing.switch(control)
    assert crossing.state is State.SETTLED and contents(bench.drives / "inside") == before
    crossing.switch()
    assert deleting_now(crossing).stays == []
    crossing.close()
