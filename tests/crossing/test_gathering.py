"""Gathering.

What the documents refer to crosses too, and is found at the new place by anyone who reads them
there.
"""

import json
import os
import sqlite3
import stat
from contextlib import closing, nullcontext
from pathlib import Path

import opentimelineio as otio
import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.receipts.receipt import receipt_of, rows_of
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.crossing.status.deleting import deleting_now
from fascis.crossing.status.queue import find_crossing, unfinished
from fascis.crossing.status.scales import weigh
from fascis.files.errors import Refused
from fascis.library.roles import Role
from fascis.words.figures import number
from tests.conftest import Bench
from tests.crossing.test_crash_points import Killed, Killer, whole_way
from tests.crossing.ways import codes
from tests.judge import contents, one_whole_copy
from tests.library.making import catalog_at, open_by_another, picture, timeline, write
from tests.thorough import EVERY


def files_of(there: Path) -> set[str]:
    """All files of a library, its records left out."""
    files = (p for p in there.rglob("*") if p.is_file() and ".fascis" not in p.parts)
    return {str(p.relative_to(there)) for p in files}


def plan(bench, library=None, **choices):
    return make_plan(
        bench.workspace,
        survey_library(bench.workspace, library or bench.library),
        bench.heron,
        Choices(**choices),
    )


def cross(bench, library=None, decided=True, **choices):
    crossing = Crossing.start(bench.workspace, plan(bench, library, **choices), decided=decided)
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    return crossing


@pytest.fixture
def weir(bench, tmp_path):
    """A library whose feature uses media inside, in two folders outside, and missing media."""
    lib = bench.library
    write(lib / "media/Day 01/crest.mov", b"c" * 5000)
    write(lib / "media/Day 01/spare.mov", b"s" * 600)
    write(tmp_path / "Field recordings/2024/millrace.wav", b"m" * 3000)
    write(tmp_path / "Field recordings/herons.wav", b"h" * 400)
    write(tmp_path / "Desktop/Music/two herons.flac", b"f" * 700)
    write(
        lib / "projects/Feature/feature.otio",
        timeline(
            "../../media/Day 01/crest.mov", str(lib / "media/Day 01/crest.mov"),
            f"file://{tmp_path}/Field%20recordings/2024/millrace.wav",
            str(tmp_path / "Field recordings/herons.wav"),
            str(tmp_path / "Desktop/Music/two herons.flac"),
            "../../media/Day 04/gone.mov", "http://example.org/a.mov",
        ),
    )  # fmt: skip
    return lib


def targets(document):
    """What opentimelineio alone finds in a timeline."""
    read = otio.adapters.read_from_file(str(document))
    return [c.media_reference.target_url for c in read.find_clips()]


def test_timelines_at_the_new_place_find_everything_there(bench, weir):
    before = contents(bench.root / "drives/inside"), contents(bench.root / "Field recordings")
    crossing = cross(bench)
    there = bench.heron / "The Weir"
    document = there / "projects/Feature/feature.otio"
    assert targets(document) == [
        "../../media/Day 01/crest.mov", "../../media/Day 01/crest.mov",
        "../../media/Field recordings/2024/millrace.wav",
        "../../media/Field recordings/herons.wav", "../../media/Music/two herons.flac",
        "../../media/Day 04/gone.mov",
        "http://example.org/a.mov",
    ]  # fmt: skip
    found = [(document.parent / t).read_bytes()[:1] for t in targets(document)[:5]]
    assert found == [b"c", b"c", b"m", b"h", b"f"]
    kept = there / f".fascis/as-it-was/{crossing.id}/projects/Feature/feature.otio"
    assert kept.read_bytes() == (weir / "projects/Feature/feature.otio").read_bytes()
    assert (
        contents(bench.root / "drives/inside"),
        contents(bench.root / "Field recordings"),
    ) == before


def test_only_target_strings_differ(bench, weir):
    cross(bench)
    old = (weir / "projects/Feature/feature.otio").read_bytes()
    new = (bench.heron / "The Weir/projects/Feature/feature.otio").read_bytes()
    # fmt: skip
    for one, other in zip(
        targets(weir / "projects/Feature/feature.otio"),
        targets(bench.heron / "The Weir/projects/Feature/feature.otio"),
        strict=True,
    ):
        old = old.replace(json.dumps(one).encode(), b"@", 1)
        new = new.replace(json.dumps(other).encode(), b"@", 1)
    assert old == new


def test_the_lists_that_travel_with_it_are_of_what_is_there(bench, weir):
    cross(bench)
    there = bench.heron / "The Weir"
    listed = {
        line.split("  ", 1)[1] for line in (there / ".fascis/manifest.b3").read_text().splitlines()
    }
    assert listed == {
        str(p.relative_to(there))
        for p in there.rglob("*")
        if p.is_file() and ".fascis" not in p.parts
    }
    assert os.system(f"cd '{there}' && b3sum --quiet --check .fascis/manifest.b3") == 0


def test_a_release_leaves_loose_originals_where_they_are(bench, weir):
    loose = contents(bench.root / "Field recordings")
    crossing = cross(bench, after=After.RELEASE)
    assert crossing.advance(consent=True) is State.RELEASED
    assert not weir.exists()
    assert contents(bench.root / "Field recordings") == loose
    assert (bench.root / "Desktop/Music/two herons.flac").exists()
    assert crossing.journal.value("release")["left_behind"] == []


def test_originals_that_another_library_uses_stay(bench, weir):
    """Media must not be taken from under another library, though this one has crossed whole."""
    other = write(bench.root / "Bell/list.m3u8", f"{weir}/media/Day 01/crest.mov".encode())
    remember(bench.workspace, survey_library(bench.workspace, other.parent))
    assert codes(plan(bench))["used-elsewhere"] == "note"
    crossing = cross(bench, after=After.RELEASE)
    assert deleting_now(crossing).reasons()["still needed by others"].files == 1
    crossing.advance(consent=True)
    (left,) = crossing.journal.value("release")["left_behind"]
    assert (left["path"], left["why"], left["planned"]) == (
        "media/Day 01/crest.mov",
        "used-elsewhere",
        True,
    )
    assert str(other) in left["by"][0] and (weir / "media/Day 01/crest.mov").exists()
    assert [p.name for p in weir.rglob("*") if p.is_file()] == ["crest.mov"]
    assert (bench.heron / "The Weir/media/Day 01/crest.mov").exists()


def test_what_is_promised_to_come_free_is_what_a_release_deletes(bench, weir):
    """Loose originals stay: they are not promised."""
    promised = plan(bench, after=After.RELEASE).frees
    crossing = cross(bench, after=After.RELEASE)
    crossing.switch()
    assert promised == deleting_now(crossing).frees
    assert plan(bench, loose_too=True).frees > promised


def test_if_the_rewritten_document_is_gone_its_original_stays_with_all_that_it_needs(bench, weir):
    crossing = cross(bench, after=After.RELEASE)
    crossing.switch()
    (bench.heron / "The Weir/projects/Feature/feature.otio").unlink()
    left = {x["path"]: x["why"] for x in crossing.release()["left_behind"]}
    assert (left["projects/Feature/feature.otio"], left["media/Day 01/crest.mov"]) == (
        "copy-missing",
        "used-elsewhere",
    )
    assert (weir / "media/Day 01/crest.mov").exists() and (
        weir / "projects/Feature/feature.otio"
    ).exists()


def test_without_gathering_documents_still_lead_to_loose_media(bench, weir, tmp_path):
    write(weir / "relative.m3u8", b"../../../Desktop/Music/two herons.flac\n")
    made = plan(bench, gather=False)
    assert codes(made)["not-gathered"] == "note" and made.gathering.items == []
    crossing = Crossing.start(bench.workspace, made, decided=True)
    assert crossing.run() is State.SETTLED
    there = bench.heron / "The Weir"
    assert (there / "relative.m3u8").read_text() == f"{tmp_path}/Desktop/Music/two herons.flac\n"
    assert targets(there / "projects/Feature/feature.otio")[3] == str(
        tmp_path / "Field recordings/herons.wav"
    )


def test_what_is_missing_or_away_or_not_understood_is_a_decision(bench, weir):
    write(weir / "broken.otio", b"{")
    bench.add_drive("field", connected=False)
    write(weir / "more.m3u8", f"{bench.drives}/field/a.mov\n".encode())
    made = plan(bench)
    assert made.asks and not made.stopped
    wanted = {
        "references-missing": "decision",
        "references-away": "decision",
        "not-understood": "decision",
    }
    assert wanted.items() <= codes(made).items()
    with pytest.raises(Exception, match="missing"):
        Crossing.start(bench.workspace, made)
    assert not list(bench.heron.glob("*Weir*"))


def test_equal_content_is_stored_once_and_equal_names_are_kept_apart(bench, tmp_path):
    lib = bench.library
    write(lib / "media/Music/held.wav", b"x" * 900)
    write(lib / "media/Music/theme.wav", b"1" * 100)
    for place, content in (("a/Music/theme.wav", b"2" * 100), ("b/Music/theme.wav", b"3" * 100),
    ("b/Music/again.wav", b"2" * 100),
                           ("c/x.wav", b"x" * 900)):  # fmt: skip
        write(tmp_path / place, content)
    paths = [
        tmp_path / p
        for p in ("a/Music/theme.wav", "b/Music/theme.wav", "b/Music/again.wav", "c/x.wav")
    ]
    write(lib / "list.m3u8", "\n".join(map(str, paths)).encode())
    write(lib / "own.m3u8", b"media/Music/theme.wav\nmedia/Music/held.wav\n")
    made = plan(bench)
    assert [o.path for _, o in made.gathering.items] == [bytes(paths[0]), bytes(paths[1])]
    Crossing.start(bench.workspace, made).run()
    there = bench.heron / "The Weir"
    found = (there / "list.m3u8").read_text().splitlines()
    assert [(there / f).read_bytes()[:1] for f in found] == [b"2", b"3", b"2", b"x"]
    assert found[3] == "media/Music/held.wav" and len(set(found)) == 3


def test_frames_and_sidecars_keep_their_names_though_they_are_equal(bench, tmp_path):
    for n in range(4):
        write(tmp_path / f"scans/s{n}.dpx", b"black" * 50)
    for name in ("a", "b"):
        write(tmp_path / f"stills/{name}.jpg", name.encode() * 50)
        write(tmp_path / f"stills/{name}.xmp", b"<same/>")
    sequence = {"OTIO_SCHEMA": "ImageSequenceReference.1", "target_url_base": f"{tmp_path}/scans/",
        "name_prefix": "s", "name_suffix": ".dpx",
                "start_frame": 0, "frame_step": 1, "rate": 24, "frame_zero_padding": 0,
                "available_range": {"duration": {"value": 4, "rate": 24}}}  # fmt: skip
    clip = {"OTIO_SCHEMA": "Clip.2", "media_references": {"DEFAULT_MEDIA": sequence}}
    write(bench.library / "scans.otio", json.dumps(clip).encode())
    write(
        bench.library / "stills.m3u8", f"{tmp_path}/stills/a.jpg\n{tmp_path}/stills/b.jpg".encode()
    )
    cross(bench)
    there = bench.heron / "The Weir"
    assert sorted(p.name for p in (there / "media/scans").iterdir()) == [
        "s0.dpx",
        "s1.dpx",
        "s2.dpx",
        "s3.dpx",
    ]
    assert sorted(p.name for p in (there / "media/stills").iterdir()) == [
        "a.jpg",
        "a.xmp",
        "b.jpg",
        "b.xmp",
    ]
    assert (
        json.loads((there / "scans.otio").read_bytes())["media_references"]["DEFAULT_MEDIA"][
            "target_url_base"
        ]
        == "media/scans/"
    )


def test_links_that_lead_out_lead_to_what_was_gathered(bench, tmp_path):
    lib = bench.library
    write(lib / "media/a.mov")
    write(tmp_path / "Music/theme.wav", b"theme")
    for name, target in (
        ("out.wav", "../../../Music/theme.wav"),
        ("absolute.mov", str(lib / "media/a.mov")),
        ("inner.mov", "media/a.mov"),
        # fmt: skip
        ("folder", str(lib / "media")),
        ("nowhere.mov", "/nowhere/at/all.mov"),
    ):
        (lib / name).symlink_to(target)
    crossing = cross(bench)
    there = bench.heron / "The Weir"
    assert {n: os.readlink(there / n) for n in ("out.wav", "absolute.mov", "inner.mov", "folder",
    "nowhere.mov")} == {
        "out.wav": "media/Music/theme.wav", "absolute.mov": "media/a.mov",
        "inner.mov": "media/a.mov", "folder": "media",
        "nowhere.mov": "/nowhere/at/all.mov",
    }  # fmt: skip
    assert (
        os.readlink(there / f".fascis/as-it-was/{crossing.id}/out.wav")
        == "../../../Music/theme.wav"
    )
    crossing.switch()
    crossing.release()
    assert not lib.exists() and (tmp_path / "Music/theme.wav").read_bytes() == b"theme"


def test_a_catalog_finds_its_photos_and_keeps_everything_else(bench, tmp_path):
    lib = bench.library
    for place in ("shoots/2024/a.jpg", "shoots/2024/a.xmp", "shoots/b.jpg"):
        write(lib / place)
    write(tmp_path / "Trip/day 1/c.jpg", b"trip")
    catalog_at(
        lib / "Bell.fascat",
        [("uuid-inside", "The Weir/shoots"), (None, str(tmp_path / "Trip"))],
        # fmt: skip
        [(1, 1, "2024"), (2, 1, ""), (3, 2, "day 1")],
        [(1, "a.jpg"), (2, "b.jpg"), (3, "c.jpg"), (1, "gone.jpg")],
    )
    before = (lib / "Bell.fascat").read_bytes()
    crossing = cross(bench)
    there = bench.heron / "The Weir"
    with closing(sqlite3.connect(there / "Bell.fascat")) as db:
        where = db.execute(
            "SELECT p.drive_uuid, p.path, f.path FROM folder f JOIN place p ON p.id=f.place_id "
            "ORDER BY f.id"
        ).fetchall()
        assert where == [("uuid-heron", "The Weir/shoots", "2024"), ("uuid-heron",
            "The Weir/shoots", ""),
                         ("uuid-heron", "The Weir/media/Trip", "day 1")]  # fmt: skip
        new = {
            t: db.execute(f"SELECT * FROM {t}").fetchall()
            for t in ("meta", "photo", "keyword", "photo_keyword", "adjustment", "preview")
        }
    with closing(sqlite3.connect(lib / "Bell.fascat")) as db:
        assert new == {t: db.execute(f"SELECT * FROM {t}").fetchall() for t in new}
    assert (there / "media/Trip/day 1/c.jpg").read_bytes() == b"trip"
    assert (
        (lib / "Bell.fascat").read_bytes()
        == before
        == (there / f".fascis/as-it-was/{crossing.id}/Bell.fascat").read_bytes()
    )


def test_a_catalog_with_its_journal_crosses_as_one(bench):
    lib = bench.library
    write(lib / "shoots/a.jpg")
    catalog_at(
        lib / "Bell.fascat", [("uuid-inside", "The Weir")], [(1, 1, "shoots")], [(1, "a.jpg")]
    )
    source = bench.root / "open.fascat"
    with closing(sqlite3.connect(lib / "Bell.fascat")) as db:
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("UPDATE photo SET rating=5")
        db.commit()
        copied = {e: Path(f"{lib}/Bell.fascat{e}").read_bytes() for e in ("", "-wal")}
    for end, content in copied.items():
        Path(f"{lib}/Bell.fascat{end}").write_bytes(content)
    assert not source.exists()
    crossing = cross(bench)
    there = bench.heron / "The Weir"
    assert sorted(p.name for p in there.iterdir()) == [".fascis", "Bell.fascat", "shoots"]
    with closing(sqlite3.connect(there / "Bell.fascat")) as db:
        assert db.execute("SELECT rating FROM photo").fetchall() == [(5,)]
    assert (there / f".fascis/as-it-was/{crossing.id}/Bell.fascat-wal").read_bytes() == copied[
        "-wal"
    ]
    assert sorted(p.name for p in lib.iterdir()) == ["Bell.fascat", "Bell.fascat-wal", "shoots"]


def test_a_single_document_crosses_with_what_it_refers_to_and_leaves_what_those_beside_it_need(
    bench, weir, tmp_path
):
    write(weir / "media/Day 01/own.mov")
    document = write(
        weir / "teaser.otio",
        timeline(
            "media/Day 01/crest.mov",
            "media/Day 01/own.mov",
            str(tmp_path / "Field recordings/herons.wav"),
        ),
    )
    crossing = cross(bench, document, after=After.RELEASE)
    there = bench.heron / "teaser"
    assert files_of(there) == {
        "teaser.otio", "media/Day 01/crest.mov", "media/Day 01/own.mov",
        "media/Field recordings/herons.wav",
    }  # fmt: skip
    write(weir / "appeared.mov")  # none of its business
    crossing.switch()
    crossing.release()
    assert sorted(str(p.relative_to(weir)) for p in weir.rglob("*") if p.is_file()) == [
        "appeared.mov", "media/Day 01/crest.mov", "media/Day 01/spare.mov",
        "projects/Feature/feature.otio",
    ]  # fmt: skip
    assert (tmp_path / "Field recordings/herons.wav").exists()


def test_a_single_document_alone_in_its_folder_leaves_that_folder(bench, tmp_path):
    document = write(tmp_path / "Desktop/list.m3u8", b"sub/a.mov\n")
    write(tmp_path / "Desktop/sub/a.mov")
    crossing = cross(bench, document, after=After.RELEASE)
    assert crossing.advance(consent=True) is State.RELEASED
    assert [
        str(p.relative_to(tmp_path / "Desktop")) for p in (tmp_path / "Desktop").rglob("*")
    ] == ["sub"]
    again = bench.workspace.register.find(crossing.places.header.library_id)[0]
    assert again.root == bench.heron / "list" and (again.root / "sub/a.mov").exists()


def test_a_single_document_is_never_set_aside_and_goes_home_again(bench, weir):
    document = write(weir / "teaser.otio", timeline("media/Day 01/crest.mov"))
    assert codes(plan(bench, document, after=After.PARK))["cannot-set-aside"] == "stops"
    crossing = cross(bench, document)
    crossing.switch()
    with pytest.raises(Refused, match="not the library's"):
        crossing.park()
    crossing.undo()
    assert (
        bench.workspace.register.find(crossing.places.header.library_id)[0].root == document
        and weir.is_dir()
    )


def test_a_folder_of_a_catalog_crosses_and_the_catalog_stays(bench):
    lib = bench.library
    write(lib / "shoots/a.jpg")
    write(lib / "other/b.jpg")
    catalog_at(
        lib / "Bell.fascat",
        [("uuid-inside", "The Weir")],
        [(1, 1, "shoots"), (2, 1, "other")],
        [(1, "a.jpg"), (2, "b.jpg")],
    )
    cross(bench, only=frozenset(["shoots"]))
    there = bench.heron / "shoots"
    assert (
        (there / "shoots/a.jpg").exists()
        and not (there / "other").exists()
        and not (there / "Bell.fascat").exists()
    )
    assert (lib / "Bell.fascat").exists()


def test_a_part_takes_what_its_project_uses(bench, weir, tmp_path):
    write(
        weir / "projects/Teaser/teaser.otio",
        timeline("../../media/Day 01/spare.mov", str(tmp_path / "Field recordings/herons.wav")),
    )
    cross(bench, only=frozenset(["Teaser"]))
    there = bench.heron / "Teaser"
    assert files_of(there) == {
        "projects/Teaser/teaser.otio", "media/Day 01/spare.mov",
        "media/Field recordings/herons.wav",
    }  # fmt: skip
    assert codes(plan(bench, only=frozenset(["Nothing"])))["part-not-there"] == "stops"


def test_unused_files_can_be_left_out_and_then_stay(bench, weir):
    crossing = cross(bench, leave_unused=True, after=After.RELEASE)
    assert not (bench.heron / "The Weir/media/Day 01/spare.mov").exists()
    crossing.advance(consent=True)
    assert (weir / "media/Day 01/spare.mov").exists()
    assert [x["path"] for x in crossing.journal.value("release")["left_behind"]] == [
        "media/Day 01/spare.mov"
    ]


def test_references_to_what_was_left_out_lead_nowhere_in_the_copy(bench, weir):
    write(weir / "renders/feature_0001.mov")
    write(weir / "renders.m3u8", f"{weir}/renders/feature_0001.mov".encode())
    cross(bench, leave_out=frozenset([Role.RENDER]))
    assert (bench.heron / "The Weir/renders.m3u8").read_text() == "renders/feature_0001.mov"


@pytest.mark.parametrize("touched", ["document", "loose"])
def test_what_changed_since_is_copied_too_and_rewritten(bench, weir, tmp_path, touched):
    crossing = cross(bench)
    there = bench.heron / "The Weir"
    if touched == "document":
        write(
            weir / "projects/Feature/feature.otio",
            timeline(
                str(tmp_path / "Field recordings/herons.wav"), str(weir / "media/Day 01/spare.mov")
            ),
        )
    else:
        write(tmp_path / "Field recordings/herons.wav", b"sung again" * 90)
    assert len(crossing.undecided()) == 1
    assert crossing.bring_along() is State.SETTLED
    assert crossing.undecided() == []
    found = targets(there / "projects/Feature/feature.otio")
    if touched == "document":
        assert found == ["../../media/Field recordings/herons.wav", "../../media/Day 01/spare.mov"]
        kept = there / f".fascis/as-it-was/{crossing.id}/projects/Feature/feature.otio"
        assert kept.read_bytes() == (weir / "projects/Feature/feature.otio").read_bytes()
    else:
        assert (there / "media/Field recordings/herons.wav").read_bytes() == b"sung again" * 90
    assert os.system(f"cd '{there}' && b3sum --quiet --check .fascis/manifest.b3") == 0
    crossing.switch()
    crossing.release()
    assert not weir.exists() and (tmp_path / "Field recordings/herons.wav").exists()


def test_loose_media_that_cannot_be_read_waits_for_a_decision(bench, weir, tmp_path):
    made = plan(bench)
    (tmp_path / "Field recordings/herons.wav").unlink()
    crossing = Crossing.start(bench.workspace, made, decided=True)
    assert crossing.run() is State.WAITING
    assert [p for p, _ in crossing.hindrances()] == [b"media/Field recordings/herons.wav"]
    write(tmp_path / "Field recordings/herons.wav", b"back" * 100)
    assert crossing.run() is State.SETTLED


# -- the scales, and what may be deleted -----------------------------------------------------------


def lines(crossing):
    return {c.name: (c.originals, c.copies, c.verdict, c.well) for c in weigh(crossing).checks}


def test_the_scales_follow_every_reference_at_the_new_place(bench, weir, tmp_path):
    crossing = cross(bench)
    said = lines(crossing)
    assert said["References, followed at the new place"] == (
        "6",
        ("5",),
        "the rest as before",
        True,
    )
    assert said["Lead to other content than before"] == ("", ("0",), "none", True)
    assert said["Documents, opened there"] == ("1", ("1",), "all open", True)
    assert said["Bytes"][2:] == ("equal", True) and said["Files"][2:] == ("equal", True)
    assert weigh(crossing).even


def test_a_reference_that_leads_to_the_old_place_tips_the_scales(bench, weir):
    crossing = cross(bench)
    document = bench.heron / "The Weir/projects/Feature/feature.otio"
    document.write_bytes(
        timeline(str(weir / "media/Day 01/crest.mov"), *["../../media/Day 01/crest.mov"] * 5)
    )
    said = lines(crossing)
    assert (
        said["Lead to other content than before"][1:] == (("1",), "wrong", False)
        and not weigh(crossing).even
    )


def test_where_documents_are_not_understood_deleting_waits_until_a_person_looked(bench, weir):
    write(weir / "other.aaf", b"a format of its own")
    crossing = cross(bench, after=After.RELEASE)
    assert crossing.advance(consent=True) is State.SWITCHED
    with pytest.raises(Refused, match="look first"):
        crossing.release()
    assert (
        "balance holds for what could be checked"
        in {c.name: c.detail for c in weigh(crossing).checks}["Documents, opened there"]
    )
    assert (weir / "other.aaf").exists() and (weir / "media/Day 01/crest.mov").exists()
    crossing.looked()
    assert crossing.advance(consent=True) is State.RELEASED and not weir.exists()


def test_one_picture_of_every_strand_is_decoded(bench, library):
    write(library / "stills/a.jpg", picture("JPEG"))
    write(library / "previews/b.png", picture("PNG"))
    crossing = cross(bench)
    said = {d.places.label: d.opened() for d in crossing.destinations}["heron"]
    assert (said.sampled, said.seen) == (6, 2), "the rest are random bytes that are called clips"


def released_with_loose(bench, **more):
    crossing = cross(bench, after=After.RELEASE, loose_too=True, **more)
    crossing.advance(consent=True)
    return {
        Path(x["path"]).name: x["why"] for x in crossing.journal.value("release")["left_behind"]
    }


def test_loose_originals_go_only_when_asked_and_used_by_nothing_else(bench, weir, tmp_path):
    other = write(bench.root / "Bell/list.m3u8", f"{tmp_path}/Field recordings/herons.wav".encode())
    remember(bench.workspace, survey_library(bench.workspace, other.parent))
    write(tmp_path / "Field recordings/never used.wav")
    assert released_with_loose(bench) == {"herons.wav": "used-elsewhere"}
    assert sorted(p.name for p in (tmp_path / "Field recordings").rglob("*.wav")) == [
        "herons.wav",
        "never used.wav",
    ]
    assert not (tmp_path / "Desktop/Music/two herons.flac").exists()
    assert (tmp_path / "Desktop/Music").is_dir(), "folders outside are not ours to remove"
    assert (bench.heron / "The Weir/media/Music/two herons.flac").read_bytes() == b"f" * 700
    assert other.exists()


@pytest.mark.parametrize(
    "trouble",
    ["changed", "replaced", "opened", "another uses it since", "another is not understood"],
)
def test_a_loose_original_stays_when_anything_is_not_as_it_was(bench, weir, tmp_path, trouble):
    loose = tmp_path / "Desktop/Music/two herons.flac"
    bell = bench.root / "Bell"
    write(bell / "list.m3u8", b"nothing.wav")
    remember(bench.workspace, survey_library(bench.workspace, bell))
    crossing = cross(bench, after=After.RELEASE, loose_too=True)
    crossing.switch()
    if trouble == "changed":
        write(loose, b"another")
    elif trouble == "replaced":
        before = loose.stat()
        loose.unlink()
        write(loose, b"F" * 700)
        os.utime(loose, ns=(before.st_atime_ns, before.st_mtime_ns))
    elif trouble == "another uses it since":
        write(bell / "list.m3u8", str(loose).encode())
    elif trouble == "another is not understood":
        write(bell / "broken.otio", b"{")
    with open_by_another(loose) if trouble == "opened" else nullcontext():
        record = crossing.release()
    assert (
        loose.exists()
        and (bench.heron / "The Weir/media/Music/two herons.flac").read_bytes() == b"f" * 700
    )
    assert str(loose) in {x["path"] for x in record["left_behind"]}


def test_copying_changed_documents_resumes_wherever_it_is_interrupted(tmp_path):
    """A document moved into the library already is not written from what it has become."""
    rehearsed = None
    for point in range(0, 400, 1 if EVERY else 9):
        bench = gathering_bench(tmp_path / f"at {point}", "ext4")
        made = make_plan(
            bench.workspace, survey_library(bench.workspace, bench.library), bench.to, Choices()
        )
        crossing = Crossing.start(bench.workspace, made, decided=True)
        assert crossing.run() is State.SETTLED
        newer = f"one.mov\n{bench.root}/Music/x.wav\n{bench.library}/one.mov\n"
        write(bench.library / "a.m3u8", newer.encode())
        bench.step = Killer(point)
        try:
            crossing.bring_along()
            rehearsed = point
        except Killed:
            pass
        crossing.close()
        bench.step = lambda _n: None
        bench.again()
        with closing(find_crossing(bench.workspace, crossing.id)) as again:
            again.run()
            assert again.bring_along() is State.SETTLED, point
            assert again.undecided() == [], point
        there = bench.to / "The Weir"
        assert (there / "a.m3u8").read_text() == "one.mov\nmedia/Music/x.wav\none.mov\n", point
        assert (there / f".fascis/as-it-was/{crossing.id}/a.m3u8").read_text() == newer, point
        assert os.system(f"cd '{there}' && b3sum --quiet --check .fascis/manifest.b3") == 0, point
        if rehearsed is not None:
            break
    assert rehearsed and rehearsed > 20, "every point up to the end was walked"


def test_what_is_gathered_can_be_read_by_whoever_may_read_the_library(bench, weir):
    weir.chmod(0o755)
    cross(bench)
    there = bench.heron / "The Weir"
    assert {
        oct(p.stat().st_mode & 0o777)
        for p in (there / "media/Music", there / "media/Field recordings/2024")
    } == {"0o755"}


def test_a_document_that_can_no_longer_be_opened_at_its_new_place_tips_the_scales(bench, weir):
    crossing = cross(bench)
    document = bench.heron / "The Weir/projects/Feature/feature.otio"
    document.write_bytes(b"{" * document.stat().st_size)
    assert (
        lines(crossing)["Documents, opened there"] == ("1", ("0",), "not all", False)
        and not weigh(crossing).even
    )


@pytest.mark.parametrize("killed_at", range(24) if EVERY else (0, 6, 13, 20))
def test_interrupted_while_loose_originals_go(bench, weir, tmp_path, killed_at):
    """Every deleted file has its verified copy, and is counted once after a resume."""
    loose = {
        p.name: p.read_bytes()
        for p in (*tmp_path.glob("Field*/**/*.wav"), *tmp_path.glob("Desktop/**/*.flac"))
    }
    crossing = cross(bench, after=After.RELEASE, loose_too=True)
    crossing.switch()
    lives = []

    def step(name):
        if "unlink" in name or lives:
            lives.append(name)
        if len(lives) > killed_at:
            raise Killed

    bench.step = step
    with pytest.raises(Killed):
        crossing.release()
    copied = {
        p.name: p.read_bytes() for p in (bench.heron / "The Weir/media").rglob("*") if p.is_file()
    }
    assert all(copied[name] == content for name, content in loose.items())
    crossing.close()
    bench.step = lambda _n: None
    bench.again()
    with closing(find_crossing(bench.workspace, crossing.id)) as again:
        record = again.release()
    assert (record["files"], record["loose_files"], record["left_behind"]) == (
        3,
        3,
        [],
    ) and not weir.exists()
    assert {
        p.name: p.read_bytes() for p in (bench.heron / "The Weir/media").rglob("*") if p.is_file()
    } == copied


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_every_point_of_a_crossing_that_gathers(tmp_path, filesystem):
    """Interrupted anywhere: nothing is lost, and it resumes to timelines that find everything."""
    rehearsal = gathering_bench(tmp_path / "rehearsal", filesystem)
    rehearsal.step = counter = Killer(10**9)
    whole_way(rehearsal)
    stride = 1 if EVERY else 29
    for point in range(3, counter.passed, stride):
        bench = gathering_bench(tmp_path / f"at {point}", filesystem)
        loose, before = contents(bench.root / "Music"), contents(bench.library)
        bench.step = Killer(point)
        with pytest.raises(Killed):
            whole_way(bench)
        assert one_whole_copy(before, bench.library.parent, bench.to / "The Weir") == [], point
        bench.step = lambda _n: None
        bench.again()
        for id in unfinished(bench.workspace):
            with closing(find_crossing(bench.workspace, id)) as crossing:
                crossing.run()
                assert crossing.advance(consent=True) is State.RELEASED, point
            there = bench.to / "The Weir"
            assert (there / "a.m3u8").read_text() == "media/Music/x.wav\none.mov\n", point
            assert (
                there / f".fascis/as-it-was/{id}/a.m3u8"
            ).read_text() == f"{bench.root}/Music/x.wav\none.mov\n", point
            assert (there / "media/Music/x.wav").read_bytes() == b"x" * 999
            anew = (there / "a.m3u8").stat()
            assert anew.st_mtime_ns // 10**7 == 1_700_000_000_123_456_000 // 10**7, point
            if filesystem == "ext4":
                assert stat.S_IMODE(anew.st_mode) == 0o664, point
                assert os.getxattr(there / "a.m3u8", "user.note") == b"breach first", point
                assert os.readlink(there / "y.wav") == "media/Music/x.wav"
            assert [
                p.name for p in bench.to.iterdir() if p.name.startswith(".fascis")
            ] == [] and not bench.library.exists()
            assert os.system(f"cd '{there}' && b3sum --quiet --check .fascis/manifest.b3") == 0
        assert contents(bench.root / "Music") == loose, point


def gathering_bench(root, filesystem):
    bench = Bench(root)
    bench.to = bench.add_drive("far", filesystem)
    write(bench.root / "Music/x.wav", b"x" * 999)
    bench.fill({"one.mov": 2000, "a.m3u8": f"{bench.root}/Music/x.wav\none.mov\n".encode()})
    document = bench.library / "a.m3u8"
    document.chmod(0o664)
    os.setxattr(document, "user.note", b"breach first")
    os.utime(document, ns=(1_600_000_000_000_000_000, 1_700_000_000_123_456_000))
    if filesystem == "ext4":  # the other has no links
        (bench.library / "y.wav").symlink_to(bench.root / "Music/x.wav")
    return bench


def test_the_receipt_has_the_figures_of_the_scales(bench, weir):
    """Copied files are as read; the new library contains the rewritten documents."""
    crossing = cross(bench)
    there = bench.heron / "The Weir"
    held = [p for p in there.rglob("*") if p.is_file() and ".fascis" not in p.parts]
    record = receipt_of(crossing.journal)
    assert record["holds"] == {"files": len(held), "bytes": sum(p.stat().st_size for p in held)}
    assert record["holds"]["bytes"] != record["bytes"]
    figures = {c.name: c.copies for c in weigh(crossing).checks}
    assert figures["Bytes"] == (number(record["holds"]["bytes"]),)
    shown = dict(rows_of(record))
    assert figures["Bytes"][0] in shown["In the new library, with documents as rewritten"]
