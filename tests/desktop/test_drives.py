"""Drives in the real window.

Chosen, measured, prepared, removed, away and known again, by pointer and keyboard.
"""

import os
import shutil
import signal
import time

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from fascis.crossing.model.states import State
from fascis.crossing.plan.sentence import Choice
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.demo.bench import levers
from fascis.demo.timelines import Cut, write_timeline
from fascis.desktop.drives.page import offers
from fascis.desktop.kit.notes import STAYS, Notes
from fascis.drives.care.removal import describe
from fascis.drives.connected import Drives
from fascis.drives.system.udisks import service_there
from fascis.library.known.shelves import read_shelves
from fascis.machine.disk_tool import DiskTool
from fascis.workspace import Workspace
from tests.clock import fast, less, within
from tests.conftest import Bench
from tests.crossing.ways import switched
from tests.desktop.conftest import register
from tests.desktop.test_window import panel_text, press
from tests.drives.test_answering import driver_of
from tests.drives.test_service import Plug, service  # noqa: F401 - a fixture
from tests.judge import contents

Key = Qt.Key


def choose(window, hands, label):
    """Clicks a drive by its label."""
    view = window.shelves
    hands.wait(lambda: any(s.drive.label == label for s in view._shelves), f"the shelf of {label}")
    at = view.shelf_of(label).topLeft().toPoint() + QPoint(60, 30)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=at)
    hands.wait(
        lambda: view.drive is not None and view.drive.drive.label == label, f"{label} chosen"
    )


def shelf(window, label):
    return next((s for s in window.planning.shelves if s.drive.label == label), None)


# -- looking ---------------------------------------------------------------------------------------


def test_a_drive_is_chosen_by_key_and_shown_with_its_libraries_and_rules(known, open_window):
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: view.selected is not None and view.hasFocus(), "the library")
    press(window, Key.Key_Left)
    hands.wait(lambda: "What it can hold" in panel_text(window), "the drive's page")
    assert view.drive.drive.label == "inside" and view.selected is None
    table = window.caring.drive_page.table
    assert [table.item(0, c).text() for c in range(3)][::2] == ["The Weir", "home"]
    assert "A.jpg and a.jpg are two files." in panel_text(window)
    press(window, Key.Key_Down)
    hands.wait(
        lambda: view.drive is not None and view.drive.drive.label == "heron",
        "an empty shelf is reached too",
    )
    press(window, Key.Key_Up, Key.Key_Right)
    hands.wait(
        lambda: view.selected is not None and "There is no copy" in panel_text(window),
        "back at the library",
    )


def test_a_drive_that_seems_to_be_a_backup_disk_is_called_one(known, open_window):
    (known.heron / "Backups").mkdir()
    window, hands = open_window(known)
    choose(window, hands, "heron")
    hands.wait(
        lambda: "seems to be a backup disk: it has Backups" in panel_text(window), "the flag"
    )


def test_hovering_says_why_a_library_cannot_or_should_not_go_there(known, open_window):
    known.fill({"media/a?.mov": 9})
    for name, filesystem, capacity in (("doubt", "exfat", 10**8), ("small", "vfat", 300_000)):
        known.add_drive(name, filesystem, capacity)
    register(known)
    known.again()
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: view.selected is not None and view.hasFocus(), "the library")
    press(window, Key.Key_Space, Key.Key_Down)
    hands.wait(lambda: len(view._previews) == 4, "previews")
    verdicts = {p.drive: (p.verdict.split(".")[0], p.detail) for p in view._previews.values()}
    assert verdicts["uuid-heron"][0] == "Fits" and verdicts["uuid-small"][0] == "Cannot take it"
    assert verdicts["uuid-doubt"] == ("Needs a decision", "1\u00a0name it cannot hold")
    assert "free" in verdicts["uuid-small"][1] and "needed" in verdicts["uuid-small"][1]
    press(window, Key.Key_Escape)


def test_what_does_not_fit_is_a_box_in_the_plan(known, open_window):
    known.fill({"media/a?.mov": 900})
    to = known.add_drive("doubt", "exfat", 10**8)
    known.again()
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    window.planning.begin_plan(window.shelves.selected, to)
    hands.open(Choice.ALONG)
    hands.wait(lambda: "1\u00a0name changes there" in panel_text(window), "the box")
    hands.tick("Files this drive cannot store")
    hands.wait(lambda: window.drafting.plan.choices.leave_clashing, "left out")
    hands.press("Start the crossing")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert len(contents(to / "The Weir")) == 10 and len(contents(known.library)) == 11


# -- doing -----------------------------------------------------------------------------------------


def test_a_drive_is_prepared_measured_and_removed(known, open_window):
    known.add_drive("new", "exfat", 200_000_000, write_mb_s=60, read_mb_s=80)
    known.again()
    window, hands = open_window(known)
    choose(window, hands, "new")
    hands.wait(
        lambda: window.panel.main is not None and "Make a folder" in window.panel.main.text(),
        "what comes next",
    )
    QTest.keyClick(window, Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    hands.wait(lambda: "can be written." in panel_text(window), "the folder")
    assert sorted(p.name for p in (known.drives / "new").iterdir()) == [
        "Libraries",
        "stand-in.json",
    ]
    hands.press("Measure its speed")
    hands.wait(
        lambda: "measured" in panel_text(window) and shelf(window, "new").speed is not None,
        "the speed",
    )
    assert shelf(window, "new").speed[0] < 75
    fast(shelf(window, "new").speed[0], 30)
    hands.press("Remove it safely")
    hands.wait(lambda: "can be unplugged now" in panel_text(window), "removed")
    assert (
        shelf(window, "new") is not None
        and not known.again().drives.at(known.drives / "new").connected
    )


def test_which_file_system_suits_and_the_desktop_s_own_tool(known, open_window, tmp_path):
    known.fill({"media/a?.mov": 9})
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    choose(window, hands, "heron")
    window.caring.tool = lambda: DiskTool("Plates", ("sh", "-c", f"touch {tmp_path}/opened"))
    hands.press("Which file system")
    hands.wait(lambda: "ext4 suits it best" in panel_text(window), "the recommendation")
    assert "It holds it as it is." in panel_text(window)
    assert "formats nothing itself" in panel_text(window)
    assert "exFAT: holds it" not in panel_text(window)
    hands.press("The other file systems")
    hands.wait(lambda: "exFAT: holds it, with decisions" in panel_text(window), "the others")
    hands.press("Open Plates")
    hands.wait(lambda: (tmp_path / "opened").exists(), "the tool")
    window.caring.tool = lambda: None
    hands.press("Back to the drive")
    hands.press("Which file system")
    hands.wait(
        lambda: "No disk tool of this desktop was found" in panel_text(window),
        "without one it is said",
    )


@pytest.mark.long
def test_a_drive_that_takes_part_in_a_crossing_is_confirmed_first(known, open_window):
    before = contents(known.fill({f"media/take_{n:02}.mov": 150_000 for n in range(30)}))
    known.add_drive("heron", write_mb_s=0.3)
    known.again()
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    window.planning.begin_plan(window.shelves.selected, known.heron)
    hands.press("Start the crossing")
    hands.wait(lambda: any(x.copied for x in window.conducting._lanes.values()), "the first bytes")
    window.go_to(0)
    choose(window, hands, "heron")
    hands.press("Remove it safely")
    hands.wait(lambda: "takes part in a crossing" in panel_text(window), "the question")
    assert window.conducting.running is not None and known.heron.exists()
    hands.press("Keep it connected")
    hands.wait(lambda: "What it can hold" in panel_text(window), "the drive")
    hands.press("Remove it safely")
    hands.press("Stop the crossing, then remove it")
    hands.wait(lambda: "can be unplugged now" in panel_text(window), "removed")
    assert window.conducting.running is None and contents(known.library) == before
    crossing = window.conducting.crossings[0]
    assert crossing.state in (State.COPYING, State.VERIFYING)
    known.add_drive("heron", write_mb_s=60)
    hands.wait(lambda: (s := shelf(window, "heron")) is not None and s.drive.connected, "back")
    window.go_to(1)
    hands.press("Continue")
    hands.wait(lambda: window.conducting.steps.balance is not None, "it goes on to the scales")
    assert contents(known.heron / "The Weir") == before == contents(known.library)


def test_whoever_turns_to_another_drive_meanwhile_removes_neither(known, open_window):
    """The crossing is stopped as asked.

    What is removed is never the drive that was chosen since.
    """
    known.fill({f"media/take_{n:02}.mov": 150_000 for n in range(30)})
    known.add_drive("heron", write_mb_s=0.3)
    known.add_drive("egret")
    known.again()
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    window.planning.begin_plan(window.shelves.selected, known.heron)
    hands.press("Start the crossing")
    hands.wait(lambda: any(x.copied for x in window.conducting._lanes.values()), "the first bytes")
    window.go_to(0)
    choose(window, hands, "heron")
    hands.press("Remove it safely")
    hands.press("Stop the crossing, then remove it")
    choose(window, hands, "egret")
    hands.wait(lambda: window.conducting.running is None, "stopped", 900)
    drives = known.workspace.drives
    assert drives.at(known.heron).connected and drives.at(known.drives / "egret").connected


# -- away, and known again -------------------------------------------------------------------------


def film(bench):
    """A library whose timeline names footage on the second drive."""
    media = bench.heron / "Footage"
    media.mkdir()
    for n in range(2):
        (media / f"weir_{n}.mov").write_bytes(b"frame" * (40 + n))
    write_timeline(
        bench.library / "cut.otio", [str(media / f"weir_{n}.mov") for n in range(2)], [], Cut(2, 48)
    )
    remember(bench.workspace, survey_library(bench.workspace, bench.library))
    return bench.library / "cut.otio"


def test_a_drive_is_reconnected_elsewhere_and_old_paths_are_updated(bench, open_window):
    cut = film(bench)
    before = cut.read_bytes()
    window, hands = open_window(bench)
    describe(bench.heron, connected=False)
    hands.wait(lambda: (s := shelf(window, "heron")) is not None and s.group == "away", "away")
    assert (
        window.planning.notes.shown()["uuid-heron"][1]
        == "2\u00a0files that libraries here use are on it"
    )
    where = bench.drives / "elsewhere"
    os.rename(bench.heron, where)
    describe(where, connected=True)
    hands.wait(
        lambda: "Known again" in window.planning.notes.shown().get("uuid-heron", ("",))[0],
        "known again",
    )
    choose(window, hands, "heron")
    hands.press("Update old paths")
    hands.wait(lambda: window.place == 4 and window.relinks.found == 2, "one card")
    assert cut.read_bytes() == before
    hands.press("Relink 2")
    hands.wait(lambda: window.relinks.act is not None and not window.relinks.busy, "relinked")
    after = cut.read_text()
    assert "elsewhere/Footage" in after and f"{bench.drives}/heron/" not in after
    hands.press("Undo")
    hands.wait(lambda: cut.read_bytes() == before, "undone")


def test_if_no_path_needs_an_update_that_is_said(known, open_window):
    window, hands = open_window(known)
    where = known.drives / "elsewhere"
    os.rename(known.heron, where)
    hands.wait(lambda: (s := shelf(window, "heron")) is not None and s.former, "at another place")
    choose(window, hands, "heron")
    hands.press("Update old paths")
    hands.wait(lambda: "Nothing needs an update" in panel_text(window), "said")


def test_a_library_that_is_new_here_is_offered_and_added(bench, library, open_window, tmp_path):
    other = Bench(tmp_path / "another computer")
    shutil.copytree(library, other.library)
    switched(other).close()
    shutil.copytree(other.heron / "The Weir", bench.heron / "Films/The Weir", symlinks=True)
    window, hands = open_window(bench)
    hands.wait(
        lambda: bool((s := shelf(window, "heron")) and s.standings), "found deeper in the drive"
    )
    (found,) = shelf(window, "heron").standings
    assert found.offered and "new here" in window.planning.notes.shown()["uuid-heron"][0]
    QTest.mouseClick(
        window.shelves,
        Qt.MouseButton.LeftButton,
        pos=window.shelves.block_of("The Weir").center().toPoint(),
    )
    hands.wait(lambda: "new on this computer" in panel_text(window), "what its file says")
    assert "Last crossing" in panel_text(window) and "is not proven" in panel_text(window)
    before = contents(bench.heron / "Films/The Weir")
    hands.press("Add it")
    hands.wait(lambda: [s.home for s in shelf(window, "heron").standings] == [True], "known now")
    assert contents(bench.heron / "Films/The Weir") == before


def test_another_folder_of_a_known_library_is_distinguished(bench, library, open_window):
    switched(bench).close()
    byhand = bench.heron / "By hand"
    shutil.copytree(bench.heron / "The Weir", byhand, symlinks=True)
    (byhand / "notes.txt").write_text("changed in the copy")
    window, hands = open_window(bench)
    hands.wait(lambda: bool((s := shelf(window, "heron")) and len(s.standings) == 2), "both")
    other = next(s for s in shelf(window, "heron").standings if s.says)
    view = window.shelves
    block = next(b for b in view._blocks if b.standing.id == other.id)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=block.rect.center().toPoint())
    hands.wait(lambda: "1\u00a0file in another state" in panel_text(window), "what differs")
    assert "newer on this one" in panel_text(window) and "The known one" in panel_text(window)
    hands.press("Make this one home on this computer")
    hands.wait(
        lambda: any(s.home and s.root == byhand for s in shelf(window, "heron").standings),
        "home now",
    )
    assert (
        len(contents(bench.heron / "The Weir")) >= 10
    )  # the other is a folder like any other now, untouched


def test_something_new_at_the_old_place_is_said_on_the_shelf_and_with_the_library(
    bench, library, open_window
):
    crossing = switched(bench)
    crossing.release()
    crossing.close()
    library.mkdir()
    window, hands = open_window(bench)
    hands.wait(lambda: "uuid-inside" in window.planning.notes.shown(), "the note")
    assert (
        window.planning.notes.shown()["uuid-inside"][0]
        == "There is something new where The Weir was."
    )
    hands.wait(lambda: "Nothing here was changed." in panel_text(window), "with the library")


# -- real drives -----------------------------------------------------------------------------------


def real_window(bench, open_window):
    bench.workspace = Workspace(
        bench.root / "data", bench.root / "state", bench.root / "config", Drives(bench.drives)
    )
    return open_window(bench)


@pytest.mark.lab
def test_a_mount_and_an_unmount_are_on_the_shelf_at_once(bench, mounted, open_window):
    window, hands = real_window(bench, open_window)
    hands.wait(lambda: bool(window.planning.shelves), "the shelves")
    begun = time.monotonic()
    where = mounted("ext4", 32, "QUICK")
    done = time.monotonic()
    hands.wait(
        lambda: (s := shelf(window, "QUICK")) is not None and s.drive.connected, "on the shelf", 0
    )
    within(done, 2)  # Wanted within 1 s; machines of tests are noisy.
    less(done - begun, 10)
    gone = time.monotonic()
    mounted.unmount(where)
    hands.wait(
        lambda: (s := shelf(window, "QUICK")) is None or not s.drive.connected,
        "gone from the shelf",
        0,
    )
    within(gone, 6)


@pytest.mark.lab
def test_a_drive_that_hangs_is_reported_and_the_window_stays_live(bench, mounted, open_window):
    where = mounted("exfat", 64, "HANGS")
    window, hands = real_window(bench, open_window)
    hands.wait(lambda: (s := shelf(window, "HANGS")) is not None and s.drive.connected, "connected")
    driver = driver_of(where)
    os.kill(driver, signal.SIGSTOP)
    try:
        longest, last = [0.0], [time.monotonic()]
        window.planning.refresh()
        until = time.monotonic() + 15
        while (s := shelf(window, "HANGS")) is None or not s.drive.silent:
            QTest.qWait(10)
            now = time.monotonic()
            longest[0], last[0] = max(longest[0], now - last[0]), now
            assert now < until, "said to be silent"
        less(longest[0], 0.5)  # The thread of the window never waits for it.
        choose(window, hands, "HANGS")
        hands.wait(lambda: "It does not answer." in panel_text(window), "said")
        assert hands.button("Measure") is None and hands.button("Remove it") is None
    finally:
        os.kill(driver, signal.SIGCONT)
    window.planning.refresh()
    hands.wait(
        lambda: (s := shelf(window, "HANGS")) is not None and s.drive.connected, "answers again"
    )


@pytest.mark.lab
def test_a_drive_that_is_connected_is_mounted_and_removed_from_its_page(
    bench,
    tmp_path,
    open_window,
    service,  # noqa: F811
):  # noqa: F811
    plug = Plug(tmp_path, "ext4")
    window, hands = real_window(bench, open_window)
    try:
        plug.plug_in()
        hands.wait(
            lambda: (s := shelf(window, plug.label)) is not None and not s.drive.mounted,
            "plugged in",
        )
        choose(window, hands, plug.label)
        hands.wait(lambda: "It is plugged in and not mounted." in panel_text(window), "said")
        hands.press("Mount it")
        hands.wait(
            lambda: (s := shelf(window, plug.label)) is not None and s.drive.connected, "mounted"
        )
        hands.wait(lambda: "Mounted at" in panel_text(window), "told where")
        hands.press("Remove it safely")
        hands.wait(lambda: "can be unplugged now" in panel_text(window), "removed")
        assert not any(d.label == plug.label and d.connected for d in Drives().connected())
    finally:
        plug.pull()
    assert service_there()


# -- the bench of the demo, and what is pure -------------------------------------------------------


def pull(bench, name, words):
    folder = bench.drives / name
    next(x for x in levers(bench.workspace.drives, folder) if x.words == words).pull()
    return bench.again()


def test_every_lever_of_the_bench_does_what_it_says(bench):
    bench.add_drive("stick", "exfat", 30_000_000, write_mb_s=20, read_mb_s=20)
    bench.again()
    drive = lambda: bench.workspace.drives.at(bench.drives / "stick")  # noqa: E731
    pull(bench, "stick", "Fill")
    assert drive().free < 3_000_000
    pull(bench, "stick", "Empty")
    assert drive().free > 29_000_000
    pull(bench, "stick", "Slow")
    assert drive().write_mb_s < 1
    pull(bench, "stick", "Quicken")
    fast(drive().write_mb_s, 10)
    pull(bench, "stick", "Rename")
    assert drive().label == "stick (renamed)"
    pull(bench, "stick", "Clone")
    assert drive().twin_of == "uuid-stick"
    shutil.rmtree(bench.drives / "stick (clone)")
    pull(bench, "stick", "Unplug")
    assert not drive().connected
    pull(bench, "stick", "Plug in elsewhere")
    assert (
        bench.workspace.drives.at(bench.drives / "stick (elsewhere)").connected
        and not (bench.drives / "stick").exists()
    )
    (bench.drives / "stick").mkdir()
    describe(bench.drives / "stick (elsewhere)", connected=False)
    with pytest.raises(Exception, match="plug it in elsewhere"):
        pull(bench, "stick (elsewhere)", "Plug in elsewhere")


def test_notes_come_and_go(bench, library):
    now = [0.0]
    notes = Notes(lambda: now[0])
    first = read_shelves(bench.workspace)
    notes.look([], first, [])
    assert notes.shown() == {}
    bench.add_drive("heron", connected=False)
    away = read_shelves(bench.again())
    notes.look(first, away, [])
    bench.add_drive("heron")
    back = read_shelves(bench.again())
    notes.look(away, back, [])
    assert notes.shown()["uuid-heron"][0] == "Connected."
    now[0] = STAYS + 1
    assert notes.shown() == {}


def test_what_is_offered_for_a_drive_depends_on_what_it_is(bench):
    bench.add_drive("locked", read_only=True)
    bench.add_drive("gone", connected=False)
    by = {s.drive.label: s for s in read_shelves(bench.again())}
    assert [o.deed for o in offers(by["gone"], True, False)] == []
    assert [o.deed for o in offers(by["locked"], True, False)] == [
        "look", "suits", "remove",
    ]  # fmt: skip
    assert (
        offers(by["heron"], False, False)[0].deed == "folder"
        and offers(by["heron"], False, False)[0].main
    )
    assert "remove" not in [o.deed for o in offers(by["inside"], True, True)]


def test_a_description_that_cannot_be_changed_is_reported(bench):
    (bench.heron / "stand-in.json").write_text("{")
    with pytest.raises(Exception, match="change the stand-in drive"):
        describe(bench.heron, connected=False)
    assert (bench.heron / "stand-in.json").read_text() == "{"
