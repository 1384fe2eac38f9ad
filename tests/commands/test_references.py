"""Documents, standings and gathering on the command line."""

import json
import sqlite3
from contextlib import closing

import opentimelineio as otio
import pytest

from tests.commands.test_commands import KEYS, fascis
from tests.judge import contents
from tests.library.making import picture, timeline, write


@pytest.fixture
def weir(bench, tmp_path):
    lib = bench.library
    write(lib / "media/crest.mov", b"c" * 500)
    write(lib / "media/spare.mov", b"s" * 60)
    write(tmp_path / "Music/theme.wav", b"m" * 300)
    write(
        lib / "feature.otio",
        timeline("media/crest.mov", str(tmp_path / "Music/theme.wav"), "media/gone\x1b.mov"),
    )
    return lib


def test_survey_tells_every_file_with_its_standing(bench, weir, tmp_path):
    status, said, err = fascis(bench, "survey", weir, "--files", "--json")
    assert status == 0 and set(said) == {
        "library",
        "documents",
        "standing",
        "roles",
        "files",
        "not_media",
    }
    assert said["documents"] == [{"path": "feature.otio", "format": "otio", "references": 3}]
    size = (weir / "feature.otio").stat().st_size
    assert said["standing"] == {
        "held": {"files": 2, "bytes": 500 + size}, "loose": {"files": 1, "bytes": 300},
        "away": {"files": 0, "bytes": 0},
        "missing": {"files": 1, "bytes": 0}, "unused": {"files": 1, "bytes": 60},
    }  # fmt: skip
    assert {f["path"]: (f["standing"], f["used_by"]) for f in said["files"]} == {
        "feature.otio": ("held", []), "media/crest.mov": ("held", ["feature.otio"]),
        "media/spare.mov": ("unused", []),
        str(tmp_path / "Music/theme.wav"): ("loose", ["feature.otio"]),
        "media/gone\x1b.mov": ("missing", ["feature.otio"]),
    }  # fmt: skip
    for name in ("held", "loose", "missing", "unused"):
        assert (
            sum(f["bytes"] for f in said["files"] if f["standing"] == name)
            == said["standing"][name]["bytes"]
        )
    assert fascis(bench, "survey", weir, "--files")[0] == 0, "and in words"


def test_control_characters_are_escaped_wherever_they_are_shown(bench, weir):
    _, _, err = fascis(bench, "relocate", weir, "--to", bench.heron, "--json")
    assert "\x1b" not in err and "gone\\u001b.mov" in err


def test_missing_media_is_a_decision_and_stays_reported(bench, weir, tmp_path):
    before = contents(bench.root / "Music"), contents(weir)
    status, said, _ = fascis(bench, "relocate", weir, "--to", bench.heron, "--json")
    assert (status, said["state"], set(said)) == (3, "refused", KEYS)
    assert {p["code"]: p["severity"] for p in said["problems"]}["references-missing"] == "decision"
    status, said, err = fascis(bench, "relocate", weir, "--to", bench.heron, "--yes", "--json")
    assert (status, said["state"], said["gathered_files"]) == (1, "switched", 1), err
    assert said["verified_files"] == said["files"] == 4
    assert {p["code"]: p["files"] for p in said["problems"]}["in-two-places"] == [
        str(tmp_path / "Music/theme.wav")
    ]
    read = otio.adapters.read_from_file(said["to"][0] + "/feature.otio")
    assert [c.media_reference.target_url for c in read.find_clips()][:2] == [
        "media/crest.mov",
        "media/Music/theme.wav",
    ]
    assert (contents(bench.root / "Music"), contents(weir)) == before
    status, said, _ = fascis(bench, "verify", said["to"][0], "--json")
    assert (status, said["matching"], said["references_unresolved"]) == (
        1,
        4,
        ["media/gone\x1b.mov"],
    )


def test_what_is_copied_is_chosen(bench, weir, tmp_path):
    write(weir / "feature.otio", timeline("media/crest.mov", str(tmp_path / "Music/theme.wav")))
    _, said, _ = fascis(
        bench,
        "relocate",
        weir,
        "--to",
        bench.heron,
        "--no-gather",
        "--leave-out",
        "unused",
        "--dry-run",
        "--json",
    )
    assert (said["files"], said["gathered_files"]) == (2, 0)
    _, said, _ = fascis(
        bench, "relocate", weir, "--to", bench.heron, "--only", "feature", "--dry-run", "--json"
    )
    assert (said["files"], said["gathered_files"]) == (3, 1)
    status, said, _ = fascis(
        bench, "relocate", weir, "--to", bench.heron, "--only", "nothing", "--dry-run", "--json"
    )
    assert status == 3 and said["problems"][0]["code"] == "part-not-there"
    assert not (bench.root / "state/private").exists() and not list(bench.heron.glob("The*"))


def test_documents_not_understood_are_named_and_deleting_waits(bench, weir, tmp_path):
    write(weir / "feature.otio", timeline("media/crest.mov", str(tmp_path / "Music/theme.wav")))
    write(weir / "broken.otio", b'{"OTIO_SCHEMA": ')
    _, said, err = fascis(bench, "survey", weir, "--json")
    assert {"path": "broken.otio", "format": "not understood", "references": 0} in said[
        "documents"
    ] and "broken.otio" in err
    status, said, _ = fascis(
        bench, "relocate", weir, "--to", bench.heron, "--after", "release", "--yes", "--json"
    )
    assert (status, said["state"]) == (0, "switched") and (weir / "media/crest.mov").exists()
    told = {p["code"]: p["sentence"] for p in said["problems"]}["not-understood"]
    assert "point it to" in told and said["to"][0] in told
    status, said, _ = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert (
        (status, said["state"]) == (0, "released")
        and not weir.exists()
        and (tmp_path / "Music/theme.wav").exists()
    )


def test_loose_originals_are_deleted_only_when_asked_by_name(bench, weir, tmp_path):
    write(weir / "feature.otio", timeline("media/crest.mov", str(tmp_path / "Music/theme.wav")))
    status, said, err = fascis(
        bench,
        "relocate",
        weir,
        "--to",
        bench.heron,
        "--after",
        "release",
        "--loose-too",
        "--yes",
        "--json",
    )
    assert (status, said["state"], said["released_files"], said["left_behind"]) == (
        0,
        "released",
        4,
        [],
    ), err
    assert not (tmp_path / "Music/theme.wav").exists()
    assert (bench.heron / "The Weir/media/Music/theme.wav").read_bytes() == b"m" * 300


def test_the_record_is_json_even_of_names_that_are_not_text(bench, weir):
    (weir / "media").joinpath("caf\udce9.mov").write_bytes(b"x")
    _, said, _ = fascis(bench, "survey", weir, "--files", "--json")
    assert json.dumps(said) and "media/caf%E9.mov" in {f["path"] for f in said["files"]}


def test_a_catalog_is_made_extended_and_relocated_by_itself(bench, tmp_path):
    for place in ("Pictures/herons/a.jpg", "Pictures/herons/2024/b.jpg", "phone/c.jpg"):
        write(bench.drives / "inside" / place, picture("JPEG"))
    pictures, phone = bench.drives / "inside/Pictures", bench.drives / "inside/phone"
    status, said, err = fascis(
        bench, "catalog", pictures / "Bell.fascat", "--add", pictures / "herons", "--json"
    )
    assert (status, said["added"], said["before"]) == (0, 2, None), err
    status, said, _ = fascis(bench, "catalog", pictures / "Bell.fascat", "--add", phone, "--json")
    assert (said["added"], said["known"]) == (1, 0) and said["before"]
    write(pictures / "none of its business.jpg")
    before = (pictures / "Bell.fascat").read_bytes()
    status, said, err = fascis(
        bench,
        "relocate",
        pictures / "Bell.fascat",
        "--to",
        bench.heron,
        "--name",
        "Bell on Heron",
        "--json",
    )
    assert (status, said["state"], said["files"], said["gathered_files"]) == (
        0,
        "switched",
        4,
        1,
    ), err
    with closing(sqlite3.connect(said["to"][0] + "/Bell.fascat")) as db:
        rows = db.execute(
            "SELECT p.drive_uuid, p.path, f.path, h.file_name FROM photo h"
            " JOIN folder f ON f.id=h.folder_id JOIN place p ON p.id=f.place_id"
        ).fetchall()
        assert db.execute("SELECT value FROM meta WHERE key='name'").fetchone() == (
            "Bell on Heron",
        )
    assert {uuid for uuid, *_ in rows} == {"uuid-heron"}
    assert all((bench.heron / place / folder / name).is_file() for _, place, folder, name in rows)
    assert (pictures / "Bell.fascat").read_bytes() == before


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [(("catalog", "x.txt", "--add", "."), 2, "ends in .fascat"), (("catalog", "x.fascat", "--add",
    "nowhere"), 2, "no folder"),
     (("survey", "nothing.otio"), 2, "no folder")],
)  # fmt: skip
def test_what_cannot_be_is_reported_in_one_sentence(bench, words, status, told):
    got, said, err = fascis(bench, *words, "--json")
    assert got == status and told in said["error"]
