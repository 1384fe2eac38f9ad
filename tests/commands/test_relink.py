"""``relink`` on the command line.

The contract's object, exit statuses, what is written and what is not.
"""

import os
import sqlite3

import opentimelineio as otio
import pytest
from blake3 import blake3

from tests.commands.test_commands import fascis
from tests.judge import contents
from tests.library.making import catalog_at, timeline, write

KEYS = {"lost", "found", "ambiguous", "unfound", "folder_moves", "ties", "applied"}


@pytest.fixture
def weir(bench):
    """Three clips in a folder that is renamed, one that is gone, and one of which there are two."""
    lib, inside = bench.library, bench.drives / "inside"
    for n in range(3):
        write(inside / f"Footage/Day 04/clip {n}.mov", b"f" * (n + 10))
    write(inside / "Sound/boom.wav", b"b" * 40)
    write(inside / "Sound/gone.wav", b"g" * 41)
    targets = [str(inside / f"Footage/Day 04/clip {n}.mov") for n in range(3)]
    write(
        lib / "Feature.otio",
        timeline(*targets, str(inside / "Sound/boom.wav"), str(inside / "Sound/gone.wav")),
    )
    write(lib / "Teaser.otio", timeline(targets[0], targets[0]))
    assert fascis(bench, "survey", lib)[0] == 0
    (inside / "Footage/Day 04").rename(inside / "Footage/Day 04, weir")
    (inside / "Sound/boom.wav").unlink()
    (inside / "Sound/gone.wav").unlink()
    write(inside / "one/boom.wav", b"B" * 40)
    write(inside / "two/boom.wav", b"b" * 40)
    return lib


def test_ties_are_proposed_and_nothing_is_written(bench, weir):
    inside, before = bench.drives / "inside", contents(weir)
    status, said, err = fascis(bench, "relink", weir, "--search", inside, "--json")
    assert status == 1 and set(said) >= KEYS, err
    assert (said["lost"], said["found"], said["ambiguous"], said["unfound"], said["applied"]) == (
        5,
        3,
        1,
        1,
        False,
    )
    (move,) = said["folder_moves"]
    assert (move["from"], move["to"]) == (
        str(inside / "Footage/Day 04"),
        str(inside / "Footage/Day 04, weir"),
    )
    assert move["references"] == 5 and move["certain"]
    ties = {os.path.basename(t["lost"]): t for t in said["ties"]}
    assert set(ties["clip 0.mov"]) >= {"document", "lost", "found", "basis", "candidates"}
    assert ties["clip 1.mov"]["found"] == str(inside / "Footage/Day 04, weir/clip 1.mov")
    assert (
        ties["clip 1.mov"]["basis"] == "name+size"
        and ties["clip 0.mov"]["document"] == "Feature.otio"
    )
    assert ties["boom.wav"]["found"] is None
    assert sorted(ties["boom.wav"]["candidates"]) == [
        str(inside / "one/boom.wav"),
        str(inside / "two/boom.wav"),
    ]
    assert said["unfound_files"] == [str(inside / "Sound/gone.wav")] and contents(weir) == before
    status, words, _ = fascis(bench, "relink", weir, "--search", inside)
    assert status == 1


def test_applied_and_undone(bench, weir):
    inside, before = bench.drives / "inside", contents(weir)
    status, said, err = fascis(bench, "relink", weir, "--search", inside, "--apply", "--json")
    assert (status, said["applied"], said["documents"]) == (
        1,
        True,
        ["Feature.otio", "Teaser.otio"],
    ), err
    urls = [
        c.media_reference.target_url
        for c in otio.adapters.read_from_file(str(weir / "Feature.otio")).find_clips()
    ]
    assert urls[:3] == [str(inside / f"Footage/Day 04, weir/clip {n}.mov") for n in range(3)]
    assert urls[3:] == [str(inside / "Sound/boom.wav"), str(inside / "Sound/gone.wav")], (
        "undecided ones stay as they are"
    )
    status, found, _ = fascis(bench, "survey", weir, "--json")
    assert (found["standing"]["loose"]["files"], found["standing"]["missing"]["files"]) == (3, 2)
    status, undone, _ = fascis(bench, "undo", said["act"][:8], "--json")
    assert (status, undone["state"]) == (0, "undone") and contents(weir) == before
    _, again, _ = fascis(bench, "relink", weir, "--search", inside, "--json")
    assert {t["basis"] for t in again["ties"]} == {"name+size"}, (
        "what was known of lost files is known again"
    )
    assert fascis(bench, "undo", said["act"][:8], "--json")[0] == 3


def test_a_file_is_located_and_moves_are_accepted_or_refused(bench, weir):
    inside = bench.drives / "inside"
    status, said, _ = fascis(
        bench,
        "relink",
        weir,
        "--search",
        inside,
        "--locate",
        f"boom.wav={inside}/two/boom.wav",
        "--json",
    )
    assert (said["found"], said["ambiguous"]) == (4, 0)
    refused = f"{inside}/Footage/Day 04={inside}/Footage/Day 04, weir"
    status, said, _ = fascis(
        bench, "relink", weir, "--search", inside, "--refuse", refused, "--apply", "--json"
    )
    assert (status, said["found"], said["ambiguous"], said["applied"]) == (1, 0, 4, False)
    status, said, _ = fascis(
        bench, "relink", weir, "--search", inside, "--accept", refused, "--json"
    )
    assert said["found"] == 3


@pytest.mark.parametrize(
    ("words", "sentence"),
    [
        ((), "Name a folder to look in"),
        (("--search", "nowhere"), "There is no folder"),
        (("--search", ".", "--accept", "a"), "is not OLD=NEW"),
        (("--search", ".", "--locate", "none.mov=/a.mov"), "names no lost file"),
        (
            ("--search", ".", "--locate", "boom.wav=/nowhere/boom.wav", "--apply"),
            "There is no file /nowhere/boom.wav",
        ),
    ],
)
def test_words_that_make_no_sense(bench, weir, words, sentence):
    before = contents(weir)
    status, said, _ = fascis(bench, "relink", weir, *words, "--json")
    assert status == 2 and sentence in said["error"] and contents(weir) == before


def test_a_document_that_cannot_be_written_refuses_all(bench, weir):
    (weir / "Teaser.otio").chmod(0o444)
    before = contents(weir)
    status, said, _ = fascis(
        bench, "relink", weir, "--search", bench.drives / "inside", "--apply", "--json"
    )
    assert (status, said["applied"]) == (3, False) and contents(weir) == before
    assert (
        said["problems"][0]["code"] == "document-protected"
        and "Teaser.otio" in said["problems"][0]["sentence"]
    )


def test_only_the_copy_of_a_crossing_is_relinked(bench, weir):
    inside = bench.drives / "inside"
    before, outside = contents(weir), contents(inside / "Footage")
    status, said, err = fascis(
        bench,
        "relocate",
        weir,
        "--to",
        bench.heron,
        "--search",
        inside,
        "--after",
        "copy",
        "--yes",
        "--json",
    )
    assert (said["state"], said["gathered_files"]) == ("settled", 3), err
    there = said["to"][0]
    urls = [
        c.media_reference.target_url
        for c in otio.adapters.read_from_file(there + "/Feature.otio").find_clips()
    ]
    assert all((bench.heron / "The Weir" / u).is_file() for u in urls[:3]), urls
    assert contents(weir) == before and contents(inside / "Footage") == outside
    status, said, err = fascis(
        bench, "relocate", weir, "--to", bench.heron, "--name", "Two", "--no-gather", "--search",
        inside, "--after", "copy", "--yes", "--json",
    )  # fmt: skip
    urls = [
        c.media_reference.target_url
        for c in otio.adapters.read_from_file(said["to"][0] + "/Feature.otio").find_clips()
    ]
    assert urls[:3] == [str(inside / f"Footage/Day 04, weir/clip {n}.mov") for n in range(3)], (
        "they stay outside"
    )


def test_a_catalog_knows_its_photos_by_size_digest_and_capture_time(bench):
    inside, lib = bench.drives / "inside", bench.library
    photos = {f"IMG_{n:04d}.jpg": b"p%d" % n * 300 for n in range(6)}
    for name, content in photos.items():
        write(inside / f"Photos, all/{name}", content)
        write(inside / f"Other card/{name}", b"x" * len(content))
    path = catalog_at(
        lib / "Bell.fascat", [("uuid-inside", "Photos")], [(1, 1, "")], [(1, n) for n in photos]
    )
    with sqlite3.connect(path) as db:
        for name, content in photos.items():
            db.execute(
                "UPDATE photo SET size_bytes=?, blake3=? WHERE file_name=?",
                (len(content), blake3(content).hexdigest(), name),
            )
    db.close()
    status, said, err = fascis(bench, "relink", path, "--search", inside, "--apply", "--json")
    assert (status, said["found"], {t["basis"] for t in said["ties"]}) == (0, 6, {"digest"}), err
    with sqlite3.connect(path) as db:
        assert db.execute("SELECT drive_uuid, path FROM place").fetchall() == [
            ("uuid-inside", "Photos, all")
        ]
    db.close()
    assert fascis(bench, "relink", path, "--search", inside, "--json")[1]["lost"] == 0


def test_places_in_the_library_are_distinguished_from_its_folder(bench):
    lib = bench.library
    for n in range(3):
        write(lib / f"media/Day 1/clip {n}.mov", b"f" * (n + 10))
    write(lib / "Feature.otio", timeline(*(f"media/Day 1/clip {n}.mov" for n in range(3))))
    fascis(bench, "survey", lib)
    (lib / "media/Day 1").rename(lib / "media/Day 01")
    status, said, _ = fascis(
        bench, "relink", lib, "--search", lib, "--refuse", "media/Day 1=media/Day 01", "--json"
    )
    assert (status, said["found"], said["ambiguous"]) == (1, 0, 3)
    status, said, _ = fascis(bench, "relink", lib, "--search", lib, "--apply", "--json")
    assert (said["folder_moves"][0]["from"], said["folder_moves"][0]["to"]) == (
        "media/Day 1",
        "media/Day 01",
    )
    assert (
        said["ties"][0]["lost"] == "media/Day 1/clip 0.mov"
        and said["ties"][0]["found"] == "media/Day 01/clip 0.mov"
    )
    urls = [
        c.media_reference.target_url
        for c in otio.adapters.read_from_file(str(lib / "Feature.otio")).find_clips()
    ]
    assert status == 0 and urls == [f"media/Day 01/clip {n}.mov" for n in range(3)], (
        "relative as they were"
    )
