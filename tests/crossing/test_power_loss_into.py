"""Power loss while files arrive in an existing folder or library, and during a split.

Existing files are unchanged, a library's lists are right at every moment, and it resumes.
"""

import os
import subprocess
import threading

import pytest
from blake3 import blake3

from fascis.crossing.arrival import destination as destination_module
from fascis.crossing.copying import engine
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import Taken
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.split import Split, one_for_each, plan_split
from fascis.crossing.status.queue import find_crossing, find_split
from fascis.drives.connected import Drives
from fascis.files.errors import DriveGone, Refused
from fascis.workspace import Workspace
from tests.crossing.test_power_loss import (
    as_it_is_now,
    cannot_be_used,
    every_act_is_a_step,
    mounted_as_found,
)
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import timeline, write
from tests.thorough import MOMENTS
from tests.worlds import oracle

NAMES = ("Autumn", "Spring", "Winter")
DESTINATIONS = ("", "Archive", "Old", "Old/projects", "Split")


def files(folder):
    # After a power loss nobody guarantees that staged files can be read.
    return {os.fsdecode(p): c for p, c in contents(folder, staged=False).items()}


def fill(bench, where):
    """Projects that share clips, a folder of photos, and a folder there that has some of these."""
    lib = bench.library
    for place in ("media/all.mov", "media/two.mov"):
        write(lib / place, place.encode() * 900)
    for name in NAMES:
        write(lib / f"media/{name}.mov", name.encode() * 700)
        clips = (f"../../media/{name}.mov", "../../media/all.mov", "../../media/two.mov")
        write(lib / f"projects/{name}/{name}.otio", timeline(*clips[: 2 + (name != "Winter")]))
    for n in range(12):
        write(lib / f"trip/{n:02}.jpg", f"photo {n} ".encode() * (200 + 90 * n))
    (where / "Split").mkdir()
    write(where / "Archive/trip/03.jpg", (lib / "trip/03.jpg").read_bytes())
    write(where / "Archive/trip/04.jpg", b"another photo")
    write(where / "Archive/trip/older.jpg", b"older")


def archive(bench, where):
    """A library on the drive, made by a crossing, that has a clip the projects use."""
    old = bench.drives / "inside/Old"
    write(old / "media/all.mov", (bench.library / "media/all.mov").read_bytes())
    write(old / "projects/Past/past.otio", timeline("../../media/all.mov"))
    plan = make_plan(bench.workspace, survey_library(bench.workspace, old), where, Choices())
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    assert crossing.run() is State.SETTLED
    crossing.close()
    return where / "Old"


def sound(library):
    """Every file of its manifest is there, with that content."""
    for line in (library / ".fascis/manifest.b3").read_text().splitlines():
        assert blake3((library / line[66:]).read_bytes()).hexdigest() == line[:64], line
    return {line[66:] for line in (library / ".fascis/manifest.b3").read_text().splitlines()}


def begun(bench, where, how):
    """A planned crossing or split that was started; its id, and how it resumes."""
    surveyed = survey_library(bench.workspace, bench.library)
    if how == "split":
        libraries = one_for_each(surveyed)
        plan = plan_split(
            bench.workspace, surveyed, where / "Split", libraries, plan_after(), ask=True
        )
        return Split.start(bench.workspace, plan, consent=False)
    only, place = ("trip", "Archive") if how == "folder" else ("Spring", "Old/projects")
    choices = Choices(only=frozenset([only]), into=True, taken=Taken.RENAMED)
    plan = make_plan(bench.workspace, surveyed, where / place, choices)
    return Crossing.start(bench.workspace, plan, decided=True)


def plan_after():
    return Choices().after


def found_again(workspace, id, how):
    try:
        return (find_split if how == "split" else find_crossing)(workspace, id)
    except Refused:
        return None


def went_on(found, how):
    state = found.run(Crossing.run) if how == "split" else found.run()
    assert state is State.SETTLED


@pytest.mark.lab
@pytest.mark.timeout(1200)
@pytest.mark.parametrize("filesystem", ["ext4", "exfat", "ntfs"])
@pytest.mark.parametrize("how", ["folder", "library", "split"])
def test_after_power_loss_existing_files_stay_and_it_resumes(
    bench, mounted, filesystem, how, tmp_path, monkeypatch
):
    where = mounted(filesystem, 60)
    fill(bench, where)
    real(bench)
    library = archive(bench, where) if how == "library" else None
    monkeypatch.setattr(engine, "BATCH_FILES", (3, 8))
    subprocess.run(["sync", "-f", where], check=True)
    before, originals = files(where), contents(bench.library)
    passed, taken, lock = [0], [], threading.Lock()
    every = max(1, {"folder": 110, "library": 90, "split": 260}[how] // MOMENTS)

    def step(name):
        with lock:
            passed[0] += 1
            if passed[0] % every == 0 and len(taken) < MOMENTS:
                folder, _ = as_it_is_now(bench, where, tmp_path / f"moment {passed[0]}")
                taken.append((name, folder))

    every_act_is_a_step(bench, monkeypatch)
    whole = begun(bench, where, how)
    bench.step = step
    went_on(whole, how)
    bench.step = lambda _name: None
    id, wanted = whole.id, files(where)
    whole.close()
    mounted.unmount(where)
    assert len(taken) >= MOMENTS // 2, passed
    monkeypatch.setattr(destination_module, "boot_id", lambda: "another start of the machine")
    damaged = []
    for name, folder in taken:
        mounted_as_found(mounted, where, filesystem, folder)
        assert files(where).items() >= before.items(), name
        if library:
            assert sound(library), name
        workspace = Workspace(
            bench.root / "data", folder / "state", bench.root / "config", Drives(bench.drives)
        )
        found = found_again(workspace, id, how)
        if found is None:
            mounted.unmount(where)
            continue
        try:
            went_on(found, how)
        except DriveGone as gone:
            # NTFS has no log that its driver replays: a name that nobody can open.
            # Places count from the folder that the crossing goes to.
            named = [where / to / os.fsdecode(gone.place) for to in DESTINATIONS]
            there = [path for path in named if path.parent.is_dir()]
            assert filesystem == "ntfs" and any(map(cannot_be_used, there)), (gone, there)
            damaged.append(name)
            found.close()
            mounted.unmount(where)
            continue
        now = files(where)
        apart = {p for p in now if "(yours, " in p}
        assert {p: c for p, c in now.items() if p not in apart} == wanted, name
        assert not list(where.rglob(".fascis-crossing-*")), name
        if library:
            assert sound(library) == {
                p.removeprefix("Old/") for p in wanted if p.startswith("Old/")
            }, name
        if how == "split":
            for one in NAMES:
                copy = where / f"Split/{one}/projects/{one}/{one}.otio"
                assert oracle.plays(copy, {}) == oracle.plays(
                    bench.library / f"projects/{one}/{one}.otio", {}
                )
        found.close()
        mounted.unmount(where)
    assert contents(bench.library) == originals and len(damaged) <= 1 + MOMENTS // 5
