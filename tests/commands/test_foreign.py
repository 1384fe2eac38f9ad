"""What comes from elsewhere and makes no sense.

Told in a sentence, and nothing else is held up by it.
"""

import json
import os
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

import pytest

from tests.commands.test_commands import fascis
from tests.judge import contents
from tests.library.making import catalog_at, timeline, write


def journals():
    return Path.home() / ".local/state/fascis/crossings"


def crossed(bench, library, *words):
    return fascis(bench, "relocate", library, "--to", bench.heron, *words, "--yes", "--json")


def test_half_a_surrogate_pair_is_not_a_file_s_name(bench, library):
    write(
        library / "cut.otio",
        timeline("media/Day 01/weir_01.mov", "XX.mov").replace(b"XX", b"\\ud83d"),
    )
    status, said, err = fascis(bench, "survey", library, "--json")
    assert status == 0 and said["documents"], err
    status, said, err = crossed(bench, library, "--after", "copy")
    assert said["state"] == "settled" and contents(library) == contents(bench.heron / "The Weir"), (
        err
    )


@pytest.mark.parametrize("target", [b"\\ud83d", b"%ff%00", b"file://[", b"\\u0000", b"x" * 9000])
def test_a_document_beside_that_makes_no_sense_stops_no_release(bench, library, target):
    write(library.parent / "beside.otio", timeline("XX.mov").replace(b"XX", target))
    write(library.parent / "deep.otio", b'{"OTIO_SCHEMA": "Timeline.1", "tracks":' + b"[" * 100_000)
    write(library.parent / "odd.m3u8", b"\xff\xfe" + target)
    before = contents(library)
    status, said, err = crossed(bench, library, "--after", "release")
    assert (status, said["state"]) == (0, "released") and "Traceback" not in err, err
    assert (
        contents(bench.heron / "The Weir") == before and (library.parent / "beside.otio").exists()
    )


@pytest.mark.parametrize(
    ("table", "column", "value"),
    [
        ("photo", "blake3", b"\0\xff"),
        ("photo", "size_bytes", "many"),
        ("photo", "captured_at", b"now"),
        ("place", "path", b"Photos"),
        ("place", "path", "Pho\0tos"),
    ],
)
def test_a_catalog_with_values_of_other_types_is_not_understood(bench, table, column, value):
    photos = bench.drives / "inside/Photos"
    write(photos / "a.jpg", b"a" * 500)
    catalog = catalog_at(
        photos / "Bell.fascat", [("uuid-inside", "Photos")], [(1, 1, "")], [(1, "a.jpg")]
    )
    with closing(sqlite3.connect(catalog)) as db, db:
        db.execute(f"UPDATE {table} SET {column}=?", (value,))
    status, said, err = fascis(bench, "survey", photos, "--json")
    assert status == 0 and [d["format"] for d in said["documents"]] == ["not understood"], err
    assert "Traceback" not in err and (photos / "a.jpg").read_bytes() == b"a" * 500


@pytest.mark.parametrize(
    "content",
    [
        b'"' + b"x" * 200_000 + b'"\r\n',
        b"path,path_encoding,size_bytes,mtime_ns,blake3,role\r\na.mov,,%d,0,,other\r\n" % (1 << 70),
    ],
)
def test_a_foreign_inventory_stops_no_survey(bench, library, content):
    write(library / "cut.otio", timeline("lost.mov"))
    write(library / ".fascis/inventory.csv", content)
    before = contents(library)
    status, said, err = fascis(bench, "survey", library, "--json")
    assert status == 0 and said["library"]["name"] == "The Weir" and "Traceback" not in err
    assert contents(library) == before


def test_an_identity_with_thousands_of_patterns_is_refused_at_once(bench, library):
    roles = {f"folder {n}*": "proxy" for n in range(1000)}
    home = {"drive": "uuid-inside", "path": "The Weir"}
    identity = {
        "format": 1,
        "library_id": "aaaaaaaa",
        "name": "The Weir",
        "home": home,
        "roles": roles,
    }
    write(library / ".fascis/identity.json", json.dumps(identity).encode())
    status, said, err = fascis(bench, "survey", library, "--json")
    assert status == 0 and said["library"]["library_id"] != "aaaaaaaa" and "Traceback" not in err
    assert (library / "media/Day 01/weir_01.mov").exists()


@pytest.mark.parametrize(
    "key,value", [("state", "nonsense"), ("plan", "[]"), ("plan", '{"name": 3}')]
)
def test_one_journal_of_nonsense_hides_no_other_crossing(bench, library, key, value):
    _, one, _ = crossed(bench, library, "--after", "copy", "--name", "one")
    _, two, _ = crossed(bench, library, "--after", "copy", "--name", "two")
    with closing(sqlite3.connect(journals() / f"{one['crossing']}.sqlite")) as db, db:
        db.execute("UPDATE meta SET value=? WHERE key=?", (value, key))
    status, said, err = fascis(bench, "receipts", "--json")
    assert status == 0 and two["crossing"] in json.dumps(said), err
    assert fascis(bench, "drives", "--json")[0] == 0
    status, said, err = fascis(bench, "resume", "--all", "--json")
    assert status == 0 and said["crossings"] == [] and len(contents(library)) == 10, err


@pytest.mark.parametrize("content", [b"[]", b"[" * 100_000, b"3"])
def test_a_staging_folder_whose_token_is_nonsense_is_not_touched(bench, library, content):
    egret = bench.add_drive("egret", "exfat", faults=[{"kind": "unplugged", "after_bytes": 50_000}])
    _, said, _ = fascis(bench, "relocate", library, "--to", egret, "--yes", "--json")
    bench.add_drive("egret", "exfat")
    staging = next(egret.glob(".fascis-crossing-*"))
    (staging / "crossing.json").write_bytes(content)
    before = contents(staging)
    for command in ("resume", "undo"):
        status, record, err = fascis(bench, command, said["crossing"], "--json")
        assert status != 0 and "Traceback" not in err, record
    assert contents(staging) == before and len(contents(library)) == 10


def deep_tree(folder):
    """Folders one in the other, deeper than calls can be, and than paths can be long."""
    fd = os.open(folder, os.O_RDONLY)
    for _ in range(1_500):
        os.mkdir("d", dir_fd=fd)
        deeper = os.open("d", os.O_RDONLY, dir_fd=fd)
        os.close(fd)
        fd = deeper
    os.close(fd)


def test_a_staging_folder_deeper_than_calls_can_be_is_cleared(bench, library):
    egret = bench.add_drive("egret", "ext4", faults=[{"kind": "unplugged", "after_bytes": 50_000}])
    deep_tree(library)
    _, said, _ = fascis(bench, "relocate", library, "--to", egret, "--yes", "--json")
    bench.add_drive("egret", "ext4")
    status, record, err = fascis(bench, "undo", said["crossing"], "--json")
    assert (status, record["state"]) == (0, "undone"), err
    assert [p.name for p in egret.iterdir()] == ["stand-in.json"] and (
        library / "notes.txt"
    ).exists()
    subprocess.run(["rm", "-rf", library / "d"], check=True)
    assert len(contents(library)) == 10


def test_files_that_somebody_put_into_the_staging_folder_are_set_apart_and_reported(bench, library):
    egret = bench.add_drive("egret", "ext4", faults=[{"kind": "unplugged", "after_bytes": 50_000}])
    _, said, _ = fascis(bench, "relocate", library, "--to", egret, "--yes", "--json")
    bench.add_drive("egret", "ext4")
    staging = next(egret.glob(".fascis-crossing-*"))
    (staging / "library/their notes.txt").write_bytes(b"the only ones")
    deep_tree(staging)
    status, record, err = fascis(bench, "undo", said["crossing"], "--json")
    assert (status, record["state"]) == (0, "undone"), err
    beside = egret / f"The Weir (yours, {said['crossing'][:8]})"
    assert (beside / "their notes.txt").read_bytes() == b"the only ones" and (
        beside / "d/d/d"
    ).is_dir()
    assert not list(egret.glob(".fascis*")) and len(contents(library)) == 10
    _, receipt, _ = fascis(bench, "receipts", said["crossing"], "--json")
    assert {a["path"] for a in receipt["attention"] if "it was kept" in a["meaning"]} == {
        "their notes.txt",
        "d",
    }
    assert str(beside) in err
    subprocess.run(["rm", "-rf", beside / "d"], check=True)


@pytest.mark.parametrize("words", [("survey",), ("relocate", "--yes", "--to")])
def test_what_nobody_expected_is_a_sentence_and_a_report(bench, library, monkeypatch, words):
    def broken(*_args, **_known):
        raise ZeroDivisionError("a mistake of ours")

    monkeypatch.setattr("fascis.crossing.scope.surveyed.find_uses", broken)
    command, *more = words
    status, said, err = fascis(
        bench, command, library, *more, *([bench.heron] if more else []), "--json"
    )
    assert (
        status == 4
        and "did not expect (ZeroDivisionError)" in said["error"]
        and "Traceback" not in err
    )
    log = Path.home() / ".local/state/fascis/fascis.log"
    assert "a mistake of ours" in log.read_text() and log.stat().st_mode & 0o077 == 0
    assert len(contents(library)) == 10 and not list(bench.heron.glob("[!s]*"))
