"""Bring back: a library returns to where it was, and its documents are what they were there."""

import os
from contextlib import suppress

import pytest

from fascis.copies.bringing_back import plan_bringing_back, way_back
from fascis.crossing.arrival.landing.updated_copy import EARLIER_FOLDER
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.status.queue import all_crossings
from tests.commands.test_commands import fascis
from tests.conftest import Bench
from tests.copies.test_update import _all, begin, fill
from tests.crossing.test_crash_points import Killed, Killer
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import timeline, write
from tests.thorough import STRIDE
from tests.worlds import oracle

DOCUMENTS = ("cut.otio", "stays.otio", "absolute.otio")


def away(bench, after, *more, where=None):
    """A library that crossed, and the earlier content of every file."""
    lib = fill(bench)
    write(lib / "absolute.otio", timeline(str(lib / "media/b.mov")))
    before = contents(lib)
    words = ("--to", where or bench.heron, "--after", after, "--yes", "--json")
    status, said, err = fascis(bench, "relocate", lib, *words, *more)
    assert status == 0, err
    return lib, (where or bench.heron) / lib.name, before, said


def only(found, *names):
    return {p: c for p, c in found.items() if p.decode() in names}


@pytest.mark.parametrize("after", ["park", "release"])
def test_documents_are_byte_for_byte_what_they_were(bench, after):
    lib, there, before, said = away(bench, after)
    assert not lib.exists() or after == "park"
    assert (there / "absolute.otio").read_bytes() not in _all(lib)
    status, back, err = fascis(bench, "bring-back", there, "--after", "release", "--yes", "--json")
    assert (status, back["state"]) == (0, "released"), err
    mine = contents(lib)
    assert {p: mine.get(p) for p in before} == before
    assert not there.exists(), "what stood on the drive was released"
    status, verified, _ = fascis(bench, "verify", lib, "--json")
    assert (status, verified["unlisted"]) == (0, [])
    (known,) = fascis(bench, "libraries", "--json")[1]["libraries"]
    assert known["home"]["path"] == str(lib)
    aside = [bench.drives / "inside" / p for p in os.listdir(lib.parent) if "set aside" in p]
    assert len(aside) == (after == "park")


def test_an_edited_document_is_rewritten_and_plays_what_it_played(bench):
    lib, there, before, _ = away(bench, "release")
    media = [str(there / "media/c.mov"), str(there / "media/b.mov")]
    write(there / "absolute.otio", timeline(*media))
    status, _, err = fascis(bench, "bring-back", there.name, "--json")
    assert status == 0, err
    assert only(contents(lib), "cut.otio") == only(before, "cut.otio")
    assert b"heron" not in (lib / "absolute.otio").read_bytes()
    assert oracle.plays(lib / "absolute.otio", {}) == oracle.plays(there / "absolute.otio", {})


def test_a_document_whose_loose_media_is_gone_leads_to_what_was_gathered(bench):
    lib, there, _, _ = away(bench, "release")
    played = oracle.plays(there / "cut.otio", {})
    (bench.drives / "inside/Loose/l.wav").unlink()
    status, _, err = fascis(bench, "bring-back", there, "--json")
    assert status == 0, err
    assert oracle.plays(lib / "cut.otio", {}) == played


@pytest.mark.parametrize("how", ["there", "gone", "another", "edited document"])
def test_gathered_media_goes_back_to_its_loose_place(bench, how):
    lib, there, before, _ = away(bench, "release")
    loose, content = bench.drives / "inside/Loose/l.wav", b"loose" * 90
    gathered = next(there.rglob("l.wav")).relative_to(there)
    played = oracle.plays(there / "cut.otio", {})
    if how != "there":
        loose.unlink()
    if how == "another":
        loose.write_bytes(b"somebody's other")
    if how == "edited document":
        write(there / "cut.otio", timeline("media/c.mov", str(there / gathered)))
        played = oracle.plays(there / "cut.otio", {})
    elsewhere = contents(there)
    status, said, err = fascis(bench, "bring-back", there, "--ungather", "--json")
    assert status == 0, err
    assert oracle.plays(lib / "cut.otio", {}) == played
    if how == "another":
        assert loose.read_bytes() == b"somebody's other" and (lib / gathered).exists()
        assert "stays gathered" in err
    else:
        assert loose.read_bytes() == content and not (lib / gathered).exists()
        assert os.fsencode(loose) in (lib / "cut.otio").read_bytes() or how != "edited document"
    if how in ("there", "gone"):
        assert only(contents(lib), "cut.otio") == only(before, "cut.otio")
    assert contents(there) == elsewhere
    assert not list(loose.parent.glob("*put-back*"))
    assert fascis(bench, "verify", lib, "--json")[0] == 0


def test_interrupted_while_media_is_put_back_it_resumes(bench, monkeypatch):
    lib, there, _, _ = away(bench, "release")
    loose = bench.drives / "inside/Loose/l.wav"
    loose.unlink()
    begun = loose.with_name("l.wav.fascis-put-back")
    begun.write_bytes(b"half of it")
    status, _, err = fascis(bench, "bring-back", there, "--ungather", "--json")
    assert status == 0, err
    assert loose.read_bytes() == b"loose" * 90 and not begun.exists()


def test_what_still_stands_is_adopted_and_what_differs_is_a_decision(bench):
    lib, there, before, said = away(bench, "keep")
    write(there / "media/new.mov", b"made at home" * 50)
    write(lib / "media/c.mov", b"somebody's other version")
    write(lib / "media/mine.mov", b"somebody put it there")
    inode = (lib / "media/b.mov").stat().st_ino
    everything = contents(bench.drives)
    status, refused, _ = fascis(bench, "bring-back", there, "--json")
    assert status == 3 and contents(bench.drives) == everything
    (problem,) = [p for p in refused["problems"] if p["code"] == "name-taken"]
    assert problem["files"] == ["media/c.mov"]
    status, back, err = fascis(bench, "bring-back", said["crossing"], "--yes", "--json")
    assert (status, back["state"]) == (0, "switched"), err
    assert (lib / "media/b.mov").stat().st_ino == inode, "adopted, not copied"
    assert (lib / "media/c.mov").read_bytes() == b"c" * 700
    assert (lib / "media/new.mov").read_bytes() == b"made at home" * 50
    assert (lib / "media/mine.mov").read_bytes() == b"somebody put it there"
    kept = lib / os.fsdecode(EARLIER_FOLDER) / back["crossing"] / "media/c.mov"
    assert kept.read_bytes() == b"somebody's other version"
    documents = only(contents(lib), *DOCUMENTS)
    assert len(documents) == 3 and documents == only(before, *DOCUMENTS)
    # What are originals to the crossing that took it away is home now.
    status, refused, _ = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert status == 3 and any("home again" in p["sentence"] for p in refused["problems"])
    assert contents(lib).keys() >= before.keys()
    status, released, err = fascis(bench, "release", back["crossing"], "--yes", "--json")
    assert (status, released["state"]) == (0, "released"), err
    assert not there.exists() and contents(lib).keys() >= before.keys()
    assert fascis(bench, "verify", lib, "--json")[0] == 0


def test_what_only_looks_equal_is_found_when_it_is_adopted(bench):
    lib, there, _, _ = away(bench, "keep")
    status = (lib / "media/b.mov").stat()
    (lib / "media/b.mov").write_bytes(b"B" * 700)
    os.utime(lib / "media/b.mov", ns=(status.st_atime_ns, status.st_mtime_ns))
    before = contents(bench.drives)
    ended, said, _ = fascis(bench, "bring-back", there, "--yes", "--json")
    assert ended == 4 and "no longer" in said["problems"][0]["sentence"], said
    assert fascis(bench, "undo", said["crossing"], "--json")[0] == 0
    assert contents(bench.drives) == before


@pytest.mark.parametrize("how", ["never crossed", "part", "no parent", "other library", "is there"])
def test_what_cannot_be_brought_back_says_why(bench, how):
    words = ["--only", "media/night", "--name", "Night"] if how == "part" else []
    lib, there, _, _ = away(bench, "copy" if how == "is there" else "keep", *words)
    there = bench.heron / "Night" if how == "part" else there
    if how == "never crossed":
        there = bench.heron / "Other"
        write(there / "x.mov", b"x")
    if how == "other library":
        lib.rename(lib.with_name("moved"))
        write(lib / "y.mov", b"y")
        fascis(bench, "manifest", lib, "--json")
    before = contents(bench.drives)
    given = lib if how == "is there" else there
    to = ("--to", bench.root / "none/there") if how == "no parent" else ()
    status, said, _ = fascis(bench, "bring-back", given, *to, "--yes", "--json")
    assert status in (2, 3) and contents(bench.drives) == before
    assert said.get("error") or said["problems"]


@pytest.mark.parametrize("filesystem", ["btrfs", "exfat", "ntfs"])
def test_on_real_drives(bench, mounted, filesystem):
    where = mounted(filesystem, 120)
    real(bench)
    lib, there, before, _ = away(bench, "keep", where=where)
    (lib / "media/a.mov").unlink()
    status, _, err = fascis(bench, "bring-back", there, "--yes", "--json")
    assert status == 0, err
    mine = contents(lib)
    assert {p: mine.get(p) for p in before} == before


def world(folder, filesystem):
    bench = Bench(folder)
    bench.add_drive("heron", filesystem=filesystem)
    lib = fill(bench)
    crossing = begin(bench, lib, bench.heron)
    crossing.switch()
    crossing.close()
    there = bench.heron / lib.name
    write(there / "media/new.mov", b"new" * 900)
    write(lib / "media/c.mov", b"somebody's other version")
    (lib / "media/a.mov").unlink()
    return bench, lib, there


def brought(bench, there):
    plan, _ = plan_bringing_back(bench.workspace, way_back(bench.workspace, there))
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    try:
        return crossing.run()
    finally:
        crossing.close()


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
@pytest.mark.parametrize("then", ["goes on", "is given up"])
def test_interrupted_at_any_step_nothing_is_lost(tmp_path, filesystem, then):
    """What was given up is as it was, and is interrupted once more at the next point."""
    bench, lib, there = world(tmp_path / "rehearsal", filesystem)
    bench.step = counter = Killer(10**9)
    assert brought(bench, there) is State.SETTLED
    assert counter.passed > 60
    first = {"goes on": 2, "is given up": 6}[then] + (5 if filesystem == "exfat" else 0)
    is_as_it_was = False
    for point in range(first, counter.passed, max(1, STRIDE)):
        if not is_as_it_was:
            bench, lib, there = world(tmp_path / f"at {point}", filesystem)
        before, home, everything = contents(lib), contents(there), _all(lib)
        bench.step = Killer(point)
        with suppress(Killed):
            brought(bench, there)
        bench.step = lambda _name: None
        bench.again()
        assert everything <= _all(lib.parent), point
        found, _ = all_crossings(bench.workspace)
        (crossing,) = [
            c for c in found if c.places.header.restores and c.state is not State.UNDONE
        ] or [None]
        if crossing is None:
            continue
        is_as_it_was = then == "is given up" and not crossing.copies.value("arrived_at")
        if not is_as_it_was:
            assert crossing.run() is State.SETTLED, point
            assert (lib / "media/c.mov").read_bytes() == b"c" * 700
            assert not crossing.home.opened().wrong
        else:
            crossing.undo()
            assert contents(lib) == before, point
            assert not (lib / ".fascis").exists(), point
        for one in found:
            one.close()
        assert contents(there) == home and everything <= _all(lib.parent), point
        assert not list(lib.glob(".fascis-crossing-*")), point
