"""Survey, roles, identity, register, shelves."""

import ctypes
import mmap
import os
import sqlite3
import subprocess
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fascis.crossing.fit.names import Apart
from fascis.crossing.journal.leads import LeadRows
from fascis.crossing.scope.gathering import Gathering
from fascis.crossing.start.rows import Rows
from fascis.crossing.status.old_place import set_aside
from fascis.files.control import Control
from fascis.files.disk.medium import PosixMedium
from fascis.files.errors import Cancelled, Damaged
from fascis.files.names import join
from fascis.files.own import in_order
from fascis.files.own.database import bring_up
from fascis.library import listing, register
from fascis.library import survey as survey_module
from fascis.library.identity import (
    Crossed,
    Home,
    Identity,
    format_identity,
    parse_identity,
    read_identity,
)
from fascis.library.known.shelves import read_shelves
from fascis.library.open_files import find_open
from fascis.library.references.summary import parse_summary, summary_of
from fascis.library.register import Register
from fascis.library.roles import Role, RoleRule
from fascis.library.survey import Kind, survey
from tests.conftest import every_program
from tests.stopping import StopsWhen


@pytest.mark.parametrize(
    ("place", "role"),
    [("media/render_test.mov", "original"), ("Renders/a.mov", "render"), ("x/PROXIES/y/a.mov",
    "proxy"), ("previews/p.bin", "preview"), ("a.xmp", "sidecar"),
     ("cut.otio", "document"), ("notes.txt", "other"), ("noextension", "other"),
     ("my renders/a.mov", "original"), ("a.JPG", "original")],
)  # fmt: skip
def test_roles_come_from_folders_and_types_never_from_words_in_names(place, role):
    folder, _, name = place.encode().rpartition(b"/")
    rule = RoleRule()
    assert (rule.of_folder(folder) or rule.of_name(name)).value == role


def test_patterns_of_an_identity_decide_first():
    rule = RoleRule({"exports": "render"})
    assert (
        rule.of_folder(b"exports") is Role.RENDER
        and rule.of_folder(b"exports/2024") is Role.RENDER
        and rule.of_folder(b"media") is None
    )


def surveyed(root):
    medium = PosixMedium.at(root)
    try:
        return survey(medium)
    finally:
        medium.close()


def test_a_survey_counts_what_find_counts_and_writes_nothing(bench, library):
    os.mkfifo(library / "pipe")
    os.symlink("x", library / "link")
    before = {p: p.lstat().st_mtime_ns for p in library.rglob("*")}
    found = surveyed(library)
    files = [p for p in library.rglob("*") if p.is_file() and not p.is_symlink()]
    assert sum(s.files for s in found.strands()) == len(files) == 10
    assert sum(s.bytes for s in found.strands()) == sum(p.stat().st_size for p in files)
    kinds = {place: found.kind(row) for row, _, place in found.rows()}
    assert kinds[b"pipe"] is Kind.SPECIAL and kinds[b"link"] is Kind.LINK and len(kinds) == 12
    assert {p: p.lstat().st_mtime_ns for p in library.rglob("*")} == before


@given(
    st.sets(
        st.tuples(
            st.sampled_from(["", "a", "a/b", "renders"]),
            st.text("xyz.jpg", min_size=1, max_size=6).filter(lambda n: n not in (".", "..")),
        ),
        max_size=12,
    )
)
def test_columns_agree_with_the_folder(tmp_path_factory, wanted):
    root = tmp_path_factory.mktemp("s")
    for folder, name in wanted:
        (root / folder).mkdir(parents=True, exist_ok=True)
        if not (root / folder / name).is_dir():
            (root / folder / name).write_bytes(name.encode())
    found = surveyed(root)
    with pytest.MonkeyPatch.context() as some:
        some.setattr(survey_module, "_AT_ONCE", 2)
        rows = list(found.rows())
    assert [row for row, _, _ in rows] == list(range(len(found)))
    assert all(join(f.place, found.name(row)) == place for row, f, place in rows)
    assert {os.fsdecode(place) for _, _, place in rows} == {
        str(p.relative_to(root)) for p in root.rglob("*") if p.is_file()
    }
    assert found.kinds() == bytes(found.kind(row) for row in range(len(found)))
    assert all(found.size[row] == len(found.name(row)) for row, _, _ in found.rows())


def test_rows_of_a_plan_are_complete_or_none_is_written(library):
    found = surveyed(library)
    fates = bytes(len(found))
    complete = Rows(found, fates, Gathering(), Apart(), LeadRows([], []))
    places = {number: place for number, place, *_ in complete.folders()}
    assert [(row, places[folder], name) for row, folder, name, *_ in complete.entries()] == [
        (row, folder.place, place.rpartition(b"/")[2]) for row, folder, place in found.rows()
    ]
    short = Rows(found, fates[:-1], Gathering(), Apart(), LeadRows([], []))
    list(short.folders())
    with pytest.raises(ValueError, match="shorter"):
        list(short.entries())


@pytest.mark.parametrize("version", [None, 1, 3])
def test_several_open_a_register_at_the_same_moment_and_all_of_them_can(tmp_path, version):
    """At the first start, or after an update, the window and its tasks, or a command beside it."""
    path = tmp_path / "register.sqlite"
    if version:
        with closing(sqlite3.connect(path)) as db:
            bring_up(db, {n: step for n, step in register._STEPS.items() if n < version})
    gate = threading.Barrier(6)

    def put(number):
        gate.wait(10)
        return Register(path).put_library(Path(f"/{number}"), "uuid", f"{number}", "catalog", None)

    with ThreadPoolExecutor(6) as pool:
        ids = list(pool.map(put, range(6)))
    assert {x.id for x in Register(path).libraries()} == set(ids) and len(set(ids)) == 6


def test_a_step_that_fails_leaves_the_register_as_it_was(tmp_path):
    path = tmp_path / "register.sqlite"
    with closing(sqlite3.connect(path)) as db:
        bring_up(db, {0: register._STEPS[0]})
        with pytest.raises(sqlite3.OperationalError):
            bring_up(db, {1: register._STEPS[1] + "ALTER TABLE nothing ADD COLUMN x;"})
        tables = {
            name for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type='table'")
        }
        assert tables == {"library", "copy", "drive"}
        assert db.execute("PRAGMA user_version").fetchone() == (1,)
    assert Register(path).libraries() == []


def test_a_survey_can_be_stopped(library):
    medium = PosixMedium.at(library)
    with pytest.raises(Cancelled, match="nothing was changed"):
        survey(medium, control=StopsWhen())
    medium.close()


@pytest.fixture
def wide(tmp_path, helpers_at_once, monkeypatch):
    """A library of so many folders that helpers list them."""
    monkeypatch.setattr(listing, "BATCH", helpers_at_once)
    root = tmp_path / "wide"
    names = [b"a.mov", b"b.JPG", b"a.MOV", b"note", b"cut.otio", b"\xff\xfe.wav", b"x.r\nm"]
    for day in range(8):
        folder = bytes(root) + b"/day-%d/Renders" % day if day % 3 else bytes(root) + b"/d %d" % day
        os.makedirs(folder)
        for size, name in enumerate(names[: day or 7]):
            with open(folder + b"/" + name, "wb") as out:
                out.write(b"x" * (size + day))
        os.utime(folder + b"/a.mov", ns=(0, (day - 3) * 10**18))
        os.symlink("a.mov", folder + b"/link.mov")
    os.mkfifo(root / "pipe.mov")
    return root


def as_columns(found):
    rows = [(place, folder.place, folder.mode) for _, folder, place in found.rows()]
    columns = [getattr(found, name).tobytes() for name in (*listing.COLUMNS, "role")]
    return rows, columns, found.mounts, [str(t) for t in found.unlistable]


def test_helpers_list_what_one_process_lists(wide, monkeypatch):
    started, real = [], listing.Helper
    monkeypatch.setattr(listing, "Helper", lambda *how: started.append(how) or real(*how))
    with_helpers = as_columns(surveyed(wide))
    assert len(started) == 2
    monkeypatch.setattr(in_order, "helper_count", lambda: 1)
    alone = as_columns(surveyed(wide))
    assert alone == with_helpers and len(started) == 2
    found = [
        bytes(p.relative_to(wide)) for p in wide.rglob("*") if not p.is_dir() or p.is_symlink()
    ]
    assert sorted(place for place, *_ in alone[0]) == sorted(found)
    assert len(found) > 30


@pytest.mark.parametrize("after", [0, 2, 3])
def test_what_a_helper_was_to_list_when_it_died_is_listed_all_the_same(wide, monkeypatch, after):
    expected = as_columns(surveyed(wide))
    taken, take = [], listing.Helper.take

    def dying(self, control):
        taken.append(1)
        if len(taken) > after:
            self._process.kill()
            self._process.wait()
        return take(self, control)

    monkeypatch.setattr(listing.Helper, "take", dying)
    assert as_columns(surveyed(wide)) == expected and len(taken) > after


def test_a_folder_that_a_helper_cannot_list_is_reported_by_its_place(wide, monkeypatch):
    answer = listing.Helper.take

    def refusing(self, control):
        return [(13, "Permission denied") for _ in answer(self, control)]

    monkeypatch.setattr(listing.Helper, "take", refusing)
    found = surveyed(wide)
    refused = [trouble.place for trouble in found.unlistable]
    # The top is listed here, before there are helpers.
    assert refused == sorted(os.fsencode(name) for name in os.listdir(wide) if name != "pipe.mov")
    assert "day-7: it is not permitted" in str(found.unlistable[-1])
    assert [folder.place for folder in found.folders] == [b""]


def test_stopped_while_helpers_list_it_ends_and_so_do_they(wide, monkeypatch):
    made, control, real = [], Control(), listing.Helper

    def starting(*how):
        made.append(real(*how))
        control.stop()
        return made[-1]

    monkeypatch.setattr(listing, "Helper", starting)
    medium = PosixMedium.at(wide)
    with closing(medium), pytest.raises(Cancelled, match="nothing was changed"):
        survey(medium, control=control)
    assert made and all(helper._process.poll() is not None for helper in made)


IDENTITY = Identity(
    library_id="0b5f2c00-aaaa",
    name="The Weir",
    home=Home(drive="u", path="The Weir"),
    # fmt: skip
    history=[
        Crossed.model_validate(
            {"id": "1", "when": "2024-05-01T10:00:00Z", "from": "/a", "to": "/b", "token": "t"}
        )
    ],
)


def test_an_identity_survives():
    assert parse_identity(format_identity(IDENTITY), "x") == IDENTITY


@pytest.mark.parametrize(
    "text",
    [
        b"",
        b"[]",
        b"{}",
        b'{"format": 1, "library_id": "../../x", "name": "x", "home": {}}',
        b"\xff\xfe",
        b"[" * 5000,
    ],
)
def test_a_damaged_identity_is_reported(text):
    with pytest.raises(Damaged, match="damaged"):
        parse_identity(text, "identity.json")


def test_a_newer_identity_is_not_guessed_at():
    with pytest.raises(Damaged, match=r"newer version \(format 7"):
        parse_identity(b'{"format": 7}', "identity.json")


def test_an_identity_behind_a_link_is_not_read(tmp_path):
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "elsewhere/identity.json").write_bytes(format_identity(IDENTITY))
    (tmp_path / "lib").mkdir()
    (tmp_path / "lib/.fascis").symlink_to(tmp_path / "elsewhere")
    medium = PosixMedium.at(tmp_path / "lib")
    assert read_identity(medium, "x") is None
    medium.close()


def test_the_register_remembers(bench, library):
    register = bench.workspace.register
    id = register.put_library(
        library, "uuid-inside", "The Weir", "library", None, summary_of(surveyed(library))
    )
    assert register.put_library(library, "uuid-inside", "The Weir", "library") == id
    known = register.library_at(library)
    assert (
        known
        and known.id == id
        and parse_summary(known.summary).files == 10
        and register.find(id[:5])[0].id == id
    )


@pytest.mark.parametrize(
    ("spoil", "words"), [(b"rubbish" * 400, "cannot be used"), (None, "newer version")]
)
def test_a_register_that_cannot_be_used_says_so_and_stays(tmp_path, spoil, words):
    path = tmp_path / "register.sqlite"
    if spoil:
        path.write_bytes(spoil)
    else:
        db = sqlite3.connect(path)
        db.execute("PRAGMA user_version=9")
        db.close()
    before = path.read_bytes()
    with pytest.raises(Damaged, match=words):
        Register(path).libraries()
    assert path.read_bytes() == before


@pytest.mark.parametrize(
    "kept", [{}, {"roles": 5}, {"roles": {"nonsense": [1, 2, 3]}}, {"roles": {"proxy": [1]}}]
)
def test_a_summary_that_is_not_a_summary(kept):
    assert parse_summary(kept) is None


def test_shelves_show_home_copies_and_what_is_parked(bench, library):
    from tests.crossing.ways import switched

    crossing = switched(bench)
    crossing.park()
    shelves = read_shelves(bench.workspace, set_aside([crossing]))
    standing = {(s.drive.label, x.home, x.parked) for s in shelves for x in s.standings}
    assert standing == {("heron", True, False), ("inside", False, True)}


def test_a_library_with_an_identity_is_recognised_on_a_newly_connected_drive(bench, library):
    from tests.crossing.ways import settled

    crossing = settled(bench)
    bench.workspace.register.path.unlink()
    names = {x.name for s in read_shelves(bench.again()) for x in s.standings}
    assert names == {"The Weir"} and crossing.places.target.exists()


def test_who_has_a_file_open(tmp_path):
    path = tmp_path / "x"
    path.write_bytes(b"1")
    s = path.stat()
    with open(path, "r+b"):
        mine = find_open({(s.st_dev, s.st_ino)}, {s.st_dev}, skip_self=False).files
    assert mine and mine[0].pid == os.getpid() and mine[0].writing
    assert find_open({(s.st_dev, s.st_ino)}, {s.st_dev}).files == []
    # A test looks through its own programs only; a person's plan looks through all.
    assert {1, os.getpid()} <= set(every_program())


@pytest.mark.lab
@pytest.mark.parametrize("kind", ["ext4", "btrfs"])
def test_a_file_that_is_only_mapped_is_in_use_on_every_part_of_a_drive(mounted, kind):
    """The program has closed its handle; on btrfs the kernel names its drive by another number."""
    mount = mounted(kind)
    places = [mount / "x", mount / "part" / "x"]
    if kind == "btrfs":
        command = ["btrfs", "subvolume", "create", mount / "part"]
        subprocess.run(command, check=True, capture_output=True)
    else:
        places[1].parent.mkdir()
    for path in places:
        path.write_bytes(b"a heron" * 1000)
    keys = {(path.stat().st_dev, path.stat().st_ino) for path in places}
    devices = {device for device, _ in keys}
    assert find_open(keys, devices, skip_self=False).files == []
    # On btrfs both have the same inode, each in its part.
    with _mapped_without_a_handle(places[0]), _mapped_without_a_handle(places[1]):
        found = find_open(keys, devices, skip_self=False).files
    assert {(one.device, one.inode) for one in found} == keys and len(found) == len(keys) == 2
    assert {(one.pid, one.writing) for one in found} == {(os.getpid(), False)}
    assert all(path.read_bytes() == b"a heron" * 1000 for path in places)


@contextmanager
def _mapped_without_a_handle(path):
    """The interpreter's own module would keep a handle beside the mapping."""
    libc = ctypes.CDLL(None, use_errno=True)
    libc.mmap.restype = ctypes.c_void_p
    libc.mmap.argtypes = [ctypes.c_void_p, ctypes.c_size_t, *[ctypes.c_int] * 3, ctypes.c_long]
    libc.munmap.argtypes = [ctypes.c_void_p, ctypes.c_size_t]
    handle = os.open(path, os.O_RDONLY)
    at = libc.mmap(None, 4096, mmap.PROT_READ, mmap.MAP_PRIVATE, handle, 0)
    os.close(handle)
    assert at != ctypes.c_void_p(-1).value
    try:
        yield
    finally:
        libc.munmap(at, 4096)


@pytest.mark.lab
@pytest.mark.skipif(os.geteuid() != 0, reason="only root can mount")
def test_a_file_is_open_although_its_drive_was_unmounted_under_it(tmp_path):
    there, mounted = tmp_path / "there", tmp_path / "mounted"
    there.mkdir(), mounted.mkdir()
    (there / "x").write_bytes(b"1")
    s = (there / "x").stat()
    subprocess.run(["mount", "--bind", there, mounted], check=True)
    with open(mounted / "x", "r+b"):
        subprocess.run(["umount", "--lazy", mounted], check=True)
        found = find_open({(s.st_dev, s.st_ino)}, {s.st_dev}, skip_self=False).files
    assert [(one.pid, one.writing) for one in found] == [(os.getpid(), True)]


def test_a_register_of_the_first_version_is_brought_up_and_keeps_what_it_knew(bench, library):
    register = bench.workspace.register
    id = register.put_library(library, "uuid-inside", "The Weir", "library")
    with closing(sqlite3.connect(register.path)) as db:
        db.executescript(
            "DROP TABLE used; DROP TABLE former; DROP TABLE looked; DROP TABLE reading;"
            " DROP TABLE proposed;"
            " ALTER TABLE drive DROP COLUMN hardware;"
            " ALTER TABLE drive DROP COLUMN measured_at; PRAGMA user_version=1;"
        )
    assert register.libraries()[0].id == id and register.expected(id) == {}
    register.put_used(id, [(b"/a.mov", 7, b"", True, 9)])
    assert register.expected(id) == {b"/a.mov": (7, b"", 9)}
