"""Small files through helper processes: with the same result as without."""

import csv
import os
import signal
import threading
import time
from pathlib import Path

import pytest

from fascis.crossing.copying import bulk, helpers, quick
from fascis.crossing.model.events import Advanced, Attention
from fascis.crossing.model.states import CopyState, State
from fascis.drives.stand_in import StandInMedium
from fascis.files.control import Control
from fascis.files.disk.digest import digest_of_bytes
from fascis.files.errors import Cancelled, EnvironmentTrouble
from tests.clock import less
from tests.crossing.ways import started
from tests.judge import contents

ODD = (b"caf\xe9.jpg", b"a\nb.jpg", "h\u00e9ron.jpg".encode(), b"x" * 200 + b".jpg")


@pytest.fixture
def plain(monkeypatch):
    """The stand-ins' folders count as plain drives: helpers work on them directly."""
    monkeypatch.setattr(StandInMedium, "shareable", property(lambda _: True))


@pytest.fixture
def many(bench, plain):
    """A library with more small files than are worth a helper, and some that are not as most."""
    bench.fill({f"media/day {i % 7}/frame_{i:04}.jpg": 500 + 37 * i for i in range(700)})
    home = os.fsencode(bench.library)
    for n, name in enumerate(ODD):
        with open(home + b"/media/" + name, "wb") as out:
            out.write(b"odd %d" % n)
    bench.fill({"media/empty.wav": b"", "media/reel.mov": 3_000_000, "media/locked.jpg": b"l"})
    (bench.library / "media/locked.jpg").chmod(0o444)
    os.link(bench.library / "media/locked.jpg", bench.library / "media/second name.jpg")
    with open(bench.library / "media/sparse.bin", "wb") as out:
        out.truncate(900_000)
    os.symlink("locked.jpg", bench.library / "media/link.jpg")
    os.setxattr(bench.library / "media/reel.mov", "user.note", b"weir")
    os.setxattr(bench.library / "media/day 0/frame_0000.jpg", "user.note", b"weir")
    return bench


def helpers_running():
    """Helpers that this process has started and that still run, by their ids."""
    found = []
    for status in Path("/proc").glob("[0-9]*/stat"):
        try:
            state, parent = status.read_text().rpartition(")")[2].split()[:2]
            command = (status.parent / "cmdline").read_bytes()
        except OSError:
            continue  # it has ended meanwhile
        if int(parent) == os.getpid() and state != "Z" and b"copying.quick" in command:
            found.append(int(status.parent.name))
    return found


def whole(bench, crossing):
    """Everything is there, with its content, mode and time, by the inventory too."""
    there = bench.heron / bench.library.name
    assert contents(there) == contents(bench.library)
    for path in bench.library.rglob("*"):
        if path.is_file() and not path.is_symlink():
            old, new = path.stat(), (there / path.relative_to(bench.library)).stat()
            assert (old.st_mtime_ns, old.st_mode) == (new.st_mtime_ns, new.st_mode), path
    with open(there / ".fascis/inventory.csv", newline="") as text:
        digests = {row["path"]: row["blake3"] for row in csv.DictReader(text)}
    for path in bench.library.rglob("*.jpg"):
        name = str(path.relative_to(bench.library))
        if path.is_file() and not path.is_symlink() and name.isprintable():
            assert digests[name] == digest_of_bytes(path.read_bytes()).hex()
    assert crossing.copies.verified() == crossing.copies.going()


def test_all_of_a_library_is_whole_and_helpers_took_nearly_all(many, monkeypatch):
    given = []
    record = bulk.Copies.record_small
    monkeypatch.setattr(
        bulk.Copies, "record_small", lambda self, rows: given.extend(rows) or record(self, rows)
    )
    events = []
    crossing = started(many)
    assert crossing.run(report=events.append) is State.SETTLED
    whole(many, crossing)
    # All but the sparse one, the large one, the second name, and the one with an attribute.
    assert len(given) == crossing.copies.going()[0] - 4
    assert not [e for e in events if isinstance(e, Attention)]
    told = [e for e in events if isinstance(e, Advanced)]
    assert sum(e.verified_bytes for e in told) == crossing.copies.going()[1]
    there = many.heron / many.library.name
    assert os.getxattr(there / "media/day 0/frame_0000.jpg", "user.note") == b"weir"
    assert (there / "media/sparse.bin").stat().st_blocks == 0
    assert helpers_running() == []


def test_few_small_files_start_no_helper(library, bench, plain, monkeypatch):
    monkeypatch.setattr(helpers, "_Helper", None)
    crossing = started(bench)
    assert crossing.run() is State.SETTLED
    whole(bench, crossing)


@pytest.mark.parametrize("after", [0, 3])
def test_a_helper_that_dies_ends_the_run_and_a_resume_continues(many, monkeypatch, after):
    before = contents(many.library)
    done = helpers._Helper.do
    jobs = []

    def do(self, job, control):
        jobs.append(job[0])
        if len(jobs) > after:
            self._process.kill()
        return done(self, job, control)

    monkeypatch.setattr(helpers._Helper, "do", do)
    crossing = started(many)
    with pytest.raises(EnvironmentTrouble, match="ended early"):
        crossing.run()
    assert contents(many.library) == before
    assert helpers_running() == []
    monkeypatch.setattr(helpers._Helper, "do", done)
    assert crossing.run() is State.SETTLED
    whole(many, crossing)


def test_a_helper_that_hangs_does_not_delay_a_stop(many, monkeypatch):
    done = helpers._Helper.do
    control = Control()
    hung = threading.Event()

    def do(self, job, control):
        self._process.send_signal(signal.SIGSTOP)
        hung.set()
        return done(self, job, control)

    monkeypatch.setattr(helpers._Helper, "do", do)
    crossing = started(many)
    outcome = []

    def run():
        try:
            crossing.run(control)
        except Cancelled:
            outcome.append(time.monotonic())

    thread = threading.Thread(target=run)
    thread.start()
    assert hung.wait(20)
    assert helpers_running() != []
    stopped = time.monotonic()
    control.stop()
    thread.join(20)
    assert outcome
    less(outcome[0] - stopped, 2)
    assert helpers_running() == []
    monkeypatch.setattr(helpers._Helper, "do", done)
    assert crossing.run() is State.SETTLED
    whole(many, crossing)


def test_a_copy_that_is_not_what_was_written_is_made_again_and_reported(many, monkeypatch):
    record = bulk.Copies.record_small
    hurt = []

    def recorded(self, rows):
        record(self, rows)
        if not hurt:
            name = os.fsdecode(self.item(rows[0][0]).there).rpartition("/")[2]
            hurt.append(next(many.heron.rglob(name)))
            with open(hurt[0], "r+b") as out:
                other = out.read(1)[0] ^ 1
                out.seek(0)
                out.write(bytes([other]))

    monkeypatch.setattr(bulk.Copies, "record_small", recorded)
    events = []
    crossing = started(many)
    assert crossing.run(report=events.append) is State.SETTLED
    assert hurt
    whole(many, crossing)
    told = [e.meaning for e in events if isinstance(e, Attention)]
    assert len(told) == 1 and "read back wrong once, copied again, now equal" in told[0]


def test_what_changed_since_the_survey_is_copied_as_it_is_and_reported(many):
    crossing = started(many)
    path = many.library / "media/day 1/frame_0001.jpg"
    path.write_bytes(b"saved again")
    events = []
    assert crossing.run(report=events.append) is State.SETTLED
    whole(many, crossing)
    (told,) = [e for e in events if isinstance(e, Attention)]
    assert (
        told.place.endswith(b"frame_0001.jpg") and "changed since it was surveyed" in told.meaning
    )


def test_a_file_that_somebody_writes_to_is_not_taken_for_copied(many):
    crossing = started(many)
    path = many.library / "media/day 1/frame_0001.jpg"
    with open(path, "r+b"):
        assert crossing.run() is State.WAITING
    (item,) = crossing.copies.in_states([CopyState.CHANGING])
    assert item.place == b"media/day 1/frame_0001.jpg"
    assert path.stat().st_size == 537


def test_a_file_that_is_gone_or_cannot_be_read_is_a_hindrance_as_ever(many):
    crossing = started(many)
    (many.library / "media/day 1/frame_0001.jpg").unlink()
    assert crossing.run() is State.WAITING
    (item,) = crossing.copies.in_states([CopyState.VANISHED])
    assert item.place == b"media/day 1/frame_0001.jpg"


# -- one job, in this process ----------------------------------------------------------------------


@pytest.fixture
def folders(tmp_path):
    handles = []
    for name in ("from", "to"):
        (tmp_path / name / "d").mkdir(parents=True)
        handles.append(os.open(tmp_path / name, os.O_RDONLY))
    yield tmp_path, *handles
    for handle in handles:
        os.close(handle)


def row(path, entry=1, name=b"a.jpg", known=None, **more):
    s = os.lstat(path)
    return (entry, b"d", name, b"d", name, s.st_size, s.st_mtime_ns, known, s.st_ino, 0)


def copy_one(folders, *rows, keeps=(True, True, False)):
    _, source, destination = folders
    buffer = memoryview(bytearray(quick.SMALL_FILE))
    return quick.answer(("copy", b"", list(rows), keeps), source, destination, buffer)


def test_a_job_gives_what_the_journal_keeps(folders):
    path = folders[0] / "from/d/a.jpg"
    path.write_bytes(b"heron")
    path.chmod(0o640)
    kind, ((entry, size, mtime, inode, ctime, digest, *seen),) = copy_one(folders, row(path))
    made = (folders[0] / "to/d/a.jpg").stat()
    old = path.stat()
    assert (kind, entry, size, digest) == ("rows", 1, 5, digest_of_bytes(b"heron"))
    assert (mtime, inode, ctime) == (made.st_mtime_ns, made.st_ino, made.st_ctime_ns)
    assert seen == [5, old.st_mtime_ns, old.st_ctime_ns, old.st_ino]
    assert made.st_mode == old.st_mode


def taken(folders, path):
    (folders[0] / "to/d/a.jpg").write_bytes(b"another's")


def linked(folders, path):
    path.rename(folders[0] / "elsewhere")
    path.symlink_to(folders[0] / "elsewhere")


def a_pipe(folders, path):
    path.unlink()
    os.mkfifo(path)


def grown(folders, path):
    path.write_bytes(b"h" * (quick.SMALL_FILE + 1))


def gone(folders, path):
    path.unlink()


def saved_again(folders, path):
    path.write_bytes(b"other!")


def noted(folders, path):
    os.setxattr(path, "user.note", b"n")


@pytest.mark.parametrize("what", [taken, linked, a_pipe, grown, gone, saved_again, noted])
def test_unusual_files_are_returned(folders, what):
    path = folders[0] / "from/d/a.jpg"
    path.write_bytes(b"heron")
    planned = row(path)
    what(folders, path)
    assert copy_one(folders, planned) == ("rows", [])
    if what is taken:
        assert (folders[0] / "to/d/a.jpg").read_bytes() == b"another's"


def test_files_that_differ_from_the_record_are_returned(folders):
    path = folders[0] / "from/d/a.jpg"
    path.write_bytes(b"heron")
    assert copy_one(folders, row(path, known=bytes(32))) == ("rows", [])
    (folders[0] / "to/d/a.jpg").unlink()
    assert len(copy_one(folders, row(path, known=digest_of_bytes(b"heron")))[1]) == 1


def test_a_destination_that_takes_nothing_more_fails_the_job(folders):
    path = folders[0] / "from/d/a.jpg"
    path.write_bytes(b"heron")
    (folders[0] / "to/d").rmdir()
    kind, (number, words, place) = copy_one(folders, row(path))
    assert (kind, number, place) == ("failed", 2, b"d/a.jpg")
    assert path.read_bytes() == b"heron"


def test_a_copy_that_cannot_be_read_is_not_among_those_read(folders):
    (folders[0] / "to/d/a.jpg").write_bytes(b"heron")
    (folders[0] / "to/d/pipe").mkdir()
    buffer = memoryview(bytearray(quick.SMALL_FILE))
    rows = [(n, b"", b"", b"d", name) for n, name in enumerate((b"a.jpg", b"gone.jpg", b"pipe"))]
    kind, ((entry, digest, _, stored),) = quick.answer(("read", b"", rows), 0, folders[2], buffer)
    assert (kind, entry, digest) == ("rows", 0, digest_of_bytes(b"heron"))
    assert stored == 5


def test_nothing_is_run_from_the_folder_that_a_person_is_in(many, tmp_path, monkeypatch):
    trap = tmp_path / "trap"
    trap.mkdir()
    for name in ("blake3.py", "marshal.py", "fascis.py", "errno.py"):
        (trap / name).write_text("import os; os.mkdir('caught')")
    monkeypatch.chdir(trap)
    crossing = started(many)
    assert crossing.run() is State.SETTLED
    assert not (trap / "caught").exists()
    whole(many, crossing)
