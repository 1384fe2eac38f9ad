"""``drives``, changed names and updated paths, as a person types it.

Objects, exit statuses, what is written and what is not.
"""

import csv
import fcntl
import os
import shutil
import sqlite3
from contextlib import closing

import opentimelineio as otio

from fascis.demo.timelines import write_catalog
from fascis.drives.care.removal import describe
from tests.commands.test_commands import fascis
from tests.judge import contents
from tests.library.making import timeline, write

CONTRACT = {
    "uuid", "label", "filesystem", "mount", "capacity_bytes", "free_bytes", "block_bytes",
    "transport", "rotational", "read_only", "removable", "connected", "stand_in",
}  # fmt: skip


def test_connected_and_known_drives_with_their_libraries(bench, library):
    assert fascis(bench, "relocate", library, "--to", bench.heron)[0] == 0
    describe(bench.heron, connected=False)
    status, said, err = fascis(bench, "drives", "--json")
    assert status == 0 and all(set(d) >= CONTRACT for d in said["drives"]), err
    heron = next(d for d in said["drives"] if d["label"] == "heron")
    assert (heron["state"], heron["connected"]) == ("away", False) and heron["last_seen"]
    assert [(x["name"], x["standing"]) for x in heron["libraries"]] == [("The Weir", "home")]
    inside = next(d for d in said["drives"] if d["label"] == "inside")
    assert inside["rules_known_by"] == "certain" and "two files" in " ".join(inside["rules"])
    shutil.rmtree(bench.heron)  # not even its folder is there any more: it keeps its shelf
    _, said, _ = fascis(bench, "drives", "--json")
    assert [d["state"] for d in said["drives"] if d["label"] == "heron"] == ["away"]


def test_one_drive_is_measured_prepared_and_removed(bench, library):
    status, said, err = fascis(
        bench, "drives", "heron", "--measure", "--make-folder", "--folder", "Films", "--json"
    )
    assert (
        status == 0
        and said["measured"]["write_mb_s"] > 0
        and said["folder"] == str(bench.heron / "Films")
    ), err
    assert [d["label"] for d in said["drives"]] == ["heron"] and said["drives"][0][
        "rules_known_by"
    ] == "asked"
    assert sorted(p.name for p in bench.heron.iterdir()) == ["Films", "stand-in.json"]
    status, said, _ = fascis(bench, "drives", "uuid-heron", "--remove", "--json")
    assert status == 0 and said["removed"] == "off" and said["drives"][0]["state"] == "away"
    for words in (["--remove"], ["--mount"], ["--measure"], ["--make-folder"]):
        assert fascis(bench, "drives", "heron", *words, "--json")[0] == 3
    for words in (["nosuch"], ["--measure"], ["--suits", bench.root / "nowhere"]):
        status, said, _ = fascis(bench, "drives", *words, "--json")
        assert status == 2 and said["error"]
    assert len(contents(library)) == 10


def test_a_drive_that_takes_part_is_not_removed(bench, library):
    assert fascis(bench, "relocate", library, "--to", bench.heron, "--later")[0] == 0
    with_lock = os.open(library, os.O_RDONLY)
    try:
        fcntl.flock(with_lock, fcntl.LOCK_EX)  # as the program has it that runs the crossing
        status, said, err = fascis(bench, "drives", "heron", "--remove", "--json")
        assert status == 3 and "takes part in the crossing of The Weir" in said["error"], err
        assert bench.again().drives.at(bench.heron).connected
    finally:
        os.close(with_lock)
    assert fascis(bench, "drives", "heron", "--remove")[0] == 0
    assert not bench.again().drives.at(bench.heron).connected and len(contents(library)) == 10


def test_which_file_systems_would_suit(bench, library):
    write(library / "media/what?.mov", b"1")
    status, said, _ = fascis(bench, "drives", "--suits", library, "--json")
    verdicts = {f["filesystem"]: f["verdict"] for f in said["file_systems"]}
    assert (
        status == 0
        and verdicts["ext4"] == "holds it as it is"
        and verdicts["exfat"] == "holds it, with decisions"
    )
    assert len(contents(library)) == 11


def test_names_are_kept_apart_by_consent_only_and_reported_in_the_inventory(bench, library):
    write(library / "media/what?.mov", b"1")
    write(library / "NOTES.txt", b"2")
    write(library / "cut.otio", timeline("media/what?.mov"))
    to, before = bench.add_drive("stick", "exfat"), contents(library)
    status, dry, err = fascis(bench, "relocate", library, "--to", to, "--dry-run", "--json")
    assert status == 0 and "the rules of exFAT" in err
    assert {"name-not-possible", "names-become-one", "rules-assumed"} <= {
        p["code"] for p in dry["problems"]
    }
    status, refused, _ = fascis(bench, "relocate", library, "--to", to, "--json")
    assert status == 3 and refused["state"] == "refused" and not (to / "The Weir").exists()
    status, done, err = fascis(bench, "relocate", library, "--to", to, "--yes", "--json")
    assert (status, done["state"], done["verified_files"]) == (0, "switched", 13), err
    copy = to / "The Weir"
    with open(copy / ".fascis/inventory.csv", newline="") as out:
        before_of = {r["path"]: r["path_before"] for r in csv.DictReader(out) if r["path_before"]}
    assert before_of == {"media/what_.mov": "media/what?.mov", "notes (2).txt": "notes.txt"}
    (clip,) = otio.adapters.read_from_file(str(copy / "cut.otio")).find_clips()
    assert (copy / clip.media_reference.target_url).read_bytes() == b"1" and contents(
        library
    ) == before
    assert fascis(bench, "verify", copy, "--json")[1]["matching"] == 13


def test_what_clashes_is_left_out_on_request_and_stays(bench, library):
    write(library / "media/what?.mov", b"1")
    to = bench.add_drive("stick", "exfat")
    words = ["--leave-out", "clashing", "--after", "release", "--yes", "--json"]
    status, done, err = fascis(bench, "relocate", library, "--to", to, *words)
    assert (status, done["state"]) == (0, "released"), err
    assert done["left_behind"] == [{"path": "media/what?.mov", "why": "left-out"}]
    assert set(contents(library)) == {b"media/what?.mov"} and len(contents(to / "The Weir")) == 10
    status, said, _ = fascis(
        bench, "relocate", library, "--to", to, "--leave-out", "nonsense", "--json"
    )
    assert status == 2 and "clashing" in said["error"]


def test_paths_that_lead_to_where_a_drive_was_are_updated_and_undone(bench):
    media = bench.heron / "Footage"
    for n in range(3):
        write(media / f"clip {n}.mov", b"f" * (n + 10))
    cut = bench.library / "cut.otio"
    write(cut, timeline(*(str(media / f"clip {n}.mov") for n in range(3))))
    assert fascis(bench, "survey", bench.library)[0] == 0
    before = cut.read_bytes()
    os.rename(bench.heron, bench.drives / "elsewhere")
    _, _, err = fascis(bench, "drives")
    assert "known again" in err and "--returned" in err
    status, found, _ = fascis(bench, "survey", bench.library, "--json")
    assert (
        status == 0 and found["standing"]["loose"]["files"] == 3
    )  # Fascis follows them all the same
    status, said, err = fascis(bench, "relink", bench.library, "--returned", "--json")
    assert (status, said["lost"], said["found"], said["applied"]) == (
        0,
        3,
        3,
        False,
    ) and cut.read_bytes() == before, err
    status, said, err = fascis(bench, "relink", bench.library, "--returned", "--apply", "--json")
    assert (status, said["documents"]) == (0, ["cut.otio"]), (err, said)
    act = said["act"]
    assert said["folder_moves"][0]["from"] == str(bench.drives / "heron")
    urls = [
        c.media_reference.target_url for c in otio.adapters.read_from_file(str(cut)).find_clips()
    ]
    assert all(os.path.isfile(bench.library / u) for u in urls)
    status, said, err = fascis(bench, "relink", bench.library, "--returned", "--json")
    assert status == 0 and said["lost"] == 0 and "No path of its documents" in err
    status, _, err = fascis(bench, "undo", act)
    assert status == 0 and cut.read_bytes() == before, err


def test_a_catalog_s_absolute_place_is_followed_at_once_and_made_the_drive_s(bench):
    folder = bench.heron / "Pictures/otters"
    for n in range(4):
        write(folder / f"o_{n}.jpg", b"j" * (30 + n))
    catalog = bench.library / "all.fascat"
    write(bench.library / "x.jpg", b"x")
    write_catalog(
        catalog, [(None, str(bench.heron / "Pictures"), "otters", [f"o_{n}.jpg" for n in range(4)])]
    )
    assert fascis(bench, "survey", bench.library)[0] == 0
    os.rename(bench.heron, bench.drives / "elsewhere")
    _, found, _ = fascis(bench, "survey", bench.library, "--json")
    assert found["standing"]["loose"]["files"] == 4 and found["standing"]["missing"]["files"] == 0
    status, said, err = fascis(bench, "relink", bench.library, "--returned", "--apply", "--json")
    assert (status, said["found"], said["documents"]) == (0, 4, ["all.fascat"]), err
    with closing(sqlite3.connect(catalog)) as db:
        assert db.execute("SELECT drive_uuid, path FROM place").fetchall() == [
            ("uuid-heron", "Pictures")
        ]
        assert db.execute("SELECT count(*) FROM photo").fetchall() == [(4,)]


def test_something_new_at_the_old_place_is_reported(bench, library):
    assert (
        fascis(bench, "relocate", library, "--to", bench.heron, "--after", "release", "--yes")[0]
        == 0
    )
    library.mkdir()
    (library / "untitled.mov").write_bytes(b"new")
    status, _, err = fascis(bench, "drives")
    assert (
        status == 0
        and "There is something new at the old place" in err
        and (library / "untitled.mov").read_bytes() == b"new"
    )
