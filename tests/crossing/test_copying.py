"""One file copied and read back.

Sizes around every boundary, sources that misbehave, drives that know no direct way.
"""

import errno
import itertools
import os
import subprocess
import sys
import threading
import time
from contextlib import contextmanager

import pytest
from blake3 import blake3
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fascis.crossing.copying import engine as engine_module
from fascis.crossing.copying.file import Passage, copy_file
from fascis.crossing.copying.reading_back import CHUNK, PAGE, Buffers, read_back
from fascis.crossing.journal.copies import Item
from fascis.crossing.model.events import Advanced
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import Fidelity, copy_seen_of
from fascis.crossing.model.small import SMALL_FILE as SMALL
from fascis.crossing.model.states import CopyState, Origin, State
from fascis.files.control import Control
from fascis.files.disk.medium import PosixMedium
from fascis.files.errors import Cancelled, DriveFull, EnvironmentTrouble
from fascis.library.roles import Role
from fascis.library.survey import Kind
from tests.clock import less
from tests.crossing.ways import started
from tests.judge import contents

ALL = Fidelity(modes=True, attributes=True, holes=True, owner=False)


def item(place=b"a.mov", size=0):
    return Item(
        1, place, Kind.FILE, size, 0, 0, 0, 0, 0, 1, Role.ORIGINAL, Fate.COPY, 0, None, None, None,
        Origin.THERE, None, None
    )  # fmt: skip


@pytest.fixture
def sides(tmp_path):
    """Source and destination folder, opened, and buffers."""
    for name in ("from", "to"):
        (tmp_path / name).mkdir()
    source, there = PosixMedium.at(tmp_path / "from"), PosixMedium.at(tmp_path / "to")
    with Buffers() as buffers:
        yield tmp_path, source, there, buffers
    source.close()
    there.close()


def copied(sides, content=None, keeps=ALL, control=None, source=None, there=None):
    root, from_, to, buffers = sides
    if content is not None:
        (root / "from/a.mov").write_bytes(content)
    passage = Passage(source or from_, b"a.mov", there or to, b"a.mov")
    return copy_file(item(), passage, keeps, buffers, control or Control())


# Around the small-file limit, whole chunks, whole pages, and one byte beside each.
SIZES = sorted({
    max(0, at + by) for at in (0, PAGE, SMALL, SMALL + PAGE, CHUNK, 2 * CHUNK,
    3 * CHUNK + PAGE) for by in (-1, 0, 1)
})  # fmt: skip


@pytest.mark.parametrize("size", SIZES)
def test_every_size_is_copied_whole_and_read_back_whole(sides, size):
    content = os.urandom(size)
    outcome = copied(sides, content)
    root, _, to, buffers = sides
    assert outcome.state is CopyState.COPIED and outcome.digest == blake3(content).digest()
    assert (root / "to/a.mov").read_bytes() == content == (root / "from/a.mov").read_bytes()
    back = read_back(to, b"a.mov", buffers, Control())
    assert back.digest == outcome.digest and back.seen == outcome.copy_seen == copy_seen_of(
        to.status(b"a.mov")
    )


class NoDirectWay:
    """A file whose drive accepts going around the cache and then refuses to read."""

    def __init__(self, inner):
        self._inner, self._around, self.refused = inner, False, 0

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def go_around_cache(self, around):
        self._around = around
        return around

    def readinto(self, buffer):
        if self._around:
            self.refused += 1
            raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))
        return self._inner.readinto(buffer)


class Through:
    """A medium with files wrapped."""

    def __init__(self, inner, wrap):
        self._inner, self._wrap, self.opened = inner, wrap, []

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def open(self, place):
        self.opened.append(self._wrap(self._inner.open(place)))
        return self.opened[-1]

    def create(self, place, mode=0o600):
        self.opened.append(self._wrap(self._inner.create(place, mode)))
        return self.opened[-1]


def test_a_drive_without_a_direct_way_is_read_through_the_cache(sides):
    content = os.urandom(CHUNK + 77)
    outcome = copied(sides, content)
    through = Through(sides[2], NoDirectWay)
    assert read_back(through, b"a.mov", sides[3], Control()).digest == outcome.digest
    assert through.opened[0].refused == 1  # Tried once, then never again.


@given(
    holes=st.lists(st.tuples(st.integers(0, 40), st.integers(1, 8)), max_size=4),
    end=st.integers(1, 48),
    odd=st.integers(0, PAGE - 1),
)
@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_sparse_file_keeps_content_and_holes(sides, holes, end, odd):
    root, _, to, buffers = sides
    for stale in ("from/a.mov", "to/a.mov"):
        (root / stale).unlink(missing_ok=True)
    size = end * 65_536 + odd + SMALL
    with open(root / "from/a.mov", "wb") as out:
        out.truncate(size)
        for at, pages in holes:
            if at * 65_536 < size:
                out.seek(at * 65_536)
                out.write(os.urandom(min(pages * PAGE, size - at * 65_536)))
    outcome = copied(sides)
    assert outcome.digest == blake3((root / "from/a.mov").read_bytes()).digest()
    assert read_back(to, b"a.mov", buffers, Control()).digest == outcome.digest
    assert (root / "to/a.mov").stat().st_size == size
    assert (root / "to/a.mov").stat().st_blocks <= (root / "from/a.mov").stat().st_blocks + 16


class Trouble:
    """A file that raises an error from its ``at``-th call of a method on."""

    def __init__(self, inner, method, number, at=1):
        self._inner, self._method, self._number, self._left = inner, method, number, at

    def __getattr__(self, name):
        if name != self._method:
            return getattr(self._inner, name)

        def call(*arguments):
            self._left -= 1
            if self._left <= 0:
                raise OSError(self._number, os.strerror(self._number))
            return getattr(self._inner, name)(*arguments)

        return call


@pytest.mark.parametrize("size", [700, SMALL + CHUNK + 5])
def test_a_source_that_cannot_be_read_is_named_and_nothing_is_left(sides, size):
    source = Through(
        sides[1], lambda f: Trouble(f, "readinto", errno.EIO, 1 if size < SMALL else 2)
    )
    outcome = copied(sides, os.urandom(size), source=source)
    assert outcome.state is CopyState.UNREADABLE and outcome.digest is None
    assert not (sides[0] / "to/a.mov").exists() and (sides[0] / "from/a.mov").stat().st_size == size


@pytest.mark.parametrize(
    ("method", "number", "kind"),
    [("write", errno.ENOSPC, DriveFull), ("close", errno.EIO, EnvironmentTrouble), ("set_status",
    errno.EIO, EnvironmentTrouble)],
)  # fmt: skip
@pytest.mark.parametrize("size", [700, SMALL + CHUNK + 5])
def test_a_destination_that_failed_is_not_a_copy(sides, method, number, kind, size):
    there = Through(sides[2], lambda f: Trouble(f, method, number))
    with pytest.raises(kind) as caught:
        copied(sides, os.urandom(size), there=there)
    assert "a.mov" in str(caught.value) and (sides[0] / "from/a.mov").stat().st_size == size


def test_a_read_back_that_fails_is_reported_with_the_name(sides):
    copied(sides, os.urandom(SMALL + 9))
    with pytest.raises(EnvironmentTrouble, match=r"a\.mov"):
        read_back(
            Through(sides[2], lambda f: Trouble(f, "readinto", errno.EIO)),
            b"a.mov",
            sides[3],
            Control(),
        )


class Touched:
    """A source whose time differs each time it is checked for the last time.

    Nobody opens it for writing.
    """

    def __init__(self, inner, path):
        self._inner, self._path = inner, path

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def status(self):
        os.utime(self._path)
        return self._inner.status()


@pytest.mark.parametrize("size", [700, SMALL + CHUNK])
def test_a_source_that_changes_each_time_is_changing_and_nothing_is_left(sides, size):
    source = Through(sides[1], lambda f: Touched(f, sides[0] / "from/a.mov"))
    outcome = copied(sides, os.urandom(size), source=source)
    assert outcome.state is CopyState.CHANGING and len(source.opened) == 3
    assert not (sides[0] / "to/a.mov").exists() and (sides[0] / "from/a.mov").stat().st_size == size


def test_nothing_that_exists_is_overwritten(sides):
    (sides[0] / "to/a.mov").write_bytes(b"somebody's")
    with pytest.raises(EnvironmentTrouble):
        copied(sides, b"ours")
    assert (sides[0] / "to/a.mov").read_bytes() == b"somebody's"


def test_a_link_put_in_the_place_of_a_file_is_not_followed(sides):
    (sides[0] / "secret").write_bytes(b"secret")
    (sides[0] / "from/a.mov").symlink_to(sides[0] / "secret")
    assert copied(sides).state is CopyState.UNREADABLE and not (sides[0] / "to/a.mov").exists()


def test_stopping_leaves_the_source_alone(sides):
    control = Control()
    control.stop()
    with pytest.raises(Cancelled):
        copied(sides, os.urandom(SMALL * 3), control=control)
    assert (sides[0] / "from/a.mov").stat().st_size == SMALL * 3


def test_times_modes_and_attributes_are_copied(sides):
    path = sides[0] / "from/a.mov"
    path.write_bytes(b"heron")
    path.chmod(0o640)
    os.utime(path, ns=(1, 1_234_567_890_123_456_789))
    os.setxattr(path, "user.stars", b"5")
    assert copied(sides).state is CopyState.COPIED
    s = os.stat(sides[0] / "to/a.mov")
    assert (s.st_mtime_ns, s.st_mode & 0o777) == (1_234_567_890_123_456_789, 0o640)
    assert os.getxattr(sides[0] / "to/a.mov", "user.stars") == b"5"


WRITER = """
import mmap, sys, time
file = open(sys.argv[1], "r+b")
if sys.argv[2] == "mapped":
    there = mmap.mmap(file.fileno(), 0)
    file.close()
print("ready", flush=True)
sys.stdin.readline()
"""


@contextmanager
def writer(path, how):
    """Another program that has the file open for writing, or only mapped, its handle closed."""
    command = [sys.executable, "-c", WRITER, str(path), how]
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as process:
        try:
            assert process.stdout.readline() == "ready\n"
            yield process
        finally:
            process.kill()


@pytest.mark.parametrize("how", ["open", "mapped"])
@pytest.mark.parametrize("size", [700, SMALL + CHUNK])
def test_a_file_that_a_program_has_open_for_writing_is_not_taken(sides, how, size):
    content = os.urandom(size)
    (sides[0] / "from/a.mov").write_bytes(content)
    with writer(sides[0] / "from/a.mov", how):
        outcome = copied(sides)
        assert outcome.state is CopyState.CHANGING and not (sides[0] / "to/a.mov").exists()
    assert (
        copied(sides).state is CopyState.COPIED and (sides[0] / "to/a.mov").read_bytes() == content
    )


class Interrupted:
    """A source that somebody writes to, by an old mapping, while its second chunk is read."""

    def __init__(self, inner, path, write):
        self._inner, self._path, self._write, self._reads = inner, path, write, 0

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def readinto(self, buffer):
        self._reads += 1
        if self._reads == 2:
            self._write(self._path)
        return self._inner.readinto(buffer)


def test_a_writer_who_comes_meanwhile_waits_only_briefly_and_the_copy_is_made_again(sides):
    """Size and times are put back by the writer; only the lease notices."""
    path = sides[0] / "from/a.mov"
    content = bytearray(os.urandom(3 * CHUNK))
    path.write_bytes(content)
    waited, threads = [], []

    def overwrite(path):
        begun = time.monotonic()
        with open(path, "r+b") as out:
            waited.append(time.monotonic() - begun)
            out.seek(5)
            out.write(bytes([content[5] ^ 1]))

    def write(path):
        if not threads:
            threads.append(threading.Thread(target=overwrite, args=(path,)))
            threads[0].start()
            time.sleep(0.2)

    source = Through(sides[1], lambda f: Interrupted(f, path, write))
    outcome = copied(sides, source=source)
    threads[0].join()
    content[5] ^= 1
    assert outcome.state is CopyState.COPIED and len(source.opened) > 1
    assert (sides[0] / "to/a.mov").read_bytes() == path.read_bytes() == content
    less(waited[0], 3)


@pytest.mark.parametrize(("round_bytes", "turns"), [(1 << 30, 1), (100_000, 3)])
def test_on_a_rotating_drive_copying_and_reading_back_take_turns(
    bench, library, monkeypatch, round_bytes, turns
):
    """Its head does not move back and forth.

    Nothing is copied between the first and the last file of a round that is read back.
    """
    monkeypatch.setattr(engine_module, "ROUND_BYTES", round_bytes)
    monkeypatch.setattr(engine_module, "BATCH_FILES", (2, 2))
    bench.add_drive("heron", rotational=True)
    bench.again()
    seen = []
    crossing = started(bench)
    crossing.run(
        report=lambda e: (
            seen.append("r" if e.verified_files else "c") if isinstance(e, Advanced) else None
        )
    )
    rounds = [kind for kind, _ in itertools.groupby(seen)]
    assert (
        rounds == ["c", "r"] * (len(rounds) // 2)
        and len(rounds) // 2 >= turns
        and (turns > 1 or len(rounds) == 2)
    )
    assert crossing.state is State.SETTLED and contents(bench.heron / "The Weir") == contents(
        library
    )


def test_only_drives_that_say_so_are_believed_to_rotate(bench):
    for transport, believed in (("usb", True), ("sata", True), ("", False), ("virtio", False)):
        bench.add_drive("heron", rotational=True, transport=transport)
        assert bench.again().drives.at(bench.heron).takes_turns is believed
