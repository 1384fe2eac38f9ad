"""Drives and libraries known again.

At another place, under another name, on another computer, beside a copy, cloned.
"""

import json
import os
import shutil

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.crossing.status.old_place import begun_again
from fascis.crossing.status.queue import all_crossings, find_crossing
from fascis.demo.timelines import Cut, write_catalog, write_timeline
from fascis.drives.care.removal import describe
from fascis.drives.connected import Drives
from fascis.files.errors import Refused
from fascis.library.known.apartness import tell_apart
from fascis.library.known.recognising import MOST_FOUND, Recognition
from fascis.library.known.shelves import read_shelves
from fascis.library.register import root_now
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.relink.returned import folders_to_look_in, returned_moves
from fascis.workspace import Workspace
from tests.crossing.ways import codes, plan_of, settled, started, switched
from tests.judge import contents
from tests.library.making import write


def elsewhere(bench, name, new):
    """The drive comes back at another place."""
    os.rename(bench.drives / name, bench.drives / new)
    bench.again()
    return bench.drives / new


def shelf(workspace, label, **more):
    return next(s for s in read_shelves(workspace, **more) if s.drive.label == label)


# -- at another place, under another name ----------------------------------------------------------


def test_a_drive_that_is_mounted_elsewhere_brings_its_libraries(bench, library, monkeypatch):
    crossing = switched(bench)
    id = crossing.places.header.library_id
    crossing.close()
    read_shelves(bench.workspace)
    where = elsewhere(bench, "heron", "mnt-otter-heron")
    describe(where, label="Heron, on the shelf")
    before = bench.workspace.register.libraries()[0]
    assert (
        root_now(bench.workspace.register, bench.workspace.drives.connected(), before)
        == where / "The Weir"
    )
    found = shelf(bench.workspace, "Heron, on the shelf")
    assert [(s.root, s.home, s.library) for s in found.standings] == [
        (where / "The Weir", True, id)
    ]
    assert (found.back.mount, found.back.label) == (bench.drives / "heron", "heron")
    monkeypatch.setattr("fascis.library.known.shelves.JUST_NOW", 0)
    assert (
        shelf(bench.workspace, "Heron, on the shelf").back is None
    )  # News for a minute, and stored among the earlier mount points.
    assert found.former[0].mount == bench.drives / "heron"


def test_a_drive_that_is_away_keeps_its_shelf_and_its_libraries(bench, library):
    switched(bench).close()
    read_shelves(bench.workspace)
    bench.add_drive("heron", connected=False)
    found = shelf(bench.again(), "heron")
    assert (
        found.group == "away"
        and [s.name for s in found.standings] == ["The Weir"]
        and found.seen_at
    )


def loose(bench):
    """A library whose documents name media on a second drive, by path and by drive."""
    media = bench.heron / "Footage/Day 01"
    media.mkdir(parents=True)
    for n in range(3):
        (media / f"weir_{n}.mov").write_bytes(b"frame" * (50 + n))
    bench.fill({"media/own.mov": 100})
    paths = [str(media / f"weir_{n}.mov") for n in range(3)]
    write_timeline(bench.library / "cut.otio", [*paths, "media/own.mov"], [], Cut(4, 48))
    write_catalog(
        bench.library / "all.fascat", [("uuid-heron", "Footage", "Day 01", ["weir_0.mov"])]
    )
    remember(bench.workspace, survey_library(bench.workspace, bench.library))
    read_shelves(bench.workspace)
    return bench.library


def test_paths_that_lead_to_where_a_drive_was_are_followed_and_updated_on_request(bench):
    library = loose(bench)
    where = elsewhere(bench, "heron", "elsewhere")
    workspace = bench.workspace
    read_shelves(workspace)
    followed = survey_library(workspace, library)
    assert len(followed.uses.of(Standing.LOOSE)) == 3 and followed.uses.lost == []
    moves = returned_moves(followed.uses, workspace.drives.connected())
    assert [(m.old, m.new) for m in moves] == [(bytes(bench.drives / "heron"), bytes(where))]
    literal = survey_library(workspace, library, literal=True)  # as any other program takes it
    relinking = literal.relinking(workspace)
    assert relinking.files == 3 and folders_to_look_in(relinking.lost, moves) == [
        where / "Footage/Day 01"
    ]


def test_without_a_former_place_nothing_is_proposed(bench):
    library = loose(bench)
    uses = survey_library(bench.workspace, library).uses
    assert returned_moves(uses, bench.workspace.drives.connected()) == []
    shutil.rmtree(bench.heron / "Footage")  # gone for another reason
    uses = survey_library(bench.workspace, library).uses
    assert returned_moves(uses, bench.workspace.drives.connected()) == [] and len(uses.lost) == 4


def test_a_place_that_two_drives_had_says_nothing(bench):
    library = loose(bench)
    elsewhere(bench, "heron", "elsewhere")
    read_shelves(bench.workspace)
    bench.add_drive("heron")  # another drive is where the first was
    (bench.drives / "heron/stand-in.json").write_text(
        json.dumps(
            {"uuid": "uuid-other", "label": "other", "filesystem": "ext4", "capacity_bytes": 10**8}
        )
    )
    bench.again()
    read_shelves(bench.workspace)
    assert len(survey_library(bench.workspace, library).uses.of(Standing.LOOSE)) == 3
    elsewhere(bench, "heron", "third")
    read_shelves(bench.workspace)
    assert (
        len(survey_library(bench.workspace, library).uses.lost) == 3
    )  # whose place it was is not known any more


def test_a_library_opens_on_a_second_computer_with_nothing_but_the_drive(bench):
    library = loose(bench)
    surveyed = survey_library(bench.workspace, library)
    crossing = Crossing.start(
        bench.workspace,
        make_plan(bench.workspace, surveyed, bench.add_drive("travel"), Choices()),
        decided=True,
    )
    assert crossing.run() is State.SETTLED
    crossing.switch()
    crossing.close()
    shutil.rmtree(bench.drives / "heron")
    shutil.rmtree(bench.drives / "inside")
    for folder in ("data", "state", "config"):
        shutil.rmtree(bench.root / folder, ignore_errors=True)
    where = elsewhere(bench, "travel", "run-media-mara-travel")
    found = shelf(bench.workspace, "travel")
    assert [(s.offered, s.says.at_home) for s in found.standings] == [(True, True)]
    there = survey_library(bench.workspace, where / "The Weir")
    assert (
        there.uses.lost == [] and there.uses.of(Standing.LOOSE) == [] and there.identity.library_id
    )
    assert remember(bench.workspace, there) == there.identity.library_id
    assert [(s.home, s.offered) for s in shelf(bench.workspace, "travel").standings] == [
        (True, False)
    ]


# -- recognised ------------------------------------------------------------------------------------


def identity(folder, id="11111111-2222", name="Otters", home="uuid-heron", path="x"):
    (folder / ".fascis").mkdir(parents=True)
    record = {
        "format": 1,
        "library_id": id,
        "name": name,
        "kind": "library",
        "home": {"drive": home, "path": path},
    }
    (folder / ".fascis/identity.json").write_text(json.dumps({**record, "history": []}))
    (folder / "a.mov").write_bytes(b"a")
    return folder


def test_a_library_that_is_new_here_is_offered_and_nothing_is_taken_for_known(bench):
    identity(bench.heron / "Otters", path="Otters")
    (found,) = shelf(bench.workspace, "heron").standings
    assert (
        found.offered
        and not found.home
        and found.says.at_home
        and bench.workspace.register.libraries() == []
    )


def test_identities_deeper_in_a_drive_are_found_within_bounds(bench, tmp_path):
    identity(bench.heron / "Work/2026/Otters", id="aaaaaaaa")
    identity(
        bench.heron / "Work/2026/Otters/media/Inner", id="bbbbbbbb"
    )  # in a library: its own business
    identity(bench.heron / "1/2/3/4/5/Deep", id="cccccccc")
    identity(bench.heron / ".hidden/Otters", id="dddddddd")
    identity(tmp_path / "outside", id="eeeeeeee")
    os.symlink(tmp_path / "outside", bench.heron / "link")
    recognition = Recognition(bench.workspace.drives)
    drive = bench.workspace.drives.at(bench.heron)
    assert recognition.on(drive) == [] and recognition.unsearched([drive]) == [drive]
    recognition.search(drive)
    assert [r.identity.library_id for r in recognition.on(drive)] == [
        "aaaaaaaa"
    ] and not recognition.unsearched([drive])
    assert [s.name for s in shelf(bench.workspace, "heron", recognition=recognition).standings] == [
        "Otters"
    ]


@pytest.mark.parametrize(
    "text", ["", "{", '{"format": 99}', '{"format": 1, "library_id": "../../etc"}', "[" * 100_000]
)
def test_an_identity_that_is_damaged_is_not_taken_for_a_library(bench, text):
    identity(bench.heron / "Good", id="aaaaaaaa")
    (bench.heron / "Bad/.fascis").mkdir(parents=True)
    (bench.heron / "Bad/.fascis/identity.json").write_text(text)
    assert [s.name for s in shelf(bench.workspace, "heron").standings] == ["Otters"]


def test_a_thousand_identities_do_not_fill_the_shelf(bench):
    for n in range(MOST_FOUND + 20):
        identity(bench.heron / f"L{n:04}", id=f"{n:08}")
    assert len(shelf(bench.workspace, "heron").standings) == MOST_FOUND


def test_a_copy_made_by_hand_is_distinguished_from_its_original(bench, library):
    crossing = switched(bench)
    home, id = crossing.places.target, crossing.places.header.library_id
    crossing.close()
    byhand = bench.heron / "The Weir, copied"
    shutil.copytree(home, byhand, symlinks=True)
    (byhand / "notes.txt").write_text("changed in the copy")
    (byhand / "new.mov").write_bytes(b"n")
    os.unlink(byhand / "renders/cut.mov")
    standings = shelf(bench.workspace, "heron").standings
    (other,) = [s for s in standings if s.says]
    assert (
        other.library == id
        and not other.offered
        and not other.says.at_home
        and other.root == byhand
    )
    assert [s.root for s in standings if s.home] == [home]
    apart = tell_apart(bench.workspace.drives, byhand, home, 1)
    assert (apart.only_here, apart.only_there, apart.other, apart.newer_here) == (1, 1, 1, 1)
    assert "1\u00a0file only on A" in apart.words("A", "B") and "newer on A" in apart.words(
        "A", "B"
    )
    shutil.rmtree(byhand)
    shutil.copytree(home, byhand, symlinks=True)
    assert tell_apart(bench.workspace.drives, byhand, home, 1).alike


# -- a cloned disk ---------------------------------------------------------------------------------


def clone(bench, name, uuid="uuid-heron"):
    folder = bench.drives / name
    folder.mkdir()
    facts = {"uuid": uuid, "label": "heron", "filesystem": "ext4", "capacity_bytes": 400_000_000}
    (folder / "stand-in.json").write_text(json.dumps(facts))
    return folder


def test_the_drive_that_is_known_keeps_its_identity_beside_its_clone(bench, library):
    switched(bench).close()
    read_shelves(bench.workspace)
    there = clone(bench, "clone-of-heron")
    shutil.copytree(bench.heron / "The Weir", there / "The Weir", symlinks=True)
    bench.again()
    shelves = {s.drive.mount: s for s in read_shelves(bench.workspace)}
    known, other = shelves[bench.heron], shelves[there]
    assert known.drive.uuid == "uuid-heron" and not known.drive.ambiguous and known.drive.twin_of
    assert other.drive.ambiguous and other.drive.uuid.startswith("uuid-heron#")
    assert [s.home for s in known.standings] == [True] and [s.home for s in other.standings] == [
        False
    ]
    assert (
        bench.workspace.drives.at(there).ambiguous
        and not bench.workspace.drives.at(bench.heron).ambiguous
    )


def test_nothing_crosses_to_a_drive_that_cannot_be_distinguished_from_its_clone(bench, library):
    there = clone(bench, "clone-of-heron")
    bench.again()  # neither was ever seen before
    for to in (bench.heron, there):
        plan = plan_of(bench, to=to)
        assert codes(plan)["drive-twins"] == "stops"
        with pytest.raises(Refused, match="cloned disk"):
            Crossing.start(bench.workspace, plan, decided=True)
    assert [p.name for p in there.iterdir()] == ["stand-in.json"] and len(contents(library)) == 10


def test_a_crossing_does_not_resume_to_a_clone(bench, library):
    crossing = started(bench)
    before = contents(library)
    there = clone(bench, "clone-of-heron")
    bench.add_drive("heron", connected=False)
    shutil.rmtree(bench.drives / "heron")
    there.rename(bench.drives / "heron-b")
    bench.again()
    again = find_crossing(bench.workspace, crossing.id)
    crossing.close()
    assert (
        again.run() is State.SETTLED
    )  # Alone it is the drive with that UUID; staged files are made again, and proven.
    assert contents(bench.drives / "heron-b/The Weir") == before
    again.close()


# -- the old place ---------------------------------------------------------------------------------


def begun(bench):
    crossings, _ = all_crossings(bench.workspace)
    found = begun_again(crossings)
    for c in crossings:
        c.close()
    return found


def test_a_new_library_that_some_program_made_at_the_old_place_is_noticed(bench, library):
    crossing = switched(bench)
    crossing.park()
    assert begun(bench) == []
    library.mkdir()
    (library / "untitled.db").write_bytes(b"empty")
    (one,) = begun(bench)
    assert (
        one.path == library
        and one.files == 1
        and "something new at the old place" in one.sentence
        and "heron" in one.sentence
    )
    with pytest.raises(Refused):
        crossing.undo()  # The originals cannot get their name back: both stay.
    assert (library / "untitled.db").exists() and len(contents(crossing.places.parked_path)) == 10
    shutil.rmtree(library)
    assert begun(bench) == []
    crossing.close()


def test_what_stays_after_a_release_is_not_new(bench, library):
    crossing = settled(bench, leave_out=[Role.PREVIEW])
    crossing.switch()
    crossing.release()
    crossing.close()
    assert (library / "previews/0001.jpg").exists() and begun(bench) == []


def test_an_empty_folder_at_the_old_place_is_noticed_whatever_its_inode(bench, library):
    crossing = switched(bench)
    crossing.release()
    crossing.close()
    library.mkdir()  # the file system may give it the number of the one that was there
    assert [b.files for b in begun(bench)] == [0] and "nothing in it" in begun(bench)[0].sentence


def test_a_library_that_was_brought_back_is_not_new(bench, library):
    crossing = switched(bench)
    crossing.release()
    home = crossing.places.target
    crossing.close()
    back = Crossing.start(
        bench.workspace,
        make_plan(
            bench.workspace, survey_library(bench.workspace, home), library.parent, Choices()
        ),
        decided=True,
    )
    assert back.run() is State.SETTLED and begun(bench) == []
    back.close()


@pytest.mark.lab
def test_a_library_in_a_temporary_folder_in_memory_is_not_away(mounted, tmp_path):
    where = mounted("tmpfs", 8, "RIVER")
    library = where / "The Weir"
    loose = write(where / "Sound/herons.wav", b"h" * 300)
    write(library / "cut.m3u8", f"{loose}\n".encode())
    workspace = Workspace(tmp_path / "d", tmp_path / "s", tmp_path / "c", Drives())
    remember(workspace, survey_library(workspace, library))
    assert where in [d.mount for d in workspace.drives.connected()]
    (told,) = survey_library(workspace, library).uses.outside
    assert (told.path, told.standing) == (bytes(loose), Standing.LOOSE)
    (shelf,) = [s for s in read_shelves(workspace) if s.drive.mount == where]
    assert shelf.group != "away" and [s.root for s in shelf.standings] == [library]
