"""The copies of a library in the window: shown, verified, repaired, updated and brought back."""

import os
import sqlite3
import time
from contextlib import closing

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QLabel

from fascis.copies.manifesting import write_lists_of
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.sentence import Choice
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.files.control import Control
from tests.copies.test_update import begin, fill, work
from tests.judge import contents
from tests.library.making import timeline, write

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def copied(bench):
    """A library at home, known, with a verified copy on another drive."""
    lib = fill(bench)
    write(lib / "absolute.otio", timeline(str(lib / "media/b.mov")))
    remember(bench.workspace, survey_library(bench.workspace, lib))
    begin(bench, lib, bench.heron).close()
    return lib, bench.heron / lib.name


def said(window):
    found = "\n".join(x.text() for x in window.panel.findChildren(QLabel) if x.isVisible())
    return found.replace("\xa0", " ")


def choose(window, hands, root):
    """Clicks the block of one place of a library."""
    view = window.shelves

    def block():
        return next((b for b in view._blocks if b.standing.root == root), None)

    hands.wait(lambda: block() is not None, "the block")
    QTest.mouseClick(view, LEFT, pos=block().rect.center().toPoint())
    hands.wait(lambda: view.selected.root == root, "the choice")
    return block().standing


def shows(window, hands, *words):
    hands.wait(lambda: all(word in said(window) for word in words), str(words))


def damage(path):
    status = path.stat()
    path.write_bytes(bytes(b ^ 1 for b in path.read_bytes()))
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def test_a_copy_that_is_behind_is_seen_and_brought_up_to_date(open_window, copied, bench):
    lib, there = copied
    window, hands = open_window(bench)
    choose(window, hands, lib)
    shows(window, hands, "1 copy", "equal", "verified today")
    work(lib)
    hands.press("Compare the copies with home")
    shows(window, hands, "behind")
    assert choose(window, hands, there).state.value == "behind"
    before = contents(there)
    hands.press("Bring heron up to date")
    shows(window, hands, ".fascis/earlier", "Whole on heron at")
    said = hands.sentence().accessibleName()
    assert "moved file" in said and "removed file" in said and "to copy)." in said
    assert contents(there) == before
    hands.press("Bring heron up to date")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    shows(window, hands, "The copy is up to date")
    assert (there / "media/new.mov").read_bytes() == (lib / "media/new.mov").read_bytes()
    window.go_to(0)
    choose(window, hands, lib)
    shows(window, hands, "equal")


def test_damage_is_found_repaired_and_the_repair_undone(open_window, copied, bench):
    lib, there = copied
    good = contents(there)
    damage(there / "media/b.mov")
    (there / "media/c.mov").unlink()
    bad = contents(there)
    window, hands = open_window(bench)
    choose(window, hands, there)
    hands.press("Verify again")
    shows(window, hands, "2 files are damaged or missing", "media/b.mov")
    hands.press("Back")
    hands.wait(lambda: window.shelves.selected.state.value == "damaged", "the mark")
    hands.press("Take the good files from")
    shows(window, hands, "media/b.mov", "missing here", "damaged here")
    assert contents(there) == bad
    hands.press("Put the good files back")
    shows(window, hands, "2 files are what they were")
    assert contents(there) == good
    hands.press("Take it back")
    hands.wait(lambda: not window.planning.afterwards.open, "the library's page")
    assert contents(there) == bad


def test_a_library_is_brought_back_with_its_documents(open_window, copied, bench):
    lib, there = copied
    before, otter = contents(lib), bench.add_drive("otter")
    crossing = begin(bench, lib, otter)
    crossing.switch()
    crossing.release()
    crossing.close()
    assert not lib.exists()
    window, hands = open_window(bench)
    choose(window, hands, otter / lib.name)
    hands.press("Bring back to")
    shows(window, hands, "Whole on ")
    said = hands.sentence().accessibleName()
    assert said.startswith("Bring The Weir back from otter to ") and "Home moves back" in said
    (bench.drives / "inside/Loose/l.wav").unlink()
    hands.choose_in_sentence(Choice.GATHERED, "Goes back to where it was")
    shows(window, hands, "1 gathered file goes back", "put there again")
    hands.press("Bring it back")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    mine = contents(lib)
    assert {p: mine.get(p) for p in before} == before
    assert (bench.drives / "inside/Loose/l.wav").read_bytes() == b"loose" * 90
    assert not list(lib.rglob("l.wav"))


def test_what_was_worked_on_in_a_copy_is_decided_first(open_window, copied, bench):
    lib, there = copied
    write(lib / "media/a.mov", b"home's")
    write(there / "media/a.mov", b"the copy's")
    window, hands = open_window(bench)
    choose(window, hands, lib)
    hands.press("Compare the copies with home")
    shows(window, hands, "differs")
    hands.press("Bring heron up to date")
    shows(window, hands, "To decide, 1")
    assert window.panel.main.text() == "1\xa0decision first"
    hands.decide()
    hands.press("Bring heron up to date")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert b"the copy's" in {p.read_bytes() for p in there.rglob("a.mov")}


def test_a_reminder_is_in_words_on_the_block_and_nowhere_else(open_window, copied, bench):
    lib, there = copied
    year = time.time() - 400 * 86400
    with closing(sqlite3.connect(bench.workspace.register.path)) as db, db:
        db.execute("UPDATE looked SET verified_at=?", (year,))
    window, hands = open_window(bench)
    assert choose(window, hands, there).reminder == "not verified for a year"
    assert choose(window, hands, lib).reminder == ""
    hands.press("Make one more copy")
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    assert window.drafting.plan.choices.after.value == "copy"


def test_verifying_is_cancelled_and_a_drive_that_fails_is_reported(open_window, copied, bench):
    lib, there = copied
    window, hands = open_window(bench)
    choose(window, hands, there)
    hands.press("Verify again")
    if window.planning.afterwards.open:
        window.planning.afterwards._leave()
    hands.press("Verify again")
    shows(window, hands, "Sound")
    hands.press("Back")
    (there / ".fascis/manifest.b3").write_bytes(b"nonsense\n")
    hands.press("Verify again")
    shows(window, hands, "That could not be done")
    hands.press("Back")
    shows(window, hands, "1 copy")


def test_a_receipt_is_saved_as_a_pdf(open_window, copied, bench, tmp_path, monkeypatch):
    window, hands = open_window(bench)
    window.go_to(2)
    hands.wait(lambda: hands.button("Save as PDF") is not None, "the receipt")
    target = tmp_path / "receipt.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    hands.press("Save as PDF")
    hands.wait(target.exists, "the page")
    assert target.read_bytes().startswith(b"%PDF")


def test_a_crossing_that_finds_an_original_damaged_takes_the_good_file(open_window, copied, bench):
    lib, _ = copied
    write_lists_of(bench.workspace, lib, Control())
    good, otter = contents(lib), bench.add_drive("otter")
    damage(lib / "media/b.mov")
    plan = make_plan(bench.workspace, survey_library(bench.workspace, lib), otter, Choices())
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    assert crossing.run() is State.WAITING
    crossing.close()
    window, hands = open_window(bench)
    window.go_to(1)
    hands.press("Take the good files from heron")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert contents(lib) == good
    assert (otter / lib.name / "media/b.mov").read_bytes() == b"b" * 700
