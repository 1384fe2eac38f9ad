"""What a library refers to.

Every standing, every way of naming a file, and everything that must not be followed.
"""

import json
import os
from pathlib import Path

import pytest
from msgspec.structs import replace

from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.library.references.strands import strands, top_folders, totals
from fascis.library.standing import STANDINGS, Standing
from tests.library.making import catalog_at, timeline, write


@pytest.fixture
def home(bench, tmp_path):
    """A library with media inside and outside of it.

    The drive Field 2 was seen once, and is away.
    """
    lib = bench.library
    seen = replace(
        bench.workspace.drives.at(bench.heron),
        uuid="uuid-field",
        label="Field 2",
        mount=Path("/media/studio/Field 2"),
    )
    bench.workspace.register.put_drives([seen])
    for place in (
        "media/Day 01/crest.mov",
        "media/Day 01/spare.mov",
        "renders/feature_0001.mov",
        "notes.txt",
    ):
        write(lib / place)
    write(tmp_path / "Field recordings/2024/millrace.wav", b"m" * 300)
    return lib


def survey(bench, lib):
    return survey_library(bench.workspace, lib)


def standings(surveyed):
    """``{path: standing}``, places in the library relative."""
    found = {
        place.decode(): STANDINGS[surveyed.uses.standing[row]].value
        for row, place in surveyed.survey.files()
    }
    root = os.path.realpath(surveyed.source) + "/"
    return found | {
        os.fsdecode(o.path).removeprefix(root): o.standing.value for o in surveyed.uses.outside
    }


def test_every_standing(bench, home, tmp_path):
    write(
        home / "feature.otio",
        timeline("media/Day 01/crest.mov", str(tmp_path / "Field recordings/2024/millrace.wav"),
                 "media/Day 04/gone.mov", "/media/studio/Field 2/DCIM/heron.mov"),
    )  # fmt: skip
    found = survey(bench, home)
    assert standings(found) == {
        "feature.otio": "held",
        "media/Day 01/crest.mov": "held",
        "media/Day 01/spare.mov": "unused",
        "renders/feature_0001.mov": "unused",
        "notes.txt": "unused",
        str(tmp_path / "Field recordings/2024/millrace.wav"): "loose",
        "media/Day 04/gone.mov": "missing",
        "/media/studio/Field 2/DCIM/heron.mov": "away",
    }
    assert {s.value: n for s, (n, _) in totals(found.survey, found.uses).items()} == {
        "held": 2, "loose": 1, "away": 1, "missing": 1, "unused": 3,
    }  # fmt: skip
    assert sum(s.files for s in strands(found.survey, found.uses)) == 8


@pytest.mark.parametrize(
    "written",
    ["media/Day 01/crest.mov", "media/Day%2001/crest.mov", "./media//Day 01/../Day 01/crest.mov",
    "{root}/media/Day 01/crest.mov",
     "file://{root}/media/Day%2001/crest.mov", "file://localhost{root}/media/Day%2001/crest.mov",
     "../The Weir/media/Day 01/crest.mov",
     "{alias}/media/Day 01/crest.mov", "linked/crest.mov"],
)  # fmt: skip
def test_every_way_of_writing_a_path_leads_to_the_same_file(bench, home, tmp_path, written):
    (tmp_path / "alias").symlink_to(home)
    (home / "linked").symlink_to("media/Day 01")
    write(home / "feature.otio", timeline(written.format(root=home, alias=tmp_path / "alias")))
    found = standings(survey(bench, home))
    assert (
        found["media/Day 01/crest.mov"] == "held"
        and "missing" not in found.values()
        and "loose" not in found.values()
    )


@pytest.mark.parametrize(
    ("written", "standing"),
    [("/Volumes/Field 2/DCIM/a.mov", "away"), ("/run/media/mara/Field 2/a.mov", "away"),
    ("file:///media/mara/field 2/a.mov", "away"),
     ("E:\\Footage\\a.mov", "missing"), ("file:///E:/Footage/a.mov", "missing"),
     ("\\\\nas\\films\\a.mov", "missing"),
     ("/Volumes/Nobody knows/a.mov", "missing"), ("/home/tomas/Desktop/a.mov", "missing")],
)  # fmt: skip
def test_a_path_of_another_machine_is_away_when_its_drive_is_known(bench, home, written, standing):
    write(home / "feature.otio", timeline(written))
    (outside,) = survey(bench, home).uses.outside
    assert outside.standing is Standing(standing)


def test_a_path_of_another_machine_is_found_on_the_drive_of_that_name(bench, home):
    label = bench.workspace.drives.at(bench.heron).label
    write(bench.heron / "DCIM/a.mov")
    write(home / "feature.otio", timeline(f"/Volumes/{label}/DCIM/a.mov"))
    (outside,) = survey(bench, home).uses.outside
    assert outside.standing is Standing.LOOSE and outside.path == bytes(bench.heron / "DCIM/a.mov")


def test_a_drive_that_is_away_is_not_examined_though_its_folder_is_there(bench, home):
    write(bench.heron / "a.mov")
    bench.add_drive("heron", connected=False)
    write(home / "feature.otio", timeline(str(bench.heron / "a.mov")))
    (outside,) = survey(bench, home).uses.outside
    assert outside.standing is Standing.AWAY


def test_a_file_that_is_not_media_is_never_followed(bench, home, tmp_path):
    os.mkfifo(tmp_path / "pipe.mov")
    write(tmp_path / "a folder.mov/x.txt")
    (tmp_path / "loop.mov").symlink_to("loop.mov")
    write(tmp_path / "secret.txt")
    targets = [
        "/etc/passwd",
        "/dev/zero",
        "/dev/sda.mov",
        "/proc/self/environ",
        "/proc/self/exe.mov",
        str(tmp_path / "pipe.mov"),
        "",
        # fmt: skip
        str(tmp_path / "a folder.mov"),
        str(tmp_path / "secret.txt"),
        "media",
        "..",
        "http://example.org/x.mov",
        "x\0y.mov",
    ]
    write(home / "feature.otio", timeline(*targets, "media/Day 01/crest.mov"))
    uses = survey(bench, home).uses
    refused = {t for _, t, _ in uses.not_media}
    assert refused >= {"/etc/passwd", "/dev/zero", "/proc/self/environ", str(tmp_path / "pipe.mov"),
        str(tmp_path / "a folder.mov"),
                       str(tmp_path / "secret.txt"), "media", ".."}  # fmt: skip
    assert not [o for o in uses.outside if o.standing is Standing.LOOSE]
    assert len(uses.used_by) == 1, "and what is media is followed all the same"


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [("broken.otio", b'{"OTIO_SCHEMA": "Timeline.1", ', "not valid JSON at line 1"), ("deep.otio",
    b"[" * 100_000, "nested too deep"),
     ("evil.xspf", b'<!DOCTYPE x [<!ENTITY e "e">]><playlist xmlns="http://xspf.org/ns/0/"/>',
     "document type"),
     ("not.fascat", b"rubbish" * 400, "catalog"), ("empty.edl", b"", "no event")],
)  # fmt: skip
def test_a_document_that_is_not_understood_is_named_and_carried_as_a_file(
    bench, home, name, content, words
):
    write(home / name, content)
    write(home / "feature.otio", timeline("media/Day 01/crest.mov"))
    found = survey(bench, home)
    ((place, why),) = found.uses.not_understood
    assert place == name.encode() and words in why
    assert (
        standings(found)[name] == "held" and standings(found)["media/Day 01/spare.mov"] == "unused"
    )


def test_without_a_document_that_is_read_nothing_is_called_unused(bench, home):
    write(home / "broken.otio", b"{")
    assert set(standings(survey(bench, home)).values()) == {"held"}


def test_documents_of_a_format_that_is_not_known(bench, home):
    for name in (
        "cut.aaf",
        "work.sqlite",
        "sheet.xml",
        "media/Day 01/crest.xml",
        "work.sqlite-wal",
    ):
        write(home / name)
    uses = survey(bench, home).uses
    assert (sorted(uses.unknown), uses.databases) == ([b"cut.aaf"], [b"work.sqlite"])


def test_a_sequence_counts_frame_by_frame(bench, home, tmp_path):
    for n in (10, 12, 14):
        write(tmp_path / f"scans/scan_{n:04}.dpx")
    sequence = {"OTIO_SCHEMA": "ImageSequenceReference.1",
        "target_url_base": str(tmp_path / "scans"), "name_prefix": "scan_",
                "name_suffix": ".dpx", "start_frame": 10, "frame_step": 2, "rate": 24,
                "frame_zero_padding": 4,
                "available_range": {"duration": {"value": 8, "rate": 24}}}  # fmt: skip
    write(
        home / "scans.otio",
        json.dumps({"OTIO_SCHEMA": "Clip.2", "media_references": {"a": sequence}}).encode(),
    )
    found = survey(bench, home)
    assert [(o.path[-8:], o.standing.value) for o in found.uses.outside] == [
        (b"0010.dpx", "loose"), (b"0012.dpx", "loose"), (b"0014.dpx", "loose"), (b"0016.dpx",
        "missing"),
    ]  # fmt: skip
    assert found.uses.documents[0].references == 1


def test_an_edit_list_uses_what_one_file_of_the_library_is_called(bench, home):
    write(home / "media/Day 02/spare.mov")
    write(
        home / "cut.edl",
        b"TITLE: x\n"
        b"001  AX V C 00:00:00:00 00:00:01:00 00:00:00:00 00:00:01:00\n"
        b"* FROM CLIP NAME: CREST\n"
        b"002  AX V C 00:00:00:00 00:00:01:00 00:00:00:00 00:00:01:00\n"
        b"* FROM CLIP NAME: spare.mov\n",
    )
    found = survey(bench, home)
    assert standings(found)["media/Day 01/crest.mov"] == "held"
    assert standings(found)["media/Day 02/spare.mov"] == "unused", (
        "two are called so: which one is not guessed"
    )
    assert found.uses.documents[0].unnamed == 1


def test_sidecars_stand_where_their_photos_do(bench, home, tmp_path):
    for place in ("a.jpg", "a.xmp", "b.jpg", "b.jpg.xmp", "lost.xmp"):
        write(home / "stills" / place)
    write(tmp_path / "loose/c.jpg")
    write(tmp_path / "loose/c.jpg.xmp")
    write(tmp_path / "loose/d.xmp")
    write(home / "list.m3u8", f"stills/a.jpg\n{tmp_path}/loose/c.jpg\n".encode())
    found = survey(bench, home)
    said = standings(found)
    assert (said["stills/a.xmp"], said["stills/b.jpg.xmp"], said["stills/lost.xmp"]) == (
        "held",
        "unused",
        "unused",
    )
    assert said[f"{tmp_path}/loose/c.jpg.xmp"] == "loose" and f"{tmp_path}/loose/d.xmp" not in said
    assert found.uses.orphans == [b"stills/lost.xmp"]


def test_a_link_that_leads_out_is_a_reference(bench, home, tmp_path):
    (home / "millrace.wav").symlink_to(f"{tmp_path}/Field recordings/2024/millrace.wav")
    (home / "inner.mov").symlink_to("media/Day 01/crest.mov")
    (home / "broken.mov").symlink_to("/nowhere/at all.mov")
    (home / "machine").symlink_to("/etc/passwd")
    found = survey(bench, home)
    assert {(o.path, o.standing.value) for o in found.uses.outside} == {
        (bytes(tmp_path / "Field recordings/2024/millrace.wav"), "loose"), (b"/nowhere/at all.mov",
        "missing"),
    }  # fmt: skip
    assert [t for _, t, _ in found.uses.not_media] == ["/etc/passwd"]


def test_a_loose_document_that_is_used_is_read_too(bench, home, tmp_path):
    write(tmp_path / "shared/titles.otio", timeline("title.mov"))
    write(tmp_path / "shared/title.mov")
    write(home / "feature.otio", timeline("../../../shared/titles.otio"))
    found = survey(bench, home)
    assert {o.path for o in found.uses.of(Standing.LOOSE)} == {
        bytes(tmp_path / "shared/titles.otio"), bytes(tmp_path / "shared/title.mov"),
    }  # fmt: skip


def test_a_single_document_is_a_library_with_what_it_refers_to(bench, home, tmp_path):
    write(
        home / "feature.otio",
        timeline("media/Day 01/crest.mov", f"{tmp_path}/Field recordings/2024/millrace.wav"),
    )
    write(home / "media/Day 01/crest.xmp")
    found = survey(bench, home / "feature.otio")
    assert (found.source, found.document, found.name) == (home, b"feature.otio", "feature")
    assert standings(found) == {
        "feature.otio": "held",
        "media/Day 01/crest.mov": "held",
        "media/Day 01/crest.xmp": "held",
        str(tmp_path / "Field recordings/2024/millrace.wav"): "loose",
    }


def test_sizes_of_what_went_missing_are_remembered(bench, home, tmp_path):
    music = tmp_path / "Field recordings/2024/millrace.wav"
    write(home / "feature.otio", timeline("media/Day 01/crest.mov", str(music)))
    id = remember(bench.workspace, survey(bench, home))
    music.unlink()
    (home / "media/Day 01/crest.mov").unlink()
    found = survey(bench, home)
    assert {o.size for o in found.uses.of(Standing.MISSING)} == {300, 4}
    assert remember(bench.workspace, found) == id
    assert {o.size for o in survey(bench, home).uses.of(Standing.MISSING)} == {300, 4}, (
        "and stay so"
    )


def test_other_libraries_that_use_a_file_are_known(bench, home, tmp_path):
    music = tmp_path / "Field recordings/2024/millrace.wav"
    write(home / "feature.otio", timeline(str(music)))
    other = tmp_path / "Bell"
    write(other / "teaser.otio", timeline(str(music), str(home / "media/Day 01/crest.mov")))
    one, two = (remember(bench.workspace, survey(bench, lib)) for lib in (home, other))
    register = bench.workspace.register
    assert register.used_in(bytes(home), one) == {bytes(home / "media/Day 01/crest.mov"): [two]}
    assert set(register.used_outside(two)) == {bytes(home / "media/Day 01/crest.mov"), bytes(music)}


def test_the_topmost_folder_is_the_source():
    paths = [
        b"/d/Music/a.wav",
        b"/d/Music/2024/b.wav",
        b"/d/Music 2/c.wav",
        b"/e.wav",
        b"/f/g/h.wav",
    ]
    assert top_folders(paths) == {
        b"/d/Music": b"/d/Music", b"/d/Music/2024": b"/d/Music", b"/d/Music 2": b"/d/Music 2",
        b"": b"", b"/f/g": b"/f/g",
    }  # fmt: skip


def test_a_catalog_that_is_damaged_in_the_middle_is_reported_and_nothing_of_it_is_used(bench, home):
    """Its first pages can be read, and name photos; a half of it counts for nothing."""
    names = [f"p{i:05}.jpg" for i in range(4000)]
    write(home / "shoots/p00000.jpg")
    path = catalog_at(
        home / "Bell.fascat",
        [("uuid-inside", "The Weir")],
        [(1, 1, "shoots")],
        [(1, n) for n in names],
    )
    content = bytearray(path.read_bytes())
    content[len(content) * 2 // 3 : len(content) * 2 // 3 + 12_288] = b"\xff" * 12_288
    path.write_bytes(content)
    uses = survey(bench, home).uses
    ((place, why),) = uses.not_understood
    assert place == b"Bell.fascat" and "damaged" in why
    assert not uses.used_by and not uses.outside


def test_sequences_with_too_many_frames_are_reported_and_nothing_is_half_read(
    bench, home, monkeypatch
):
    monkeypatch.setattr("fascis.library.references.finding._MOST_FRAMES", 3)
    sequence = {
        "OTIO_SCHEMA": "ImageSequenceReference.1",
        "target_url_base": "/nowhere",
        "name_prefix": "s",
        "name_suffix": ".dpx",
        # fmt: skip
        "start_frame": 0,
        "rate": 24,
        "available_range": {"duration": {"value": 4, "rate": 24}},
    }
    write(
        home / "scans.otio",
        json.dumps({"OTIO_SCHEMA": "Clip.2", "media_references": {"a": sequence}}).encode(),
    )
    uses = survey(bench, home).uses
    assert (
        "frames" in uses.documents[0].trouble
        and uses.outside == []
        and uses.documents[0].references == 0
    )
