"""Searching: libraries are found in generated homes, nothing else is, and nothing is written."""

import json
import os
import random
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from fascis.files.control import Control
from fascis.files.errors import Cancelled
from fascis.files.own import in_order
from fascis.library.looking import seers, walking
from fascis.library.looking.look import look
from fascis.library.looking.seeing import Eyes
from tests.commands.test_commands import fascis
from tests.judge import contents
from tests.library.making import timeline, write
from tests.looking.homes import clips, film, make_home, program, recorded, scans
from tests.thorough import WORLDS


def found(bench, folder):
    return {one.root for one in look(bench.workspace, [folder]).libraries}


@pytest.mark.parametrize("seed", range(WORLDS))
def test_what_is_work_is_found_and_nothing_else(bench, home, seed):
    wanted = make_home(home, seed)
    before = contents(home)
    assert found(bench, home) == wanted
    # A second look knows the same.
    assert found(bench, home) == wanted
    assert contents(home) == before


def test_by_the_command_line(bench, home, monkeypatch):
    root = film(home, "Weir", random.Random(1))
    clips(home / "Pictures/Phone", random.Random(2), 9, "jpg")
    for kind in ("CACHE", "STATE", "DATA", "CONFIG"):
        monkeypatch.setenv(f"XDG_{kind}_HOME", str(bench.drives.parent / kind.lower()))
    every = [p for p in home.rglob("*") if p.is_file()]
    # Without a folder every drive is searched too, and other tests may have mounted some.
    _, all_of_it, _ = fascis(bench, "look", "--json")
    status, said, err = fascis(bench, "look", home, "--json")
    assert all(one in all_of_it["libraries"] for one in said["libraries"])
    assert status == 0, err
    (library,) = said["libraries"]
    assert (library["root"], library["kind"], library["known"]) == (
        str(root), "editing library", False,
    )  # fmt: skip
    files = [p for p in root.rglob("*") if p.is_file()]
    assert library["files"] == len(files)
    assert library["bytes"] == sum(p.stat().st_size for p in files)
    assert said["looked_at_files"] == len(every)
    assert sum(f["bytes"] for f in said["folders"]) == sum(p.stat().st_size for p in every)
    for one in said["folders"]:
        inside = [p for p in Path(one["path"]).rglob("*") if p.is_file()]
        assert one["files"] == len(inside) and sum(one["by_type"].values()) == one["bytes"]
    paths = [f["path"] + "/" for f in said["folders"]]
    assert not any(a != b and a.startswith(b) for a in paths for b in paths)
    biggest = max(every, key=lambda p: p.stat().st_size)
    assert said["files"][0]["bytes"] == biggest.stat().st_size
    fascis(bench, "survey", root, "--json")
    _, said, _ = fascis(bench, "look", home, "--json")
    assert said["libraries"][0]["known"] and said["libraries"][0]["library_id"]


def test_a_folder_with_records_tells_who_it_is(bench, home):
    root = recorded(home, "Heron", random.Random(3))
    _, said, _ = fascis(bench, "look", home, "--json")
    (library,) = said["libraries"]
    identity = json.loads((root / ".fascis/identity.json").read_text())
    assert (library["library_id"], library["name"]) == (identity["library_id"], "Heron")


def test_a_timeline_on_the_desktop_is_a_library_by_itself(bench, home):
    """What holds most of its media holds everything."""
    files = clips(home / "Videos", random.Random(4), 3)
    document = home / "Desktop" / "cut.otio"
    write(document, timeline(*map(str, files)))
    (library,) = look(bench.workspace, [home]).libraries
    assert library.root == document and library.files == 4


def test_what_changed_is_seen_and_what_did_not_is_remembered(bench, home, monkeypatch):
    root = film(home, "Weir", random.Random(5))
    program(home, random.Random(6))
    for path in sorted(home.rglob("*")):
        os.utime(path, (1_000_000_000, 1_000_000_000))
    first = look(bench.workspace, [home])
    listed = []
    see = Eyes._see

    def seeing(self, path, mtime_ns):
        listed.append(path)
        return see(self, path, mtime_ns)

    monkeypatch.setattr(Eyes, "_see", seeing)
    again = look(bench.workspace, [home])
    # The home itself was made just now: it may have changed again within the same moment.
    assert listed == [bytes(home)] and again.files == first.files
    clips(root / "footage" / "day 2", random.Random(7), 2)
    after = look(bench.workspace, [home])
    assert after.files == first.files + 2


@pytest.fixture
def helped(home, helpers_at_once, monkeypatch):
    """A home of so many folders that helpers see them."""
    monkeypatch.setattr(walking, "BATCH", helpers_at_once)
    for n in range(12):
        film(home, f"Weir {n}", random.Random(n))
        program(home, random.Random(100 + n))
    return home


def as_told(looked):
    one = [(x.root, x.files, x.size, x.room, x.last_change_ns) for x in looked.libraries]
    return sorted(one), looked.files, looked.big, looked.not_permitted


def test_helpers_see_what_one_process_sees(bench, helped, monkeypatch):
    started = []
    real = seers.Helper
    monkeypatch.setattr(seers, "Helper", lambda module: started.append(module) or real(module))
    with_helpers = as_told(look(bench.workspace, [helped]))
    assert len(started) == 2
    monkeypatch.setattr(in_order, "helper_count", lambda: 1)
    (bench.workspace.private / "looked.sqlite").unlink()
    assert as_told(look(bench.workspace, [helped])) == with_helpers
    assert len(with_helpers[0]) == 12


@pytest.mark.parametrize("after", [0, 2, 6])
def test_what_a_helper_was_to_see_when_it_died_is_seen_all_the_same(
    bench, helped, monkeypatch, after
):
    taken = []
    take = seers.Helper.take

    def dying(self, control):
        taken.append(1)
        if len(taken) > after:
            self._process.kill()
            self._process.wait()
        return take(self, control)

    monkeypatch.setattr(seers.Helper, "take", dying)
    looked = look(bench.workspace, [helped])
    assert len(taken) > after
    assert {one.root.name for one in looked.libraries} == {f"Weir {n}" for n in range(12)}
    assert looked.files == sum(p.is_file() for p in helped.rglob("*"))


def test_stopped_while_helpers_look_it_ends_and_so_do_they(bench, helped, monkeypatch):
    control, made = Control(), []
    real = seers.Helper

    def starting(module):
        made.append(real(module))
        control.stop()
        return made[-1]

    monkeypatch.setattr(seers, "Helper", starting)
    with pytest.raises(Cancelled):
        look(bench.workspace, [helped], control)
    assert made and all(h._process.poll() is not None for h in made)


def test_folders_that_cannot_be_listed_are_reported(bench, home, monkeypatch):
    film(home, "Weir", random.Random(8))
    closed = home / "Film locked"
    closed.mkdir()
    see = Eyes._see

    def refusing(self, path, mtime_ns):
        if path == bytes(closed):
            raise PermissionError(13, "no")
        return see(self, path, mtime_ns)

    monkeypatch.setattr(Eyes, "_see", refusing)
    looked = look(bench.workspace, [home])
    assert looked.not_permitted == [bytes(closed)] and len(looked.libraries) == 1


def test_stopped_it_ends_at_once(bench, home):
    film(home, "Weir", random.Random(9))
    control = Control()
    control.stop()
    with pytest.raises(Cancelled):
        look(bench.workspace, [home], control)


@pytest.mark.parametrize("damage", ["{", '{"format": 9}', "\x00" * 40])
def test_a_document_or_record_that_is_invalid_is_not_a_library(bench, home, damage):
    write(home / "Film/Weir/cut.otio", damage.encode())
    write(home / "Film/Otter/.fascis/identity.json", damage.encode())
    clips(home / "Film/Weir", random.Random(1), 2)
    assert found(bench, home) == set()


def test_a_folder_that_is_not_there_is_refused(bench):
    status, said, _ = fascis(bench, "look", bench.drives / "nowhere", "--json")
    assert status == 2 and "no connected drive" in said["error"]


def test_a_cache_that_is_damaged_is_made_again(bench, home):
    root = film(home, "Weir", random.Random(10))
    cache = bench.workspace.private / "looked.sqlite"
    write(cache, b"no database at all, but long enough to be taken for one" * 40)
    assert found(bench, home) == {root}
    with closing(sqlite3.connect(cache)) as db:
        assert db.execute("SELECT count(*) FROM seen").fetchone()[0] > 3


def test_a_folder_that_went_is_reported(bench, home):
    looked = look(bench.workspace, [home / "gone"])
    assert looked.libraries == [] and looked.not_permitted == [bytes(home / "gone")]


def test_a_folder_that_is_given_may_be_the_library_itself(bench, home):
    root = film(home, "Weir", random.Random(11))
    assert found(bench, root) == {root}


def test_a_database_that_is_read_already_is_found_too(bench, home):
    root = scans(home, "Mill", random.Random(12))
    assert fascis(bench, "learn", root / "scans.db", "--confirm", "--json")[0] == 0
    bench.workspace.use_readings()
    assert found(bench, home) == {root}


def test_where_one_helper_starts_and_the_next_cannot_the_first_is_used_and_ended(
    bench, helped, monkeypatch
):
    made, real = [], seers.Helper

    def starting(module):
        if made:
            raise OSError(11, "no more processes")
        made.append(real(module))
        return made[0]

    monkeypatch.setattr(seers, "Helper", starting)
    looked = look(bench.workspace, [helped])
    assert looked.files == sum(p.is_file() for p in helped.rglob("*"))
    assert made[0]._process.poll() is not None
