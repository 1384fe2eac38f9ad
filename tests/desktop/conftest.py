"""A real window on stand-in drives."""

import time

import pytest
from PyQt6 import sip
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from fascis.crossing.scope.surveyed import survey_library
from fascis.desktop.app import make_application
from fascis.desktop.kit import theme
from fascis.desktop.kit.tasks import Task
from fascis.desktop.window import Window
from fascis.library.references.summary import summary_of
from fascis.tour.pictures import Hands


class QuickHands(Hands):
    """Goes on as soon as the window has nothing more to do, instead of letting a person see it."""

    def settle(self, most):
        end = time.monotonic() + most / 1000
        QTest.qWait(20)
        while self.window.findChildren(Task) and time.monotonic() < end:
            QTest.qWait(10)
        QTest.qWait(20)


@pytest.fixture
def open_window(qtbot, tmp_path):
    """Returns a function that opens the window on a bench."""
    windows = []

    def opening(bench, look=theme.LINEN):
        theme.apply(make_application([]), look)
        window = Window(bench.workspace)
        window.opened = []
        window.conducting.opener = window.opened.append
        qtbot.addWidget(window)
        window.show()
        windows.append(window)
        hands = QuickHands(window, tmp_path)
        hands.wait(lambda: bool(window.planning.shelves), "shelves")
        return window, hands

    yield opening
    for window in windows:
        if not sip.isdeleted(window):
            _let_end(window)


def _let_end(window):
    """Waits for the window's tasks and deletes it: nothing of it outlives the test's files."""
    window.close()
    until = time.monotonic() + 5
    while time.monotonic() < until and (
        working := [t for t in window.findChildren(Task) if t.thread_.is_alive()]
    ):
        working[0].thread_.join(0.5)
        QApplication.processEvents()
    sip.delete(window)


def register(bench):
    """Puts the bench's library into the register."""
    surveyed = survey_library(bench.workspace, bench.library)
    drive = bench.workspace.drives.at(bench.library)
    bench.workspace.register.put_library(
        bench.library,
        drive.uuid,
        bench.library.name,
        "editing library",
        None,
        summary_of(surveyed.survey),
    )
    return bench


@pytest.fixture
def known(bench, library):
    """The library, put into the register."""
    return register(bench)
