"""Landing in an existing folder: beside the files there, and never over them."""

import fcntl
import json
import os
import subprocess
from contextlib import suppress

import pytest
from blake3 import blake3

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After, Taken
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing, unfinished
from fascis.workspace import from_environment
from tests.commands.test_commands import fascis
from tests.conftest import Bench
from tests.crossing.test_crash_points import Killed, Killer
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import catalog_at, timeline, write
from tests.thorough import STRIDE
from tests.worlds import oracle

TRIP = "photos/2024 trip"


def fill_river(bench, there):
    """A library with a catalog and a trip's folder, and an archive that has some of it."""
    lib = bench.library
    for place in ("photos/2023/a.jpg", f"{TRIP}/heron.jpg", f"{TRIP}/weir.jpg", f"{TRIP}/new.jpg"):
        write(lib / place, f"content of {place}".encode() * 200)
    write(lib / TRIP / "heron.xmp", b"<x/>")
    write(lib / TRIP / "night/otter.jpg", b"otter" * 50)
    (lib / TRIP / "empty").mkdir()
    catalog_at(
        lib / "River.fascat",
        [("uuid-inside", f"{lib.name}/photos")],
        [(1, 1, "2023"), (2, 1, "2024 trip"), (3, 1, "2024 trip/night")],
        [(1, "a.jpg"), (2, "heron.jpg"), (2, "weir.jpg"), (2, "new.jpg"), (3, "otter.jpg")],
    )
    write(there / "2024 trip/weir.jpg", (lib / TRIP / "weir.jpg").read_bytes())
    write(there / "2024 trip/heron.jpg", b"another heron")
    write(there / "2024 trip/older.jpg", b"older")
    write(there / "notes.txt", b"mine")
    return lib


@pytest.fixture
def river(bench):
    return fill_river(bench, bench.heron / "Archive/2024")


def cross(bench, *words, into="Archive/2024", only=TRIP):
    parts = [word for part in only.split("|") for word in ("--only", part)]
    relocate = ("relocate", bench.library, "--into", bench.heron / into, *parts, *words)
    return fascis(bench, *relocate, "--json")


def played(bench, place="River.fascat"):
    mounts = {f"uuid-{n}": str(bench.drives / n) for n in ("inside", "heron")}
    return oracle.plays(bench.library / place, mounts)


def files(folder):
    return {os.fsdecode(place): content for place, content in contents(folder).items()}


def clean(drive):
    """Nothing of a crossing that is under way, or was given up, lies there."""
    return [p.name for p in drive.rglob(".fascis-crossing*")] == []


def test_a_trip_goes_into_the_year_that_is_there_and_its_catalog_follows(bench, river):
    there = bench.heron / "Archive"
    before, plays, trip = files(there), played(bench), files(river / TRIP)
    status, said, err = cross(bench, "--rename-taken", "--after", "release", "--yes")
    assert (status, said["state"], said["already_there_files"]) == (0, "released", 1), err
    assert said["to"] == [str(there / "2024/2024 trip")] and said["left_behind"] == []
    assert said["manifest"] is None and said["library_id"] is None, "it is no library"
    added = {
        "2024/2024 trip/heron (2).jpg": trip["heron.jpg"],
        "2024/2024 trip/heron (2).xmp": trip["heron.xmp"],
        "2024/2024 trip/new.jpg": trip["new.jpg"],
        "2024/2024 trip/night/otter.jpg": trip["night/otter.jpg"],
    }
    assert files(there) == before | added
    assert (there / "2024/2024 trip/empty").is_dir()
    assert played(bench) == plays, "the catalog knows them there"
    assert not (river / TRIP).exists() and (river / "photos/2023/a.jpg").exists()
    assert clean(bench.drives) and not (there / "2024/.fascis").exists()


def test_a_taken_name_is_a_decision_and_nothing_is_begun_without_it(bench, river):
    before = contents(bench.drives)
    status, said, _ = cross(bench)
    (problem,) = [p for p in said["problems"] if p["code"] == "name-taken"]
    assert (status, said["state"], problem["severity"]) == (3, "refused", "decision")
    assert problem["files"] == [f"{TRIP}/heron.jpg"] and "heron (2).jpg" in problem["sentence"]
    assert contents(bench.drives) == before
    status, said, _ = cross(bench, "--dry-run")
    assert (status, said["already_there_files"]) == (0, 1) and contents(bench.drives) == before


def test_what_is_taken_may_stay_and_its_sidecar_with_it(bench, river):
    there, plays = bench.heron / "Archive/2024/2024 trip", played(bench)
    status, said, err = cross(bench, "--leave-out", "taken", "--after", "release", "--yes")
    assert (status, said["state"]) == (0, "released"), err
    assert files(river / TRIP).keys() == {"heron.jpg", "heron.xmp"}
    assert there.joinpath("heron.jpg").read_bytes() == b"another heron"
    assert not list(there.glob("heron*.xmp")) and played(bench) == plays


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        (("--to", "x"), "not both"),
        (("--also", "x"), "--also"),
        (("--rename-taken", "--leave-out", "taken"), "two decisions"),
    ],
)
def test_words_that_do_not_go_together_are_refused(bench, river, words, sentence):
    status, said, _ = cross(bench, *words)
    assert status == 2 and sentence in said["error"]


# -- what may be wrong there -----------------------------------------------------------------------


def refused(bench, code, **more):
    before = contents(bench.drives)
    status, said, err = cross(bench, "--yes", "--after", "release", **more)
    assert (status, said["state"]) == (3, "refused"), err
    assert code in {p["code"] for p in said["problems"]}, said["problems"]
    assert contents(bench.drives) == before


def test_a_folder_that_is_not_there_or_is_a_file(bench, river):
    refused(bench, "destination-missing", into="Archive/1999")
    refused(bench, "destination-not-a-folder", into="Archive/2024/notes.txt")


def test_the_library_itself_is_not_a_place_for_its_part(bench, river):
    (river / "elsewhere").mkdir()
    refused(bench, "destination-inside-library", into=river / "elsewhere")
    write(bench.library / "photos/The Weir/x.jpg")
    refused(bench, "destination-inside-library", into=river.parent, only="photos/The Weir")


@pytest.mark.parametrize("content", [b"{", b'{"format": 99}', b'{"format": 1}'])
def test_a_library_whose_records_are_not_understood(bench, river, content):
    write(bench.heron / "Archive/.fascis/identity.json", content)
    refused(bench, "identity-damaged")


def test_on_its_own_drive_it_frees_nothing_and_says_so(bench, river):
    there, plays = bench.drives / "inside/Years/2024", played(bench)
    there.mkdir(parents=True)
    status, said, err = cross(bench, "--after", "release", "--yes", into=there)
    assert (status, said["state"]) == (0, "released"), err
    assert files(there).keys() == {
        f"2024 trip/{n}" for n in ("heron.jpg", "heron.xmp", "weir.jpg", "new.jpg")
    } | {"2024 trip/night/otter.jpg"}
    assert "nothing would be freed" in err and played(bench) == plays


def test_what_is_not_a_folder_there_is_not_gone_through(bench, river):
    """A link, and a file, with the part's own name: the part gets another one."""
    year, elsewhere = bench.heron / "Archive/2025", bench.heron / "elsewhere"
    elsewhere.mkdir()
    year.mkdir()
    (year / "2024 trip").symlink_to(elsewhere)
    write(year / "2024 trip (2)", b"a file")
    status, said, err = cross(bench, into="Archive/2025")
    assert status == 3 and f"{year}/2024 trip is not a folder" in err
    status, said, err = cross(bench, "--yes", into="Archive/2025")
    assert status == 0, err
    assert said["to"] == [str(year / "2024 trip (3)")] and files(elsewhere) == {}
    assert (year / "2024 trip (3)/new.jpg").exists()


def test_two_folders_of_one_name_are_two_there(bench, river):
    write(bench.library / "other/2024 trip/elver.jpg", b"elver")
    (bench.heron / "Archive/2025").mkdir()
    status, said, err = cross(bench, into="Archive/2025", only=f"{TRIP}|other/2024 trip")
    assert status == 0, err
    there = files(bench.heron / "Archive/2025")
    assert {p for p in there if "elver" in p or "new" in p} in (
        {"2024 trip/new.jpg", "2024 trip (2)/elver.jpg"},
        {"2024 trip (2)/new.jpg", "2024 trip/elver.jpg"},
    )
    assert said["to"] == [str(bench.heron / "Archive/2025")]


# -- what happens meanwhile ------------------------------------------------------------------------


def planned(bench, into="Archive/2024", taken=Taken.RENAMED, only=TRIP, after=After.RELEASE):
    surveyed = survey_library(bench.workspace, bench.library)
    choices = Choices(only=frozenset([only]), after=after, into=True, taken=taken)
    return make_plan(bench.workspace, surveyed, bench.heron / into, choices)


def started(bench, **more):
    return Crossing.start(bench.workspace, planned(bench, **more), decided=True, consent=True)


def test_what_was_equal_and_is_not_any_more_counts_for_nothing(bench, river):
    crossing = started(bench)
    write(bench.heron / "Archive/2024/2024 trip/weir.jpg", b"edited since")
    before = files(bench.heron / "Archive"), contents(river)
    with pytest.raises(Exception, match="no longer is"):
        crossing.run()
    now = files(bench.heron / "Archive")
    assert {p: c for p, c in now.items() if ".fascis-" not in p} == before[0]
    crossing.undo()
    crossing.close()
    assert (files(bench.heron / "Archive"), contents(river)) == before and clean(bench.heron)


def test_what_appears_under_a_name_meanwhile_is_not_touched_and_it_resumes(bench, river):
    crossing = started(bench)
    mine = write(bench.heron / "Archive/2024/2024 trip/new.jpg", b"appeared")
    with pytest.raises(Exception, match="appeared at the new place meanwhile"):
        crossing.run()
    assert mine.read_bytes() == b"appeared"
    assert (river / TRIP / "new.jpg").exists()
    mine.rename(mine.with_name("mine.jpg"))
    assert crossing.run() is State.SETTLED
    crossing.close()
    assert mine.read_bytes() != b"appeared" and clean(bench.heron)


def test_while_it_waits_it_says_which_documents_still_lead_where(bench, river):
    words = ("--only", TRIP, "--into", bench.heron / "Archive/2024", "--rename-taken")
    _, said, _ = fascis(bench, "relocate", river, *words, "--later", "--json")
    write(bench.heron / "Archive/2024/2024 trip/new.jpg", b"appeared")
    status, told, _ = fascis(bench, "resume", said["crossing"])
    assert status == 4 and "still leads to the old place: River.fascat" in told


def test_given_up_halfway_the_folder_is_as_it_was(bench, river):
    before = contents(bench.drives)
    crossing = started(bench)
    write(bench.heron / "Archive/2024/2024 trip/night", b"in the way of a folder")
    with pytest.raises(Exception, match="appeared at the new place"):
        crossing.run()
    assert (bench.heron / "Archive/2024/2024 trip/heron (2).jpg").exists(), "it was on its way"
    (bench.heron / "Archive/2024/2024 trip/night").unlink()
    crossing.undo()
    crossing.close()
    assert contents(bench.drives) == before and clean(bench.heron)


def test_a_copy_that_existed_there_and_was_edited_keeps_its_original(bench, river):
    crossing = started(bench)
    assert crossing.run() is State.SETTLED
    write(bench.heron / "Archive/2024/2024 trip/weir.jpg", b"edited since")
    crossing.switch()
    record = crossing.release()
    crossing.close()
    assert [(x["path"], x["why"]) for x in record["left_behind"]] == [
        (f"{TRIP}/weir.jpg", "copy-changed")
    ]
    assert (river / TRIP / "weir.jpg").exists() and not (river / TRIP / "new.jpg").exists()


def test_changed_files_are_copied_and_a_changed_original_of_an_existing_file_stays(bench, river):
    crossing = started(bench)
    assert crossing.run() is State.SETTLED
    write(river / TRIP / "new.jpg", b"newer")
    write(river / TRIP / "late.jpg", b"late")
    assert crossing.bring_along() is State.SETTLED
    there = bench.heron / "Archive/2024/2024 trip"
    assert (there / "new.jpg").read_bytes() == b"newer"
    assert (there / "late.jpg").read_bytes() == b"late"
    write(river / TRIP / "weir.jpg", b"newer too")
    with pytest.raises(Exception, match="Leave the newer file"):
        crossing.bring_along()
    crossing.leave_newer(crossing.undecided())
    crossing.switch()
    crossing.release()
    crossing.close()
    assert files(river / TRIP).keys() == {"weir.jpg"}
    assert (there / "weir.jpg").read_bytes() != b"newer too"


# -- a library that it becomes part of -------------------------------------------------------------


def fill_projects(bench):
    """Two projects that share a clip; and a library there, made by a crossing, that has it too."""
    lib, old = bench.library, bench.drives / "inside/Archive"
    for folder in (lib, old):
        write(folder / "media/shared.mov", b"shared" * 3000)
    write(old / "projects/Winter/winter.otio", timeline("../../media/shared.mov"))
    for name in ("Spring", "Autumn"):
        write(lib / f"media/{name}.mov", name.encode() * 2000)
        write(
            lib / f"projects/{name}/{name}.otio",
            timeline(f"../../media/{name}.mov", "../../media/shared.mov", f"{lib}/loose.mov"),
        )
    write(lib / "projects/Spring/notes.txt", b"notes")
    write(lib / "loose.mov", b"loose" * 100)
    status, said, err = fascis(
        bench, "relocate", old, "--to", bench.heron, "--after", "release", "--yes", "--json"
    )
    assert said["state"] == "released", err
    return bench.heron / "Archive", said["library_id"]


@pytest.fixture
def archive(bench):
    return fill_projects(bench)


def sound(library):
    """Its manifest, checked by an independent tool, and its inventory agree on all its files."""
    lines = (library / ".fascis/manifest.b3").read_text().splitlines()
    listed = {line[66:]: line[:64] for line in lines}
    for place, digest in listed.items():
        assert blake3((library / place).read_bytes()).hexdigest() == digest, place
    rows = (library / ".fascis/inventory.csv").read_text().splitlines()[1:]
    assert {row.split(",")[0].strip('"') for row in rows} == set(listed)
    return set(listed)


def test_a_project_becomes_part_of_a_library_that_is_there(bench, archive):
    there, id = archive
    before = files(there)
    plays = oracle.plays(bench.library / "projects/Spring/Spring.otio", {})
    status, said, err = cross(
        bench, "--after", "release", "--yes", into="Archive/projects", only="Spring"
    )
    assert (status, said["state"]) == (0, "released"), err
    assert (said["library_id"], said["already_there_files"]) == (id, 1)
    assert said["manifest"] == str(there / ".fascis/manifest.b3")
    now = files(there)
    assert {p: c for p, c in now.items() if p in before} == before
    added = now.keys() - before.keys()
    assert added == {
        "projects/Spring/Spring.otio",
        "projects/Spring/notes.txt",
        "projects/Spring/media/Spring.mov",
        "projects/Spring/loose.mov",
    }
    spring = there / "projects/Spring/Spring.otio"
    assert oracle.plays(spring, {}) == plays
    assert "../../media/shared.mov" in spring.read_text(), "what the library has is not stored anew"
    assert sound(there) == now.keys()
    identity = json.loads((there / ".fascis/identity.json").read_text())
    assert identity["library_id"] == id and len(identity["history"]) == 2
    assert (there / f".fascis/receipts/{said['crossing']}.json").exists()
    status, found, _ = fascis(bench, "verify", there, "--json")
    assert (status, found["unlisted"], found["missing"]) == (0, [], [])
    # The other project needs the clip: it stays, with its name.
    assert {x["path"]: x["by"] for x in said["left_behind"]} == {
        "media/shared.mov": ["projects/Autumn/Autumn.otio"],
        "loose.mov": ["projects/Autumn/Autumn.otio"],
    }


def test_a_second_project_finds_what_the_first_brought(bench, archive):
    there, _ = archive
    for name, already in (("Spring", 1), ("Autumn", 2)):
        status, said, err = cross(
            bench, "--after", "release", "--yes", into="Archive/projects", only=name
        )
        assert (status, said["already_there_files"]) == (0, already), err
    assert [p.name for p in there.rglob("loose.mov")] == ["loose.mov"]
    assert sound(there) == files(there).keys()
    assert files(bench.library) == {}, "nothing else needed it"


def homes():
    return {library.id: library.root for library in from_environment().register.libraries()}


def test_undone_the_copy_stays_and_home_is_nobody_s_but_its_own(bench, archive):
    there, id = archive
    before = contents(bench.drives / "inside")
    _, said, _ = cross(bench, "--yes", into="Archive/projects", only="Spring")
    assert said["state"] == "switched"
    assert homes()[id] == there
    status, _, err = fascis(bench, "undo", said["crossing"], "--json")
    assert status == 0, err
    assert contents(bench.drives / "inside") == before
    assert homes()[id] == there
    assert (there / "projects/Spring/Spring.otio").exists() and sound(there)


def test_a_library_that_another_crossing_holds_is_left_alone(bench, archive):
    there, _ = archive
    before = files(there)
    held = os.open(there, os.O_RDONLY | os.O_DIRECTORY)
    try:
        fcntl.flock(held, fcntl.LOCK_EX)
        status, said, _ = cross(bench, "--yes", into="Archive/projects", only="Spring")
    finally:
        os.close(held)
    assert status in (3, 4) and "held-by-another" in {p["code"] for p in said["problems"]}
    assert files(there) == before


# -- cut off ---------------------------------------------------------------------------------------


def whole_way(bench, **more):
    crossing = started(bench, **more)
    try:
        crossing.run()
        crossing.advance(consent=True)
    finally:
        crossing.close()


def lists(library):
    folder = library / ".fascis"
    return {p.name: p.read_bytes() for p in folder.glob("*") if p.is_file()} if library else {}


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
@pytest.mark.parametrize("how", ["folder", "library"])
def test_interrupted_at_any_step_nothing_is_lost_and_it_resumes(tmp_path, filesystem, how):
    def make(name):
        bench = Bench(tmp_path / name)
        bench.add_drive("heron", filesystem)
        bench.again()
        if how == "library":
            fill_projects(bench)
            bench.way = {"into": "Archive/projects", "only": "Spring"}
        else:
            fill_river(bench, bench.heron / "Archive/2024")
            bench.way = {}
        bench.again()
        return bench

    rehearsal = make("rehearsal")
    rehearsal.step = counter = Killer(10**9)
    whole_way(rehearsal, **rehearsal.way)
    wanted = files(rehearsal.heron / "Archive"), files(rehearsal.library)
    assert counter.passed > 40
    # The two drives take turns.
    first = 3 + (STRIDE // 2 if filesystem == "exfat" else 0)
    for point in range(first, counter.passed, STRIDE):
        bench = make(f"at {point}")
        archive = bench.heron / "Archive"
        before, originals = files(archive), files(bench.library)
        document = "projects/Spring/Spring.otio" if how == "library" else "River.fascat"
        bench.step = Killer(point)
        with suppress(Killed):
            whole_way(bench, **bench.way)
        now = files(archive)
        assert {p: c for p, c in now.items() if p in before} == before, point
        everywhere = set(now.values()) | set(files(bench.library).values())
        kept = files(archive / ".fascis/as-it-was") if how == "library" else {}
        assert {c for p, c in originals.items() if p != document} <= everywhere, point
        assert originals[document] in everywhere | set(kept.values()) or how == "folder"
        if how == "library":
            assert sound(archive) >= before.keys(), point
        bench.step = lambda _n: None
        for id in unfinished(bench.again()):
            crossing = find_crossing(bench.workspace, id)
            crossing.run()
            assert crossing.advance(consent=True) is State.RELEASED, point
            crossing.close()
        assert clean(bench.heron)
        if list(bench.workspace.crossings.glob("*.sqlite")) and point > 4:
            assert files(archive).keys() == wanted[0].keys(), point
            assert how == "folder" or sound(archive) == files(archive).keys()


@pytest.mark.parametrize("filesystem", ["ext4", "btrfs", "exfat", "ntfs"])
def test_on_real_drives(bench, mounted, filesystem):
    where = mounted(filesystem, 120)
    lib = fill_river(bench, where / "Archive/2024")
    real(bench)
    before, trip = files(where), files(lib / TRIP)
    surveyed = survey_library(bench.workspace, lib)
    choices = Choices(only=frozenset([TRIP]), after=After.RELEASE, into=True, taken=Taken.RENAMED)
    plan = make_plan(bench.workspace, surveyed, where / "Archive/2024", choices)
    crossing = Crossing.start(bench.workspace, plan, decided=True, consent=True)
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    crossing.switch()
    record = crossing.release()
    crossing.close()
    assert record["left_behind"] == [] and not (lib / TRIP).exists()
    now = files(where)
    assert {p: c for p, c in now.items() if p in before} == before
    assert set(trip.values()) <= set(now.values()) and clean(where)
    subprocess.run(["sync"], check=True)


# -- a whole library -------------------------------------------------------------------------------


def test_a_folder_of_photos_goes_whole_and_a_catalog_elsewhere_follows(bench, river):
    """The trip is a library by itself; the catalog that uses it is another one."""
    trip, there, plays = river / TRIP, bench.heron / "Archive/2024", played(bench)
    before = files(there)
    fascis(bench, "survey", river, "--json")
    relocate = ("relocate", trip, "--into", there, "--rename-taken", "--after", "release", "--yes")
    status, said, err = fascis(bench, *relocate, "--json")
    assert (status, said["state"], said["already_there_files"]) == (0, "released", 1), err
    assert [f["path"] for f in said["followers"]] == [os.path.realpath(river / "River.fascat")]
    assert files(there).items() >= before.items() and played(bench) == plays
    assert not trip.exists() and trip not in homes().values()


def test_a_library_with_records_of_its_own_becomes_part_of_another(bench, archive):
    there, id = archive
    plays = {
        n: oracle.plays(bench.library / f"projects/{n}/{n}.otio", {}) for n in ("Spring", "Autumn")
    }
    otter = bench.add_drive("otter")
    fascis(bench, "relocate", bench.library, "--to", otter, "--after", "release", "--yes")
    home, before = otter / "The Weir", files(there)
    relocate = ("relocate", home, "--into", there / "projects", "--after", "release", "--yes")
    status, said, err = fascis(bench, *relocate, "--json")
    assert (status, said["state"], said["library_id"]) == (0, "released", id), err
    assert not home.exists() and homes() == {id: there}
    now = files(there)
    assert now.items() >= before.items() and sound(there) == now.keys()
    for name, wanted in plays.items():
        assert oracle.plays(there / f"projects/The Weir/projects/{name}/{name}.otio", {}) == wanted


def test_a_library_is_not_put_into_a_copy_of_itself(bench):
    """Everything would be there twice, and home could never move there."""
    lib = bench.library
    write(lib / "media/weir.mov", b"weir" * 500)
    write(lib / "projects/Spring/spring.otio", timeline("../../media/weir.mov"))
    before = files(lib)
    assert fascis(bench, "relocate", lib, "--to", bench.heron, "--after", "copy", "--yes")[0] == 0
    copy = bench.heron / lib.name
    there = files(copy)
    status, said, _ = fascis(
        bench, "relocate", lib, "--into", copy / "projects", "--after", "release", "--yes", "--json"
    )
    assert status == 3 and said["state"] == "refused"
    assert "same-library-there" in {p["code"] for p in said["problems"]}
    assert files(lib) == before and files(copy) == there


def test_what_landed_in_a_plain_folder_keeps_the_media_that_it_uses(bench):
    """Its documents are in no library, and on another drive: they need their media all the same."""
    loose = bench.drives / "inside/Loose"
    write(loose / "ambience.wav", b"ambience" * 100)
    write(loose / "other.wav", b"other" * 100)
    document = "projects/Spring/spring.otio"
    write(bench.library / document, timeline(str(loose / "ambience.wav")))
    (bench.heron / "Years").mkdir()
    gone = ("--after", "release", "--yes")
    into = ("--into", bench.heron / "Years", "--no-gather", *gone)
    assert fascis(bench, "relocate", bench.library, *into)[0] == 0
    landed = bench.heron / "Years" / bench.library.name / document
    plays = oracle.plays(landed, {})
    assert not bench.library.exists() and None not in plays
    otter = bench.add_drive("otter")
    status, said, _ = fascis(bench, "relocate", loose, "--to", otter, *gone, "--json")
    assert status in (0, 1) and said["state"] == "released"
    assert oracle.plays(landed, {}) == plays and (loose / "ambience.wav").exists()
    assert not (loose / "other.wav").exists(), "what nobody needs goes"


def test_a_copy_keeps_its_media_when_its_library_became_part_of_something(bench):
    """The library is no longer one of its own; its copy still uses the same files."""
    loose = bench.drives / "inside/Loose"
    write(loose / "ambience.wav", b"ambience" * 100)
    document = "projects/Spring/spring.otio"
    write(bench.library / document, timeline(str(loose / "ambience.wav")))
    otter = bench.add_drive("otter")
    copy = ("--to", otter, "--no-gather", "--after", "copy", "--yes")
    assert fascis(bench, "relocate", bench.library, *copy)[0] == 0
    (bench.heron / "Years").mkdir()
    gone = ("--after", "release", "--yes")
    into = ("--into", bench.heron / "Years", *gone)
    assert fascis(bench, "relocate", bench.library, *into)[0] in (0, 1)
    plays = oracle.plays(otter / bench.library.name / document, {})
    assert None not in plays
    fascis(bench, "relocate", loose, "--to", bench.heron, *gone, "--json")
    assert oracle.plays(otter / bench.library.name / document, {}) == plays


def test_media_that_lies_where_the_library_lands_is_still_found_there(bench):
    """A document that used clips of the library it joins leads to them as before."""
    archive = bench.heron / "Archive"
    write(archive / "media/weir.mov", b"weir" * 500)
    write(archive / "old.otio", timeline("media/weir.mov"))
    otter = bench.add_drive("otter")
    gone = ("--after", "release", "--yes")
    assert fascis(bench, "relocate", archive, "--to", otter, *gone)[0] == 0
    used = otter / "Archive/media/weir.mov"
    write(bench.library / "projects/new.otio", timeline(str(used)))
    relocate = ("relocate", bench.library, "--into", otter / "Archive", "--no-gather", *gone)
    status, said, err = fascis(bench, *relocate, "--json")
    assert (status, said["state"]) == (0, "released"), err
    landed = otter / "Archive" / bench.library.name / "projects/new.otio"
    assert None not in oracle.plays(landed, {}) and used.exists()


def test_a_part_that_is_not_there_lands_nowhere(bench, archive):
    there, _ = archive
    before = files(bench.library)
    status, said, _ = fascis(
        bench, "relocate", bench.library, "--only", "P9", "--into", there, "--yes", "--json"
    )
    assert status == 3 and "part-not-there" in {p["code"] for p in said["problems"]}
    assert files(bench.library) == before
