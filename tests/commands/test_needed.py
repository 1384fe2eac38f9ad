"""Files that others need stay; each test also says what must still be there."""

import json
import os
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

import pytest

from tests.commands.test_commands import fascis
from tests.images import unmount
from tests.judge import contents
from tests.library.making import catalog_at, timeline, write
from tests.worlds import oracle


@pytest.fixture
def studio(bench):
    """A library of two projects that share a clip, music and a still, with loose sound."""
    lib, inside = bench.library, bench.drives / "inside"
    for place in (
        "media/weir.mov",
        "media/shared.mov",
        "music/theme.wav",
        "stills/heron.jpg",
        "media/spare.mov",
    ):
        write(lib / place, f"content of {place}".encode() * 300)
    write(inside / "Loose/millrace.wav", b"m" * 900)
    write(lib / "stills/heron.xmp", b"<x/>")
    both = [
        "../../media/shared.mov",
        "../../music/theme.wav",
        "../../stills/heron.jpg",
        str(inside / "Loose/millrace.wav"),
    ]
    write(lib / "projects/Autumn/autumn.otio", timeline("../../media/weir.mov", *both))
    write(lib / "projects/Spring/spring.otio", timeline(*both))
    return lib


def played(bench):
    return oracle.documents(
        bench.drives, {f"uuid-{n}": str(bench.drives / n) for n in ("inside", "heron")}
    )


def cross(bench, library, *words, to=None):
    return fascis(bench, "relocate", library, "--to", to or bench.heron, *words, "--yes", "--json")


@pytest.mark.parametrize("more", [(), ("--loose-too",)])
def test_a_part_leaves_what_other_projects_use_and_says_who(bench, studio, more):
    before = played(bench)[studio / "projects/Spring/spring.otio"]
    status, said, err = cross(bench, studio, "--only", "Autumn", "--after", "release", *more)
    assert (status, said["state"]) == (0, "released"), err
    assert played(bench)[studio / "projects/Spring/spring.otio"] == before and None not in before
    assert (
        not (studio / "projects/Autumn/autumn.otio").exists()
        and not (studio / "media/weir.mov").exists()
    )
    stays = {x["path"]: x for x in said["left_behind"] if x["why"] == "used-elsewhere"}
    assert {x["path"]: x["bytes"] for x in said["shared"]} == {
        p: os.path.getsize(studio / p) if not p.startswith("/") else os.path.getsize(p)
        for p in stays
    }
    assert {"media/shared.mov", "music/theme.wav", "stills/heron.jpg", "stills/heron.xmp"} <= set(
        stays
    )
    assert (
        "projects/Spring/spring.otio" in stays["media/shared.mov"]["by"]
        and (studio / "media/spare.mov").exists()
    )
    assert (bench.drives / "inside/Loose/millrace.wav").exists()
    assert None not in played(bench)[bench.heron / "Autumn/projects/Autumn/autumn.otio"]


@pytest.mark.parametrize("more", [(), ("--loose-too",)])
def test_what_is_listed_before_a_release_is_what_goes_and_what_stays(bench, studio, more):
    write(studio / "projects/Autumn/notes.txt", b"the weir is gone")
    _, said, _ = cross(bench, studio, "--only", "Autumn", *more)
    before = contents(bench.drives / "inside")
    status, listed, err = fascis(bench, "release", said["crossing"], "--list", "--json")
    assert status == 0 and contents(bench.drives / "inside") == before, err
    kept = {x["path"]: x for x in listed["stays"]}
    assert kept["media/shared.mov"]["by"] == ["projects/Spring/spring.otio"]
    write(studio / "projects/Autumn/later.txt", b"the herons are back")
    _, again, _ = fascis(bench, "release", said["crossing"], "--list", "--json")
    assert {"path": "projects/Autumn/later.txt", "bytes": 19, "why": "appeared", "by": []} in again[
        "stays"
    ]
    (studio / "projects/Autumn/later.txt").unlink()
    status, done, _ = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert (status, done["state"]) == (0, "released")
    gone = set(before) - set(contents(bench.drives / "inside"))
    root = os.fsencode(studio.relative_to(bench.drives / "inside"))
    assert gone == {os.path.join(root, os.fsencode(x["path"])) for x in listed["goes"]}
    assert sum(x["bytes"] for x in listed["goes"]) == done["released_bytes"]
    assert {(x["path"], x["why"]) for x in done["left_behind"]} == {
        (x["path"], x["why"]) for x in listed["stays"]
    }
    assert (studio / "projects/Spring/spring.otio").exists() and (
        studio / "media/spare.mov"
    ).exists()


def test_nothing_is_listed_while_the_copies_cannot_be_examined(bench, studio):
    """Only files with a whole copy are deleted: that is not known for a drive that is away."""
    _, said, _ = cross(bench, studio, "--only", "Autumn")
    copy = bench.heron / "Autumn/media/weir.mov"
    content = copy.read_bytes()
    copy.unlink()
    _, listed, _ = fascis(bench, "release", said["crossing"], "--list", "--json")
    assert ("media/weir.mov", "copy-missing") in {(x["path"], x["why"]) for x in listed["stays"]}
    copy.write_bytes(content)
    facts = json.loads((bench.heron / "stand-in.json").read_text())
    (bench.heron / "stand-in.json").write_text(json.dumps({**facts, "connected": False}))
    status, refused, err = fascis(bench, "release", said["crossing"], "--list", "--json")
    assert status == 4 and "goes" not in refused and "heron" in err
    assert (studio / "media/weir.mov").exists()


def test_nothing_is_listed_of_what_has_not_arrived(bench, studio):
    _, said, _ = cross(bench, studio, "--only", "Autumn", "--later")
    status, refused, err = fascis(bench, "release", said["crossing"], "--list", "--json")
    assert (status, refused["state"]) == (3, "refused") and "Nothing can be deleted now" in err
    assert fascis(bench, "release", "none", "--list")[0] == 3


def test_two_parts_in_a_queue_each_find_what_they_need(bench, studio):
    for part in ("Autumn", "Spring"):
        assert cross(bench, studio, "--only", part, "--after", "release", "--later")[0] == 0
    status, said, err = fascis(bench, "resume", "--all", "--json")
    assert status == 0 and [c["state"] for c in said["crossings"]] == ["released", "released"], err
    for part in ("Autumn", "Spring"):
        assert (
            None not in played(bench)[bench.heron / part / f"projects/{part}/{part.lower()}.otio"]
        )
    assert not (studio / "media/shared.mov").exists(), "the last one that needed it took it along"


def test_a_catalog_stays_with_the_photos_that_it_refers_to(bench, studio):
    write(studio / "shoots/a.jpg", b"a" * 500)
    # fmt: skip
    catalog = catalog_at(
        studio / "Bell.fascat",
        [("uuid-inside", "The Weir")],
        [(1, 1, "shoots"), (2, 1, "stills")],
        [(1, "a.jpg"), (2, "heron.jpg")],
    )
    before, plays = catalog.read_bytes(), played(bench)[catalog]
    status, said, err = cross(
        bench, studio, "--only", "shoots", "--after", "release", "--shared", "stays"
    )
    assert (status, said["state"]) == (0, "released"), err
    assert (
        catalog.read_bytes() == before
        and played(bench)[catalog] == plays
        and (studio / "shoots/a.jpg").exists()
    )
    assert (bench.heron / "shoots/shoots/a.jpg").exists() and not (
        bench.heron / "shoots/Bell.fascat"
    ).exists()


def test_a_part_is_a_library_of_its_own_and_the_rest_keeps_its_identity_and_records(bench, studio):
    (back := bench.add_drive("otter"))
    assert cross(bench, studio, "--after", "release")[0] == 0
    home = bench.heron / "The Weir"
    own = {p: p.read_bytes() for p in (home / ".fascis").rglob("*") if p.is_file()}
    whole = json.loads((home / ".fascis/identity.json").read_text())["library_id"]
    status, said, err = cross(bench, home, "--only", "Spring", "--after", "release", to=back)
    assert (status, said["state"]) == (0, "released"), err
    left = {b"projects/Spring/spring.otio"}
    now = {p: p.read_bytes() for p in (home / ".fascis").rglob("*") if p.is_file()}
    for path, content in own.items():
        lists = path.name in ("manifest.b3", "inventory.csv")
        wanted = [x for x in content.split(b"\n") if not lists or not any(p in x for p in left)]
        assert now.pop(path) == b"\n".join(wanted), path
    assert not now and not any((home / os.fsdecode(p)).exists() for p in left)
    assert fascis(bench, "verify", home, "--json")[1]["missing"] == []
    part = json.loads((back / "Spring/.fascis/identity.json").read_text())
    assert part["library_id"] not in (whole, None) and part["history"][-1]["part_of"] == whole
    assert not list((back / "Spring/.fascis").glob("as-it-was/*/identity.json"))
    assert fascis(bench, "survey", home, "--json")[1]["library"]["library_id"] == whole
    assert (
        fascis(bench, "survey", back / "Spring", "--json")[1]["library"]["library_id"]
        == part["library_id"]
    )


def test_setting_aside_is_guarded_as_deleting_is(bench, studio):
    photos = bench.drives / "inside/Photos"
    write(photos / "a.jpg", b"a" * 500)
    catalog = catalog_at(
        studio / "Bell.fascat", [("uuid-inside", "Photos")], [(1, 1, "")], [(1, "a.jpg")]
    )
    fascis(bench, "survey", studio, "--json")
    plays = played(bench)[catalog]
    status, said, _ = cross(bench, photos, "--after", "park")
    (problem,) = [p for p in said["problems"] if p["code"] == "would-break"]
    assert status == 3 and "Bell.fascat" in problem["sentence"] and problem["files"] == ["a.jpg"]
    _, said, _ = cross(bench, photos)
    status, said, _ = fascis(bench, "park", said["crossing"], "--json")
    assert (
        status == 3
        and said["problems"][-1]["files"] == ["a.jpg"]
        and played(bench)[catalog] == plays
    )


def test_a_catalog_that_is_not_known_and_lies_beside_is_searched_for(bench):
    photos = bench.drives / "inside/Photos"
    write(photos / "a.jpg", b"a" * 500)
    write(photos / "b.jpg", b"b" * 500)
    catalog = catalog_at(
        bench.drives / "inside/Catalogs/Bell.fascat",
        [("uuid-inside", "Photos")],
        [(1, 1, "")],
        [(1, "a.jpg")],
    )
    plays = played(bench)[catalog]
    status, said, err = cross(bench, photos, "--after", "release")
    assert (status, said["state"]) == (0, "released"), err
    assert played(bench)[catalog] == plays and not (photos / "b.jpg").exists()
    assert [(x["path"], x["why"]) for x in said["left_behind"]] == [("a.jpg", "used-elsewhere")]


def test_a_document_of_unknown_make_beside_the_library_keeps_what_it_names(bench, studio):
    write(
        bench.drives / "inside/Other/cut.thing",
        json.dumps({"clip": str(studio / "media/spare.mov")}).encode(),
    )
    status, said, err = cross(bench, studio, "--after", "release")
    assert (status, said["state"]) == (0, "released"), err
    assert set(contents(studio)) == {b"media/spare.mov"}


@pytest.mark.lab
@pytest.mark.skipif(os.geteuid() != 0, reason="needs root to mount")
def test_nothing_is_deleted_through_a_bind_mount(bench, studio, tmp_path):
    elsewhere = tmp_path / "elsewhere"
    write(elsewhere / "precious.mov", b"p" * 700)
    (studio / "media/bound").mkdir()
    subprocess.run(["mount", "--bind", str(elsewhere), str(studio / "media/bound")], check=True)
    try:
        status, said, err = cross(bench, studio, "--after", "release")
        # fmt: skip
        assert "nested-mounts" in {
            p["code"]
            for p in fascis(
                bench, "relocate", studio, "--to", bench.heron, "--name", "x", "--dry-run", "--json"
            )[1]["problems"]
        }
    finally:
        unmount(studio / "media/bound")
    assert (elsewhere / "precious.mov").read_bytes() == b"p" * 700, err
    assert not (bench.heron / "The Weir/media/bound").exists()


def test_what_was_deleted_long_ago_needs_nothing(bench, studio):
    other = bench.drives / "inside/Old"
    write(other / "old.otio", timeline(str(studio / "media/spare.mov")))
    fascis(bench, "survey", other, "--json")
    (other / "old.otio").unlink()
    other.rmdir()
    status, said, err = cross(bench, studio, "--after", "release")
    assert (status, said["state"], said["left_behind"]) == (0, "released", []), err
    assert not studio.exists() and (bench.heron / "The Weir/media/spare.mov").exists()


def test_what_a_library_on_a_drive_that_is_away_uses_stays(bench, studio):
    away = bench.add_drive("otter")
    write(away / "Cut/cut.otio", timeline(str(studio / "media/spare.mov")))
    fascis(bench, "survey", away / "Cut", "--json")
    bench.add_drive("otter", connected=False)
    status, said, err = cross(bench, studio, "--after", "release")
    assert (status, set(contents(studio))) == (0, {b"media/spare.mov"}), err


def test_documents_that_are_left_out_keep_what_they_refer_to(bench, studio):
    plays = {p: c for p, c in played(bench).items() if studio in p.parents}
    status, said, err = cross(bench, studio, "--leave-out", "document", "--after", "release")
    assert said["state"] == "released", err
    assert {p: c for p, c in played(bench).items() if studio in p.parents} == plays
    assert not (studio / "media/spare.mov").exists()


# -- figures ---------------------------------------------------------------------------------------


def test_what_is_promised_to_come_free_is_what_goes(bench, studio):
    os.link(studio / "media/spare.mov", studio / "media/spare again.mov")
    os.link(
        studio / "media/weir.mov", bench.drives / "inside/weir outside.mov"
    )  # frees nothing: it has a name elsewhere
    fascis(bench, "survey", studio, "--json")
    # fmt: skip
    _, dry, _ = fascis(
        bench,
        "relocate",
        studio,
        "--to",
        bench.heron,
        "--only",
        "Autumn",
        "--after",
        "release",
        "--loose-too",
        "--dry-run",
        "--json",
    )
    before = oracle.files_with_own(bench.drives)
    status, said, err = cross(
        bench, studio, "--only", "Autumn", "--after", "release", "--loose-too"
    )
    assert (
        status == 0
        and dry["frees_bytes"] == oracle.freed(before, oracle.files_with_own(bench.drives)) > 0
    ), err
    assert {s["path"] for s in dry["shared"]} == {
        x["path"] for x in said["left_behind"] if x["why"] == "used-elsewhere"
    }
    assert f"deleted {said['released_files']}" in err.replace("\u00a0", " ")


def test_the_plan_says_what_becomes_of_loose_originals(bench, studio):
    words = ("relocate", studio, "--to", bench.heron, "--after", "release", "--dry-run")
    assert "their originals stay" in fascis(bench, *words)[2]
    assert "their originals are deleted with the others" in fascis(bench, *words, "--loose-too")[2]


# -- parts -----------------------------------------------------------------------------------------


def test_a_folder_brings_what_its_documents_use(bench, studio):
    status, said, err = cross(bench, studio, "--only", "projects")
    there = bench.heron / "projects"
    assert (status, said["to"]) == (0, [str(there)]), err
    assert (
        None not in played(bench)[there / "projects/Autumn/autumn.otio"]
        and (there / "stills/heron.xmp").exists()
    )
    assert not (there / "media/spare.mov").exists()


def test_two_projects_of_one_name_are_distinguished_by_their_paths(bench, studio):
    write(studio / "archive/2023/Autumn/autumn.otio", timeline("../../../media/spare.mov"))
    status, said, _ = cross(bench, studio, "--only", "Autumn")
    assert (
        status == 2
        and "projects/Autumn" in said["error"]
        and "archive/2023/Autumn" in said["error"]
    )
    status, said, err = cross(bench, studio, "--only", "archive/2023/Autumn")
    assert status == 0 and (bench.heron / "Autumn/media/spare.mov").exists(), err
    status, said, _ = cross(bench, studio, "--only", "projects/Autumn", "--only", "projects/Spring")
    assert status == 2 and "--name" in said["error"]
    status, said, _ = cross(bench, studio, "--only", str(studio / "projects/Spring"), "--name", "S")
    assert status == 0 and None not in played(bench)[bench.heron / "S/projects/Spring/spring.otio"]


def test_an_empty_folder_of_the_rest_stays_when_a_part_goes(bench, studio):
    (studio / "to come").mkdir()
    assert cross(bench, studio, "--only", "Autumn", "--after", "release")[0] == 0
    assert (studio / "to come").is_dir() and not (bench.heron / "Autumn/to come").exists()


def test_work_in_the_rest_does_not_hold_a_part_up_and_a_new_need_is_seen(bench, studio):
    _, said, _ = cross(bench, studio, "--only", "Autumn")
    write(studio / "projects/Spring/spring.otio", timeline("../../media/weir.mov"))
    status, said, err = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert said["state"] == "released" and (studio / "media/weir.mov").exists(), err
    assert status == 1, "that it stays was not planned"


def test_taking_a_part_back_leaves_the_whole_at_home(bench, studio):
    fascis(bench, "survey", studio, "--json")
    _, said, _ = cross(bench, studio, "--only", "Autumn")
    status, undone, _ = fascis(bench, "undo", said["crossing"], "--json")
    assert (status, undone["state"]) == (0, "undone") and (bench.heron / "Autumn").is_dir()
    assert fascis(bench, "survey", studio, "--json")[1]["library"]["root"] == str(studio)
    with closing(
        sqlite3.connect(os.path.expanduser("~/.local/share/fascis/register.sqlite"))
    ) as db:
        assert [bytes(r) for (r,) in db.execute("SELECT root FROM library")] == [
            os.fsencode(studio)
        ]


def test_what_another_crossing_has_yet_to_copy_is_kept_for_it(bench, studio):
    """A folder that waits finds its files, though a project using them was released before."""
    assert cross(bench, studio, "--only", "Autumn", "--after", "release", "--later")[0] == 0
    stays = ("--shared", "stays", "--later")
    assert cross(bench, studio, "--only", "media", "--after", "release", *stays)[0] == 0
    status, said, err = fascis(bench, "resume", "--all", "--json")
    assert [c["state"] for c in said["crossings"]] == ["released", "released"], err
    kept = {
        x["path"]: x["by"]
        for x in said["crossings"][0]["left_behind"]
        if x["why"] == "used-elsewhere"
    }
    assert any("yet to cross" in who for who in kept["media/weir.mov"])
    assert (bench.heron / "media/media/weir.mov").exists() and not (
        studio / "media/weir.mov"
    ).exists()


def test_what_waits_for_a_decision_is_not_passed_over_in_silence(bench, studio):
    _, said, _ = cross(bench, studio, "--only", "Spring", "--later")
    (studio / "music/theme.wav").unlink()
    assert fascis(bench, "resume", "--all", "--json")[1]["crossings"][0]["state"] == "waiting"
    status, again, err = fascis(bench, "resume", "--all", "--json")
    assert (
        (status, again["crossings"]) == (0, [])
        and f"fascis resume {said['crossing']}" in err
        and "decision" in err
    )
    assert (studio / "projects/Spring/spring.otio").exists() and (
        studio / "media/shared.mov"
    ).exists()


@pytest.mark.parametrize("name", ["cut.otio", "notes of unknown make.cutlist"])
def test_what_began_to_need_originals_that_were_set_aside_gets_them_back(bench, studio, name):
    _, said, err = cross(bench, studio, "--after", "park")
    assert said["state"] == "parked" and not studio.exists(), err
    clip = studio / "media/spare.mov"
    text = (
        timeline(str(clip))
        if name.endswith("otio")
        else json.dumps({"clips": [str(clip)]}).encode()
    )
    write(bench.drives / f"inside/Elsewhere/{name}", text)
    status, said, err = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert (status, said["state"]) == (1, "released"), err
    assert clip.read_bytes() == b"content of media/spare.mov" * 300, (
        "under its old name, where it is looked for"
    )
    assert [x["path"] for x in said["left_behind"]] == ["media/spare.mov"] and not (
        studio / "media/weir.mov"
    ).exists()


def test_a_part_that_uses_loose_media_alone_arrives(bench, studio):
    loose = bench.drives / "inside/Loose/millrace.wav"
    write(studio / "projects/Winter/winter.otio", timeline(str(loose)))
    status, said, err = cross(bench, studio, "--only", "Winter", "--after", "release")
    assert (status, said["state"], said["gathered_files"]) == (0, "released", 1), err
    assert None not in played(bench)[bench.heron / "Winter/projects/Winter/winter.otio"]
    assert loose.read_bytes() == b"m" * 900 and (studio / "media/weir.mov").exists()


def test_a_sidecar_stays_with_each_photo_that_stays(bench, studio):
    loose, inner = bench.drives / "inside/Card", studio / "stills"
    for folder in (loose, inner):
        for name in ("IMG_1.cr2", "IMG_1.jpg", "IMG_1.xmp", "IMG_2.jpg", "IMG_2.xmp"):
            write(folder / name, f"{folder.name} {name}".encode() * 50)
    used = [
        str(loose / "IMG_1.cr2"),
        str(loose / "IMG_2.jpg"),
        "stills/IMG_1.cr2",
        "stills/IMG_2.jpg",
    ]
    write(studio / "rated.otio", timeline(*used))
    words = ("--after", "release", "--loose-too", "--leave-out", "unused")
    status, dry, err = fascis(
        bench, "relocate", studio, "--to", bench.heron, *words, "--yes", "--dry-run", "--json"
    )
    before = oracle.files_with_own(bench.drives / "inside")
    status, said, err = cross(bench, studio, *words)
    assert said["state"] == "released", err
    assert dry["frees_bytes"] == oracle.freed(
        before, oracle.files_with_own(bench.drives / "inside")
    )
    for folder in (loose, inner):
        assert (folder / "IMG_1.xmp").read_bytes() == f"{folder.name} IMG_1.xmp".encode() * 50
        assert (folder / "IMG_1.jpg").exists() and not (folder / "IMG_1.cr2").exists()
        assert not (folder / "IMG_2.xmp").exists() and not (folder / "IMG_2.jpg").exists()
    assert len(list((bench.heron / "The Weir").rglob("IMG_1.xmp"))) == 2


def test_loose_files_of_another_drive_that_is_there_now_are_not_deleted(bench, studio):
    """A backup with the same files is mounted where the loose ones were."""
    field = bench.add_drive("field", "exfat")
    write(field / "Sound/weir.wav", b"w" * 900)
    write(studio / "loose.otio", timeline(str(field / "Sound/weir.wav")))
    status, said, err = cross(bench, studio, "--after", "keep", "--loose-too")
    assert (status, said["state"], said["gathered_files"]) == (0, "switched", 2), err
    stand_in = field / "stand-in.json"
    stand_in.write_text(stand_in.read_text().replace("uuid-field", "uuid-backup"))
    status, said, err = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert said["state"] == "released" and (field / "Sound/weir.wav").read_bytes() == b"w" * 900, (
        err
    )
    assert {x["why"] for x in said["left_behind"] if x["path"].endswith("weir.wav")} == {"mount"}
    assert not (bench.drives / "inside/Loose/millrace.wav").exists()


def test_a_known_library_that_is_mounted_elsewhere_by_now_keeps_its_loose_file(bench, studio):
    """It began to use the file after its last survey, and its drive is mounted elsewhere."""
    second = bench.add_drive("otter")
    write(second / "Cut/cut.otio", timeline("nothing.mov"))
    fascis(bench, "survey", second / "Cut", "--json")
    _, said, _ = cross(bench, studio, "--loose-too")
    moved = bench.drives / "otter, connected anew"
    second.rename(moved)
    loose = bench.drives / "inside/Loose/millrace.wav"
    write(moved / "Cut/cut.otio", timeline(str(loose)))
    status, said, err = fascis(bench, "release", said["crossing"], "--yes", "--json")
    (stays,) = [x for x in said["left_behind"] if x["path"] == str(loose)]
    assert (stays["why"], loose.read_bytes()) == ("used-elsewhere", b"m" * 900), err
    assert (
        not (studio / "media/weir.mov").exists()
        and None not in played(bench)[moved / "Cut/cut.otio"]
    )


@pytest.mark.lab
def test_a_known_library_that_uses_a_loose_file_through_a_bind_mount_keeps_it(
    bench, studio, tmp_path, mounted
):
    loose, other = bench.drives / "inside/Loose/millrace.wav", tmp_path / "by another way"
    other.mkdir()
    subprocess.run(["mount", "--bind", loose.parent, other], check=True)
    try:
        write(bench.drives / "inside/Second/cut.otio", timeline(str(other / "millrace.wav")))
        fascis(bench, "survey", bench.drives / "inside/Second", "--json")
        status, said, err = cross(bench, studio, "--loose-too", "--after", "release")
        assert said["state"] == "released" and loose.read_bytes() == b"m" * 900, err
        assert not (studio / "media/weir.mov").exists()
    finally:
        unmount(other)


def test_a_single_document_leaves_what_the_document_beside_it_uses(bench, studio):
    status, said, err = cross(bench, studio / "projects/Autumn/autumn.otio", "--after", "release")
    assert said["state"] == "released", err
    assert None not in played(bench)[studio / "projects/Spring/spring.otio"]
    assert (studio / "media/shared.mov").exists() and (studio / "media/spare.mov").exists()


def test_a_known_library_that_began_to_use_an_original_after_its_survey_keeps_it(bench, studio):
    other = bench.drives / "inside/Second"
    write(other / "cut.otio", timeline("nothing.mov"))
    fascis(bench, "survey", other, "--json")
    _, said, _ = cross(bench, studio)
    write(other / "cut.otio", timeline(str(studio / "media/spare.mov")))
    status, said, err = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert {x["path"] for x in said["left_behind"]} == {"media/spare.mov"}, err
    assert (
        None not in played(bench)[other / "cut.otio"] and not (studio / "media/weir.mov").exists()
    )


def test_a_loose_original_that_is_saved_again_behind_its_last_reading_stays(
    bench, studio, monkeypatch
):
    from fascis.crossing.release.originals import Release

    loose, good = bench.drives / "inside/Loose/millrace.wav", Release._read

    def saved(self, held, lease):
        found = good(self, held, lease)
        write(loose.with_name("new"), b"N" * 900)
        os.utime(loose.with_name("new"), ns=(held.status().st_atime_ns, held.status().st_mtime_ns))
        os.rename(loose.with_name("new"), loose)
        return found

    monkeypatch.setattr(Release, "_read", saved)
    status, said, err = cross(bench, studio, "--loose-too", "--after", "release")
    assert loose.read_bytes() == b"N" * 900 and {
        x["path"]: x["why"] for x in said["left_behind"]
    } == {str(loose): "changed"}, err
    assert (bench.heron / "The Weir").is_dir() and not studio.exists()


@pytest.mark.parametrize("after", ["release", "park"])
def test_a_relinking_that_was_interrupted_is_restored_before_anything_is_searched_for(
    bench, studio, after
):
    """Power was lost in the middle: until the next start the document has other content."""
    inside = bench.drives / "inside"
    document = write(inside / "Known/list.m3u8", f"#EXTM3U\n{studio}/media/spare.mov\n".encode())
    before = document.read_bytes()
    write(inside / "Elsewhere/spare.mov", (studio / "media/spare.mov").read_bytes())
    os.rename(studio / "media/spare.mov", inside / "away.mov")
    _, said, _ = fascis(
        bench, "relink", document.parent, "--search", inside / "Elsewhere", "--apply", "--json"
    )
    assert said["applied"] and document.read_bytes() != before
    os.rename(inside / "away.mov", studio / "media/spare.mov")
    (record,) = Path.home().glob(".local/state/fascis/relinks/*.json")
    record.write_text(record.read_text().replace('"state": "done"', '"state": "writing"'))
    status, said, _ = cross(bench, studio, "--after", after)
    assert document.read_bytes() == before
    assert (studio / "media/spare.mov").exists(), "it needs this"
    if after == "release":
        assert (status, said["state"]) == (1, "released")
        assert [x["path"] for x in said["left_behind"]] == ["media/spare.mov"]
    else:
        assert "would-break" in {p["code"] for p in said["problems"]}
