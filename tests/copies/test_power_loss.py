"""Power is lost while a copy is repaired, brought up to date, or taken back to where it was.

``FASCIS_MOMENTS``: how many moments on each file system.
"""

import shutil
import subprocess

import pytest

from fascis.copies.bringing_back import plan_bringing_back, way_back
from fascis.copies.repairing import Repairs
from fascis.copies.updating import plan_update
from fascis.crossing.arrival import destination as destination_module
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.status.queue import all_crossings
from fascis.drives.system import answering
from fascis.files.control import Control
from fascis.files.disk.medium import PosixFile, PosixMedium
from fascis.workspace import Workspace
from tests.copies.test_repair import damage
from tests.copies.test_update import _all, begin, equal, fill, work
from tests.crossing.test_power_loss import as_it_is_now, mounted_as_found
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import timeline, write
from tests.thorough import MOMENTS
from tests.worlds import oracle

pytestmark = [pytest.mark.lab, pytest.mark.timeout(1200)]
on_each = pytest.mark.parametrize("filesystem", ["ext4", "exfat", "ntfs"])
ACTS = {
    PosixFile: ("close",),
    PosixMedium: ("make_folder", "rename_new", "unlink", "remove_folder", "sync", "sync_folder"),
}


class Power:
    """Does something on a mounted drive, and captures the drive's state at some moments."""

    def __init__(self, bench, mounted, filesystem, tmp_path, monkeypatch):
        self.bench, self._mounted, self._filesystem = bench, mounted, filesystem
        self._folder, self._taken, self._passed = tmp_path, [], 0
        self.where = mounted(filesystem, 60)
        real(bench)
        monkeypatch.setattr(answering, "PATIENCE", 10.0)
        monkeypatch.setattr(destination_module, "boot_id", lambda: "another start of the machine")
        for kind, names in ACTS.items():
            for name in names:
                done = getattr(kind, name)

                def act(medium, *arguments, _done=done, _name=name):
                    bench.step(f"before {_name}")
                    return _done(medium, *arguments)

                monkeypatch.setattr(kind, name, act)

    def lost_while(self, acting, steps):
        """Does it, and returns the drive's states, mounted one after the other.

        Args:
            steps: about how many there are.
        """
        subprocess.run(["sync", "-f", self.where], check=True)
        self.bench.step = self._step_of(max(1, steps // MOMENTS))
        acting()
        self.bench.step = lambda _name: None
        assert len(self._taken) >= MOMENTS * 2 // 3, self._passed
        self._mounted.unmount(self.where)
        for name, folder in self._taken:
            mounted_as_found(self._mounted, self.where, self._filesystem, folder)
            self.bench.workspace = Workspace(
                self.bench.root / "data",
                folder / "state",
                self.bench.root / "config",
                self.bench.workspace.drives,
            )
            yield name
            self._mounted.unmount(self.where)

    def _step_of(self, every):
        def step(name):
            self._passed += 1
            if self._passed % every == 0 and len(self._taken) < MOMENTS:
                folder = self._folder / f"moment {self._passed}"
                taken = as_it_is_now(self.bench, self.where, folder)[0]
                self._taken.append((f"{self._passed}: {name}", taken))

        return step


@pytest.fixture
def power(bench, mounted, filesystem, tmp_path, monkeypatch):
    return Power(bench, mounted, filesystem, tmp_path, monkeypatch)


def the_one_on_its_way(workspace, crossings):
    """Of what this computer knows, the crossing that is not one of these."""
    found, _ = all_crossings(workspace)
    for one in found:
        if one.id in crossings:
            one.close()
    rest = [one for one in found if one.id not in crossings]
    return rest[0] if rest else None


def known(workspace):
    found, _ = all_crossings(workspace)
    for one in found:
        one.close()
    return {one.id for one in found}


@on_each
def test_while_files_are_put_back(bench, power):
    lib = fill(bench)
    begin(bench, lib, power.where).close()
    there = power.where / lib.name
    good = contents(there)
    spoiled = ("media/a.mov", "media/b.mov", "media/night/d.mov")
    damage(there, *spoiled)
    (there / "media/c.mov").unlink()
    damaged = {(there / place).read_bytes() for place in spoiled}

    def repair():
        repairs = Repairs(bench.workspace)
        found = repairs.look(there, lib, Control())
        return repairs.apply(there, lib, found, Control())

    for name in power.lost_while(repair, 70):
        assert damaged <= _all(there), name
        assert Repairs(bench.workspace).recover() == [], name
        assert damaged <= _all(there), name
        repair()
        assert contents(there) == good and damaged <= _all(there), name
    assert contents(lib).keys() >= {b"media/a.mov", b"media/c.mov"}


@on_each
def test_while_a_copy_is_brought_up_to_date(bench, power):
    lib = fill(bench)
    begin(bench, lib, power.where).close()
    there = power.where / lib.name
    work(lib)
    home, everything, before = contents(lib), _all(there), known(bench.workspace)

    def update():
        plan, _ = plan_update(bench.workspace, lib, there)
        crossing = Crossing.start(bench.workspace, plan, decided=True)
        assert crossing.run() is State.SETTLED
        crossing.close()

    for name in power.lost_while(update, 150):
        assert everything <= _all(power.where), name
        crossing = the_one_on_its_way(bench.workspace, before)
        if crossing is None:
            continue
        if crossing.state in UNFINISHED:
            assert crossing.run() is State.SETTLED, name
        equal(bench, lib, there)
        assert everything <= _all(power.where) and contents(lib) == home, name
        crossing.close()


@on_each
def test_while_a_library_is_brought_back(bench, power):
    lib = fill(bench)
    old = power.where / "Weir"
    shutil.copytree(lib, old)
    shutil.copytree(bench.drives / "inside/Loose", power.where / "Loose")
    write(old / "absolute.otio", timeline(str(old / "media/b.mov")))
    documents = {name: (old / name).read_bytes() for name in ("cut.otio", "absolute.otio")}
    crossing = begin(bench, old, bench.heron)
    crossing.switch()
    crossing.close()
    there = bench.heron / "Weir"
    write(there / "media/new.mov", b"new" * 900)
    write(old / "media/c.mov", b"somebody's other version")
    (old / "media/a.mov").unlink()
    home, everything, before = contents(there), _all(old), known(bench.workspace)

    def bring_back():
        plan, _ = plan_bringing_back(bench.workspace, way_back(bench.workspace, there))
        crossing = Crossing.start(bench.workspace, plan, decided=True)
        assert crossing.run() is State.SETTLED
        crossing.close()

    for name in power.lost_while(bring_back, 110):
        assert everything <= _all(power.where), name
        crossing = the_one_on_its_way(bench.workspace, before)
        if crossing is None:
            continue
        if crossing.state in UNFINISHED:
            assert crossing.run() is State.SETTLED, name
        assert {n: (old / n).read_bytes() for n in documents} == documents, name
        assert oracle.plays(old / "absolute.otio", {}) and not crossing.home.opened().wrong, name
        assert (old / "media/new.mov").read_bytes() == b"new" * 900, name
        assert (old / "media/a.mov").read_bytes() == b"a" * 700, name
        assert everything <= _all(power.where) and contents(there) == home, name
        crossing.close()
