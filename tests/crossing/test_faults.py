"""Faults during a crossing: a clear sentence, nothing lost, and it resumes."""

import errno
import json
import os
import shutil
import sqlite3
import threading
from contextlib import closing

import pytest

from fascis.crossing.model.events import Advanced
from fascis.crossing.model.notices import Notice
from fascis.crossing.model.states import State
from fascis.crossing.status.queue import find_crossing
from fascis.crossing.status.report import crossing_object, exit_status
from fascis.files.control import Control
from fascis.files.errors import Cancelled, Damaged, DriveFull, DriveGone
from tests.crossing.ways import started, switched
from tests.judge import contents


def mend(bench, name):
    folder = bench.drives / name
    facts = json.loads((folder / "stand-in.json").read_text())
    facts["faults"] = []
    facts["capacity_bytes"] = 400_000_000
    (folder / "stand-in.json").write_text(json.dumps(facts))
    bench.again()


def resumed(bench, crossing):
    id = crossing.id
    crossing.close()
    return find_crossing(bench.workspace, id)


@pytest.mark.parametrize(
    ("fault", "error", "words"),
    [
        ({"kind": "unplugged", "after_bytes": 200_000}, DriveGone, "does not answer"),
        ({"kind": "full", "after_bytes": 200_000}, DriveFull, "the drive is full"),
        ({"kind": "write-error", "name": "salmon.wav"}, DriveGone, "salmon.wav"),
    ],
)
def test_the_destination_fails_halfway(bench, library, fault, error, words):
    bench.add_drive("bad", faults=[fault])
    bench.again()
    crossing = started(bench, to=bench.drives / "bad")
    with pytest.raises(error, match=words):
        crossing.run()
    record = crossing_object(crossing, error("x"))
    assert crossing.state is State.COPYING and exit_status(record) == 4
    assert len(contents(library)) == 10 and not (bench.drives / "bad" / "The Weir").exists()
    mend(bench, "bad")
    again = resumed(bench, crossing)
    assert again.run() is State.SETTLED and contents(again.places.target) == contents(library)


def test_a_bit_flipped_on_the_way_is_found_and_copied_again(bench, library):
    bench.add_drive("bad", faults=[{"kind": "flip", "name": "weir_01.mov", "at": 250_000}])
    bench.again()
    crossing = started(bench, to=bench.drives / "bad")
    assert crossing.run() is State.SETTLED
    assert [
        (p, d) for p, d, m, _ in crossing.journal.attentions() if "read back wrong once" in m
    ] == [(b"media/Day 01/weir_01.mov", "bad")]
    assert contents(crossing.places.target) == contents(library)


def test_a_drive_that_is_unreliable_fails_the_crossing(bench, library):
    bench.add_drive("bad", faults=[{"kind": "flip", "name": "salmon.wav", "at": 7, "times": 3}])
    bench.again()
    crossing = started(bench, to=bench.drives / "bad")
    assert crossing.run() is State.FAILED
    record = crossing_object(crossing)
    assert record["mismatched"] == ["media/Day 02/salmon.wav"] and exit_status(record) == 1
    assert len(contents(library)) == 10 and not crossing.places.target.exists()
    assert crossing.run() is State.SETTLED  # the fault was spent: tried again, it is whole
    assert contents(crossing.places.target) == contents(library)


def test_an_unreadable_file_waits_for_a_decision_and_is_never_released(bench, library):
    crossing = started(bench)
    before = contents(library)
    notes = library / "notes.txt"
    notes.rename(library.parent / "kept")
    os.mkfifo(notes)  # cannot be read as a file, whoever asks
    assert crossing.run() is State.WAITING
    record = crossing_object(crossing)
    assert (
        exit_status(record) == 4
        and record["problems"][0]["files"] == ["notes.txt"]
        and "cannot be read" in record["problems"][0]["sentence"]
    )
    assert record["verified_files"] == 9 and not crossing.places.target.exists()
    assert crossing.run(skip_unreadable=True) is State.SETTLED
    notes.unlink()
    (library.parent / "kept").rename(notes)  # it can be read again; it was still not copied
    crossing.switch()
    left = crossing.release()["left_behind"]
    assert [x["path"] for x in left] == ["notes.txt"] and notes.read_bytes() == b"breach first\n"
    assert set(contents(crossing.places.target)) == set(before) - {b"notes.txt"}


def test_a_file_that_vanishes_is_named(bench, library):
    crossing = started(bench)
    (library / "notes.txt").unlink()
    assert crossing.run() is State.WAITING
    assert list(crossing.hindrances()) == [(b"notes.txt", Notice.VANISHED)]
    assert len(contents(library)) == 9


def test_a_file_that_changed_since_the_plan_is_copied_as_it_is_now(bench, library):
    crossing = started(bench)
    (library / "notes.txt").write_text("a later thought, longer than before")
    assert crossing.run() is State.SETTLED
    assert (crossing.places.target / "notes.txt").read_text().startswith("a later thought")
    assert any("the copy is the newer one" in m for _, _, m, _ in crossing.journal.attentions())


def test_a_file_that_keeps_growing_is_not_taken(bench):
    bench.fill({"log.wav": 40_000_000, "still.jpg": 10})
    crossing = started(bench)
    stop = threading.Event()

    def grow():
        with open(bench.library / "log.wav", "ab") as out:
            while not stop.wait(0.0005):
                out.write(b"more")
                out.flush()

    thread = threading.Thread(target=grow)
    thread.start()
    try:
        state = crossing.run()
    finally:
        stop.set()
        thread.join()
    assert state is State.WAITING and list(crossing.hindrances()) == [(b"log.wav", Notice.CHANGING)]
    assert crossing.run() is State.SETTLED  # it came to rest
    assert contents(crossing.places.target) == contents(bench.library)


def test_stop_and_resume_another_day(bench, library):
    crossing, control = started(bench), Control()

    def stop_at_first(event):
        if isinstance(event, Advanced) and event.verified_files:
            control.stop()

    bench.fill({f"more/{i:03d}.jpg": 3_000 for i in range(400)})
    crossing = started(bench, name="more")
    with pytest.raises(Cancelled):
        crossing.run(control, stop_at_first)
    verified = crossing.copies.verified()[0]
    assert 0 < verified < 410
    copied = []
    assert crossing.run(report=lambda e: copied.append(e)) is State.SETTLED
    again = sum(e.verified_files for e in copied if isinstance(e, Advanced))
    assert again == 410 - verified  # Verified files are not read again.
    assert contents(crossing.places.target) == contents(library)


def test_a_cleared_staging_folder_is_started_again(bench, library):
    bench.add_drive("bad", faults=[{"kind": "unplugged", "after_bytes": 400_000}])
    bench.again()
    crossing = started(bench, to=bench.drives / "bad")
    with pytest.raises(DriveGone):
        crossing.run()
    for staging in (bench.drives / "bad").glob(".fascis-crossing-*"):
        shutil.rmtree(staging)
    mend(bench, "bad")
    again = resumed(bench, crossing)
    assert again.run() is State.SETTLED and contents(again.places.target) == contents(library)


def test_another_drive_at_the_same_place_is_refused(bench, library):
    crossing = started(bench)
    facts = json.loads((bench.heron / "stand-in.json").read_text())
    (bench.heron / "stand-in.json").write_text(
        json.dumps({**facts, "uuid": "somebody-else", "label": "Stray"})
    )
    bench.again()
    again = resumed(bench, crossing)
    with pytest.raises(
        DriveGone, match=r"Another drive \(Stray\) is where heron was. Nothing was written"
    ):
        again.run()
    assert [p.name for p in bench.heron.iterdir()] == ["stand-in.json"] and len(
        contents(library)
    ) == 10


@pytest.mark.parametrize(("spoil", "words"), [("garbage", "damaged"), ("newer", "newer version")])
def test_a_journal_that_cannot_be_used(bench, library, spoil, words):
    crossing = switched(bench)
    path, id = crossing.journal.path, crossing.id
    crossing.close()
    if spoil == "garbage":
        path.write_bytes(b"not a journal" * 500)
    else:
        with sqlite3.connect(path) as db:
            db.execute("PRAGMA user_version=99")
        db.close()
    with pytest.raises(Damaged, match=words):
        find_crossing(bench.workspace, id)
    assert len(contents(library)) == len(contents(bench.heron / "The Weir")) == 10


def test_a_journal_from_before_names_were_kept_apart_resumes(bench, library):
    """Started by an earlier version, interrupted, upgraded when it is opened.

    It arrives, is released, and nothing is lost.
    """
    before = contents(library)
    crossing = started(bench)
    path, id = crossing.journal.path, crossing.id
    crossing.close()
    with closing(sqlite3.connect(path)) as db:
        db.executescript(
            "DROP INDEX folder_there; ALTER TABLE folder DROP COLUMN there; ALTER TABLE entry DROP "
            "COLUMN there;"
            " ALTER TABLE entry DROP COLUMN before; ALTER TABLE copy DROP COLUMN ctime_ns;"
            " ALTER TABLE entry DROP COLUMN stands; DROP TABLE listed;"
            " ALTER TABLE derived DROP COLUMN ctime_ns; PRAGMA user_version=4;"
        )
    again = find_crossing(bench.workspace, id)
    assert again.run() is State.SETTLED and contents(
        bench.heron / "The Weir"
    ) == before == contents(library)
    again.switch()
    again.release()
    assert not library.exists() and contents(bench.heron / "The Weir") == before
    again.close()


def test_why_less_came_free_is_found(bench, library):
    outside = bench.drives / "inside" / "outside name.mov"
    big = library / "media/big.mov"
    big.write_bytes(os.urandom(6_000_000))
    os.link(big, outside)
    crossing = switched(bench)
    record = crossing.release()
    assert any("hard links" in r for r in record["reasons"]), record
    assert (
        outside.stat().st_size == 6_000_000 and contents(crossing.places.target)[b"media/big.mov"]
    )


def test_a_full_destination_names_the_drive_and_the_figures(bench, library):
    bench.add_drive("tiny", capacity=300_000)
    bench.again()
    from tests.crossing.ways import codes, plan_of

    plan = plan_of(bench, to=bench.drives / "tiny")
    assert codes(plan)["not-enough-room"] == "stops"
    assert any("Free on tiny" in p.sentence and "Needed" in p.sentence for p in plan.problems)


def test_the_errno_table():
    from fascis.files.errors import EnvironmentTrouble, NotPermitted, told

    for number, kind in (
        (errno.ENOSPC, DriveFull),
        (errno.EIO, DriveGone),
        (errno.ENODEV, DriveGone),
        (errno.EACCES, NotPermitted),
        (errno.EBUSY, EnvironmentTrouble),
    ):
        error = told(OSError(number, os.strerror(number)), "write", b"a\nb")
        assert type(error) is kind and "a\\nb" in str(error) and error.errno == number
