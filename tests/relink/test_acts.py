"""Relinking where a library lies.

Only targets change, whole or not at all, and one undo brings every byte back.
"""

import fcntl
import os
import sqlite3
from contextlib import closing, nullcontext, suppress

import opentimelineio as otio
import pytest

from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.files.disk.medium import PosixFile
from fascis.files.errors import EnvironmentTrouble, Refused
from fascis.library import replacing
from fascis.library.standing import Standing
from fascis.relink.acts import Acts, acts_of
from fascis.relink.contents import Contents
from fascis.relink.index import look_in
from fascis.relink.outcome import State
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import catalog_at, open_by_another, timeline, write
from tests.thorough import STRIDE

XSPF = (
    '<?xml version="1.0"?><playlist version="1" '
    'xmlns="http://xspf.org/ns/0/"><trackList><track><location>{}</location><duration>9</duration></track></trackList></playlist>'
)


class Killed(BaseException):
    """The program ends here."""


@pytest.fixture
def weir(bench):
    """A library whose footage, music and photos are outside, in folders then renamed."""
    lib, inside = bench.library, bench.drives / "inside"
    for n in range(4):
        write(inside / f"Footage/Day 04/clip {n}.mov", b"f" * (n + 10))
        write(inside / f"Photos/herons/heron_{n}.jpg", b"p" * (n + 50))
        write(inside / f"Photos/salmon/salmon_{n}.jpg", b"s" * (n + 70))
    write(inside / "Music/theme é.wav", b"m" * 30)
    write(lib / "media/held.mov", b"h" * 5)
    paths = [str(inside / f"Footage/Day 04/clip {n}.mov") for n in range(4)]
    write(
        lib / "Feature.otio",
        timeline(
            paths[0],
            "media/held.mov",
            "../Footage/Day 04/clip 1.mov",
            (inside / "Footage/Day 04/clip 2.mov").as_uri(),
        ),
    )
    write(lib / "cut/Teaser.otio", timeline(paths[3], paths[0]))
    write(lib / "list.m3u8", f"#EXTM3U\n#EXTINF:9,x\n{paths[1]}\n".encode())
    write(lib / "list.xspf", XSPF.format((inside / "Music/theme é.wav").as_uri()).encode())
    write(
        lib / "cut.edl",
        "TITLE: cut\n001  AX V C 00:00:00:00 00:00:01:00 00:00:00:00 00:00:01:00\n* SOURCE "
        f"FILE: {paths[2]}\n".encode(),
    )
    catalog_at(
        lib / "Bell.fascat",
        [("uuid-inside", "Photos")],
        [(1, 1, "herons"), (2, 1, "salmon")],
        # fmt: skip
        [(1, f"heron_{n}.jpg") for n in range(4)] + [(2, f"salmon_{n}.jpg") for n in range(4)],
    )
    (lib / "theme.wav").symlink_to(inside / "Music/theme é.wav")
    remember(bench.workspace, survey_library(bench.workspace, lib))
    (inside / "Footage/Day 04").rename(inside / "Footage/Day 04, weir")
    (inside / "Photos/herons").rename(inside / "Photos/grey herons")
    write(inside / "Photos/salmon, run/.keep", b"")
    for n in range(2):  # a part of the folder only
        (inside / f"Photos/salmon/salmon_{n}.jpg").rename(
            inside / f"Photos/salmon, run/salmon_{n}.jpg"
        )
    (inside / "Music").rename(inside / "Scores")
    return lib


def look(bench):
    surveyed = survey_library(bench.workspace, bench.library)
    relinking = surveyed.relinking(bench.workspace)
    return surveyed, relinking, relinking.match(look_in([bench.drives / "inside"]), Contents())


def apply(bench, acts=None):
    surveyed, relinking, found = look(bench)
    assert found.files(State.FOUND) == found.files(*State) > 0
    return (acts or acts_of(bench.workspace)).apply(
        "id", surveyed.name, bench.library, relinking.files, relinking.retargets(found)
    )


def rows(path, table):
    with closing(sqlite3.connect(path)) as db:
        return db.execute(f"SELECT * FROM {table} ORDER BY 1").fetchall()


def lost(bench):
    return survey_library(bench.workspace, bench.library).uses.of(Standing.MISSING)


def test_every_format_is_relinked_and_one_undo_brings_all_back(bench, weir):
    before, beside = contents(weir), contents(bench.drives / "inside/Photos")
    times = {p: p.stat().st_mtime_ns for p in weir.rglob("*") if p.is_file() and not p.is_symlink()}
    act = apply(bench)
    assert not lost(bench) and len(act.documents) == 7 and act.state == "done"
    targets = [
        c.media_reference.target_url
        for c in otio.adapters.read_from_file(str(weir / "Feature.otio")).find_clips()
    ]
    new = bench.drives / "inside/Footage/Day 04, weir"
    assert targets == [
        str(new / "clip 0.mov"),
        "media/held.mov",
        "../Footage/Day 04, weir/clip 1.mov",
        (new / "clip 2.mov").as_uri().replace("%2C", ","),
    ]
    assert f"* SOURCE FILE: {new}/clip 2.mov\n" in (weir / "cut.edl").read_text()
    assert os.readlink(weir / "theme.wav") == str(bench.drives / "inside/Scores/theme é.wav")
    kept = [p for p in contents(weir) if b".before-" in p]
    assert {p.rpartition(b".before-")[0]: contents(weir)[p] for p in kept} == {
        p: before[p] for p in before if p != b"media/held.mov"
    }
    assert contents(bench.drives / "inside/Photos") == beside, "what is referred to is only read"
    undone = acts_of(bench.workspace).undo(act.id)
    assert undone.state == "undone" and contents(weir) == before
    assert {p: p.stat().st_mtime_ns for p in times} == times
    with pytest.raises(Refused, match="undone already"):
        acts_of(bench.workspace).undo(act.id)


def test_only_the_bytes_of_targets_differ(bench, weir):
    before = (weir / "Feature.otio").read_bytes()
    apply(bench)
    now = (weir / "Feature.otio").read_bytes()
    assert (
        now.replace(b"Day 04, weir", b"Day 04").replace(b"Day%2004,%20weir", b"Day%2004") == before
    )


def test_a_moved_folder_of_a_catalog_changes_its_row_and_a_part_of_one_its_photos(bench, weir):
    catalog = weir / "Bell.fascat"
    before = {
        t: rows(catalog, t)
        for t in ("meta", "keyword", "photo_keyword", "adjustment", "preview", "album")
    }
    photos = rows(catalog, "photo")
    apply(bench)
    assert {t: rows(catalog, t) for t in before} == before
    folders = {f: (p, path) for f, p, path in rows(catalog, "folder")}
    assert (
        folders[1] == (1, "grey herons")
        and folders[2] == (1, "salmon")
        and (1, "salmon, run") in folders.values()
    )
    now = rows(catalog, "photo")
    assert [r[:1] + r[2:] for r in now] == [r[:1] + r[2:] for r in photos], (
        "only folders of photos changed"
    )
    assert [r[1] for r in now[:4]] == [1] * 4 and [r[1] for r in now[6:]] == [2, 2]
    assert folders[now[4][1]] == folders[now[5][1]] == (1, "salmon, run")


def test_interrupted_at_every_step_nothing_is_lost_and_the_next_start_restores_all(bench, weir):
    before, steps = contents(weir), []
    bench.step = steps.append
    act = apply(bench)
    acts_of(bench.workspace).undo(act.id)
    points = len(steps)
    assert points > 20
    for point in range(0, points, STRIDE):
        seen = []

        def killed(name, seen=seen, point=point):
            seen.append(name)
            if len(seen) > point:
                raise Killed(name)

        def until_killed():
            done = apply(bench)
            acts_of(bench.workspace).undo(done.id)

        bench.step = killed
        with pytest.raises(Killed), pytest.MonkeyPatch.context() as patch:
            if point < points // 2:  # while it applies: a kill runs no handler
                patch.setattr(Acts, "_take_back", lambda self, act: None)
            until_killed()
        bench.step = lambda _name: None
        now = contents(weir)
        assert all(
            any(c == before[p] for q, c in now.items() if q == p or q.startswith(p + b".before-"))
            for p in before
        ), seen
        acts_of(bench.again()).recover()
        left = acts_of(bench.workspace).all()
        done = [a for a in left if a.state == "done"]
        for one in done:  # it was whole already
            acts_of(bench.workspace).undo(one.id)
        assert contents(weir) == before, seen


def test_a_document_that_changed_since_refuses_and_nothing_is_written(bench, weir):
    surveyed, relinking, found = look(bench)
    write(weir / "cut/Teaser.otio", timeline("x.mov"))
    before = contents(weir)
    with pytest.raises(
        Refused,
        match=r"Teaser.otio changed since it was looked at; look again. Nothing was changed",
    ):
        acts_of(bench.workspace).apply(
            "id", surveyed.name, bench.library, 1, relinking.retargets(found)
        )
    assert contents(weir) == before and not acts_of(bench.workspace).all()


@pytest.mark.parametrize("bad", ["read-only", "open", "journal", "catalog changed"])
def test_a_document_that_cannot_be_touched_refuses_all(bench, weir, bad):
    surveyed, relinking, found = look(bench)
    words = {"read-only": "Feature.otio may not be written", "open": "has Feature.otio open",
        "journal": "Bell.fascat-wal lies beside",
             "catalog changed": "Bell.fascat changed since"}  # fmt: skip
    if bad == "read-only":
        (weir / "Feature.otio").chmod(0o444)
    elif bad == "journal":
        write(weir / "Bell.fascat-wal", b"")
    elif bad == "catalog changed":
        os.utime(weir / "Bell.fascat")
    before = contents(weir)
    with (
        open_by_another(weir / "Feature.otio") if bad == "open" else nullcontext(),
        pytest.raises(Refused, match=words[bad]),
    ):
        acts_of(bench.workspace).apply(
            "id", surveyed.name, bench.library, 1, relinking.retargets(found)
        )
    assert contents(weir) == before


@pytest.mark.parametrize("call", range(1, 8))
def test_a_full_disk_leaves_the_old_documents_and_nothing_else(bench, weir, monkeypatch, call):
    before, calls, write_ = contents(weir), [], PosixFile.write

    def full(self, content):
        calls.append(1)
        if len(calls) == call:
            raise OSError(28, "No space left on device")
        write_(self, content)

    monkeypatch.setattr(PosixFile, "write", full)
    with suppress(EnvironmentTrouble):
        done = apply(bench)
        assert call > 6, "there are six files to be written"
        monkeypatch.undo()
        acts_of(bench.workspace).undo(done.id)
    assert contents(weir) == before
    assert all(a.state == "undone" for a in acts_of(bench.workspace).all())


def test_a_document_that_was_worked_in_since_is_not_undone(bench, weir):
    act = apply(bench)
    write(weir / "cut/Teaser.otio", timeline("new work.mov"))
    before = contents(weir)
    with pytest.raises(
        Refused, match=r"worked in since .* as it was before, it is Teaser.otio.before-"
    ):
        acts_of(bench.workspace).undo(act.id)
    assert contents(weir) == before


def test_a_drive_that_cannot_swap_in_one_step(bench, weir, monkeypatch):
    def refuse(*_):
        raise OSError(22, "Invalid argument")

    before = contents(weir)
    monkeypatch.setattr(replacing.kernel, "rename_exchange", refuse)
    act = apply(bench)
    assert not lost(bench)
    assert acts_of(bench.workspace).undo(act.id).state == "undone" and contents(weir) == before


def test_a_library_that_crosses_is_left_alone(bench, weir):
    before = contents(weir)
    fd = os.open(weir, os.O_RDONLY)
    fcntl.flock(fd, fcntl.LOCK_EX)
    with pytest.raises(Refused, match="A crossing of The Weir is running"):
        apply(bench)
    os.close(fd)
    assert contents(weir) == before


def test_two_at_once_are_refused_and_a_damaged_record_is_left_alone(bench, weir):
    acts = acts_of(bench.workspace)
    with acts._alone(), pytest.raises(Refused, match="Another window relinks just now"):
        apply(bench)
    write(bench.root / "state/relinks/00.json", b"{")
    act = apply(bench)
    assert (
        [a.id for a in acts.all()] == [act.id]
        and acts.latest("id") == act
        and acts.find(act.id[:3]) is None
    )
    assert (bench.root / "state/relinks/00.json").read_bytes() == b"{"


@pytest.mark.parametrize("filesystem", ["exfat", "ext4"])
def test_on_a_real_drive_and_when_it_is_full(bench, mounted, filesystem):
    """On exFAT the drive refuses to swap at once; a full drive leaves everything unchanged."""
    workspace, drive = real(bench).workspace, mounted(filesystem, 40)
    lib = drive / "The Weir"
    for n in range(3):
        write(drive / f"Day 04/clip {n}.mov", b"f" * (n + 9))
    targets = [str(drive / f"Day 04/clip {n}.mov") for n in range(3)]
    write(lib / "Feature.otio", timeline(*targets * 200))
    write(lib / "Teaser.otio", timeline(*targets))
    remember(workspace, survey_library(workspace, lib))
    (drive / "Day 04").rename(drive / "Day 04, weir")
    before = contents(lib)

    def act():
        surveyed = survey_library(workspace, lib)
        relinking = surveyed.relinking(workspace)
        found = relinking.match(look_in([drive]), Contents())
        return acts_of(workspace).apply("id", surveyed.name, lib, 3, relinking.retargets(found))

    full = os.open(drive / "fills it", os.O_WRONLY | os.O_CREAT)
    for size in (1 << 20, 4096):
        with suppress(OSError):
            while True:
                os.write(full, b"x" * size)
    os.close(full)
    with pytest.raises(EnvironmentTrouble, match="the drive is full"):
        act()
    assert contents(lib) == before, "the old documents, and nothing else"
    (drive / "fills it").unlink()
    done = act()
    assert not survey_library(workspace, lib).uses.of(Standing.MISSING)
    acts_of(workspace).undo(done.id)
    assert contents(lib) == before


def test_names_that_differ_where_they_are_cut_are_kept_apart():
    from fascis.library.replacing import is_kept, kept_name

    one, other = (b"n" * 240 + end + b".otio" for end in (b"1", b"2"))
    kept = [kept_name(name, "a" * 32) for name in (one, other, b"short.otio")]
    assert len(set(kept)) == 3 and all(len(k) + len(b".old") <= 255 and is_kept(k) for k in kept)
    assert kept[2] == b"short.otio.before-aaaaaaaa"
