"""Power loss.

The image under the mounted destination and the journal are copied at seeded moments, the image copy
is
repaired, mounted, and resumed on. SIGKILL keeps the page cache; this does not.

``FASCIS_MOMENTS``: how many moments on each file system.
"""

import errno
import os
import random
import shutil
import subprocess
import threading

import pytest

from fascis.crossing.arrival import destination as destination_module
from fascis.crossing.copying import bulk, engine
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing
from fascis.drives.connected import Drives
from fascis.drives.stand_in import StandInMedium
from fascis.drives.system import answering
from fascis.files.disk.medium import PosixFile, PosixMedium
from fascis.files.errors import DriveGone, Refused
from fascis.workspace import Workspace
from tests.crossing.test_proof import real
from tests.crossing.ways import started
from tests.judge import contents
from tests.library.making import catalog_at, timeline, write
from tests.thorough import MOMENTS
from tests.worlds import oracle

REPAIR = {"ext4": ["e2fsck", "-fy"], "exfat": ["fsck.exfat", "-y"], "ntfs": ["ntfsfix", "-d"]}


def as_it_is_now(bench, where, folder):
    """What would be found after a power loss now: image, journal, and existing originals."""
    folder.mkdir()
    image = where.parent / "HERON.img"
    subprocess.run(["cp", "--sparse=always", image, folder / "image"], check=True)
    shutil.copytree(bench.root / "state", folder / "state")
    originals = contents(bench.library) if bench.library.exists() else {}
    for parked in bench.library.parent.glob("*set aside*"):
        originals |= contents(parked)
    return folder, originals


def crossed(bench, where, until_released):
    crossing = started(bench, to=where)
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    if until_released:
        crossing.switch()
        crossing.release()
    return crossing


ACTS = {
    PosixFile: ("write", "close"),
    PosixMedium: (
        "make_folder",
        "rename_new",
        "move_into_claimed",
        "unlink",
        "remove_folder",
        "sync",
        "sync_folder",
    ),
}


def every_act_is_a_step(bench, monkeypatch):
    # A driver that is slow beside other tests is no silent drive.
    monkeypatch.setattr(answering, "PATIENCE", 10.0)
    for kind, names in ACTS.items():
        for name in names:
            done = getattr(kind, name)

            def act(self, *arguments, _done=done, _name=name):
                bench.step(f"before {_name}")
                return _done(self, *arguments)

            monkeypatch.setattr(kind, name, act)


@pytest.fixture
def drive(bench, mounted, request, monkeypatch):
    """A mounted drive.

    Each act on it is a moment, and batches are small, so that there are many.
    """
    filesystem, _, how = request.param.partition(" ")
    where = mounted(filesystem, 60)
    real(bench)
    monkeypatch.setattr(engine, "BATCH_FILES", (3, 8))
    if how:
        # The originals' stand-in counts as a plain drive, and few files count as many.
        monkeypatch.setattr(StandInMedium, "shareable", property(lambda _: True))
        monkeypatch.setattr(engine, "LEAST_FILES", 4)
        monkeypatch.setattr(bulk, "_BATCH_FILES", (3, 8))
        record = bulk.Copies.record_small
        given = bench.given_to_helpers = []
        monkeypatch.setattr(
            bulk.Copies, "record_small", lambda c, rows: given.extend(rows) or record(c, rows)
        )
    every_act_is_a_step(bench, monkeypatch)
    return where


def cannot_be_used(path):
    """Asked without Fascis.

    The name is answered with an input/output error, or is taken and cannot be given up.
    """
    numbers = []
    for way in (lambda: path.open("r+b").close(), path.unlink, lambda: path.open("xb").close()):
        try:
            way()
            numbers.append(0)
        except OSError as error:
            numbers.append(error.errno)
    print(f"{path.name}: opened, removed, made again gave {numbers}")  # shown when a test fails
    return errno.EIO in numbers or numbers[2] == errno.EEXIST


def fill(bench):
    return bench.fill(
        {f"d{i % 4}/{i:02d}.jpg": 5_000 + 700 * i for i in range(24)}
        | {"clip.mov": 3_000_000, "notes.txt": b"breach first\n", "d1/heron.xmp": b"<x/>" * 40}
    )


def moments(bench, mounted, where, tmp_path, until_released, seed):
    """Runs a crossing to count its steps, and again, copying everything at the chosen ones."""
    count = [0]
    lock = threading.Lock()

    def counted(_name):
        with lock:
            count[0] += 1

    bench.step = counted
    fill(bench)
    first = crossed(bench, where, until_released)
    first.close()
    shutil.rmtree(where / "The Weir")
    if until_released:
        shutil.rmtree(bench.library, ignore_errors=True)
        fill(bench)
    subprocess.run(["sync", "-f", where], check=True)
    chosen = set(random.Random(seed).sample(range(1, count[0] - 3), MOMENTS))
    count[0], taken = 0, []

    def step(name):
        with lock:  # The other threads wait too, or continue: as they would.
            count[0] += 1
            if count[0] in chosen:
                taken.append((name, *as_it_is_now(bench, where, tmp_path / f"moment {count[0]}")))

    bench.step = step
    before = contents(bench.library)
    crossing = crossed(bench, where, until_released)
    bench.step = lambda _name: None
    return before, taken, crossing


def mounted_as_found(mounted, where, filesystem, folder):
    subprocess.run([*REPAIR[filesystem], folder / "image"], capture_output=True)
    mounted.mount(folder / "image", where, filesystem)


@pytest.mark.lab
@pytest.mark.timeout(1200)
@pytest.mark.parametrize("drive", ["ext4", "ext4 helpers", "exfat", "ntfs"], indirect=True)
def test_after_power_loss_on_the_way_it_resumes_and_arrives_whole(
    bench, mounted, drive, tmp_path, monkeypatch, request
):
    filesystem, _, how = request.node.callspec.params["drive"].partition(" ")
    before, taken, crossing = moments(
        bench, mounted, drive, tmp_path, False, f"on the way {filesystem}"
    )
    crossing.close()
    assert not how or len(bench.given_to_helpers) >= 20
    mounted.unmount(drive)
    monkeypatch.setattr(destination_module, "boot_id", lambda: "another start of the machine")
    assert len(taken) >= min(MOMENTS, 50)
    damaged = []
    for name, folder, originals in taken:
        assert originals == before  # nothing of the source was touched
        mounted_as_found(mounted, drive, filesystem, folder)
        workspace = Workspace(
            bench.root / "data", folder / "state", bench.root / "config", Drives(bench.drives)
        )
        try:
            found = find_crossing(workspace, crossing.id)
        except Refused:
            found = None
        if found is None:  # the plan was not written yet: nothing was begun
            assert not (drive / "The Weir").exists()
            mounted.unmount(drive)
            continue
        if found.state in UNFINISHED:
            try:
                assert found.run() is State.SETTLED, (name, found.state, found.journal.attentions())
            # NTFS has no log that its user-space driver replays: a name that nobody can open.
            except DriveGone as gone:
                assert filesystem == "ntfs" and cannot_be_used(drive / os.fsdecode(gone.place)), (
                    gone
                )
                damaged.append(name)
                found.close()
                mounted.unmount(drive)
                continue
        assert contents(drive / "The Weir") == before, name
        assert not list(drive.glob(".fascis-crossing-*")), name
        found.close()
        mounted.unmount(drive)
    assert contents(bench.library) == before and len(damaged) <= 1 + MOMENTS // 5


@pytest.mark.lab
@pytest.mark.timeout(1200)
@pytest.mark.parametrize("drive", ["ext4", "exfat", "ntfs"], indirect=True)
def test_after_power_loss_while_originals_go_every_file_is_whole_somewhere(
    bench, mounted, drive, tmp_path, request
):
    """Rule 1 at every moment of a release.

    What is not at the old place is whole on the drive, as its image was then.
    """
    filesystem = request.node.callspec.params["drive"]
    before, taken, crossing = moments(
        bench, mounted, drive, tmp_path, True, f"release {filesystem}"
    )
    assert contents(drive / "The Weir") == before and crossing.state is State.RELEASED
    crossing.close()
    mounted.unmount(drive)
    for name, folder, originals in taken:
        missing = {p for p in before if originals.get(p) != before[p]}
        if not missing:
            continue
        mounted_as_found(mounted, drive, filesystem, folder)
        copies = contents(drive / "The Weir")
        assert (drive / "The Weir/.fascis/identity.json").exists(), name
        assert {p: copies.get(p) for p in missing} == {p: before[p] for p in missing}, name
        mounted.unmount(drive)


def river_on(where):
    """A library with documents that stay, and a folder that they use and that is moved."""
    lib = where / "River"
    for name in ("heron.jpg", "weir.jpg"):
        write(lib / "trip" / name, f"content of {name}".encode() * 900)
    return [
        catalog_at(
            lib / "River.fascat",
            [(None, str(lib))],
            [(1, 1, "trip")],
            [(1, "heron.jpg"), (1, "weir.jpg")],
        ),
        write(lib / "cuts/spring.otio", timeline("../trip/heron.jpg")),
        write(where / "Beside/list.m3u8", f"#EXTM3U\n{lib}/trip/weir.jpg\n".encode()),
    ]


@pytest.mark.lab
@pytest.mark.timeout(1200)
@pytest.mark.parametrize("filesystem", ["ext4", "exfat", "ntfs"])
def test_after_power_loss_while_documents_are_updated_each_plays_and_it_resumes(
    bench, mounted, filesystem, tmp_path, monkeypatch
):
    where = mounted(filesystem, 60)
    real(bench)
    staying = river_on(where)
    mounts = {"uuid-heron": str(bench.heron)}
    before = [oracle.plays(path, mounts) for path in staying]
    surveyed = survey_library(bench.workspace, where / "River")
    plan = make_plan(bench.workspace, surveyed, bench.heron, Choices(only=frozenset(["trip"])))
    assert len(plan.followers.documents) == 3
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    assert crossing.run() is State.SETTLED
    subprocess.run(["sync", "-f", where], check=True)
    taken, passed = [], 0

    def step(name):
        nonlocal passed
        passed += 1
        if passed % max(1, 48 // MOMENTS) == 0 and len(taken) < MOMENTS:
            taken.append((name, as_it_is_now(bench, where, tmp_path / f"moment {passed}")[0]))

    for name in ("make_link", "rename_new", "unlink", "sync", "sync_folder"):
        done = getattr(PosixMedium, name)

        def act(self, *arguments, _done=done, _name=name):
            bench.step(f"before {_name}")
            return _done(self, *arguments)

        monkeypatch.setattr(PosixMedium, name, act)
    bench.step = step
    crossing.switch()
    bench.step = lambda _name: None
    assert [oracle.plays(path, mounts) for path in staying] == before and len(taken) >= MOMENTS // 2
    crossing.close()
    mounted.unmount(where)
    for name, folder in taken:
        mounted_as_found(mounted, where, filesystem, folder)
        assert [oracle.plays(path, mounts) for path in staying] == before, name
        assert len(contents(where / "River/trip")) == 2
        workspace = Workspace(
            bench.root / "data", folder / "state", bench.root / "config", bench.workspace.drives
        )
        found = find_crossing(workspace, crossing.id)
        if found.state is State.SETTLED:
            found.switch()
        assert found.state is State.SWITCHED, name
        assert [oracle.plays(path, mounts) for path in staying] == before, name
        leads = [path.read_bytes() for path in staying[1:]]
        assert all(bytes(bench.heron) in content for content in leads), name
        found.close()
        mounted.unmount(where)
