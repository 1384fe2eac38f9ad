"""Starting the window: application, fonts, theme, workspace, window, in that order."""

from __future__ import annotations

import gc
import logging
import os
import signal
import sys
import threading
from types import TracebackType

from PyQt6.QtCore import QLibraryInfo, QLocale, QTimer, QTranslator
from PyQt6.QtWidgets import QApplication

from fascis.desktop.kit import theme
from fascis.desktop.window import Window, preferred_theme
from fascis.files.own import log
from fascis.words.speech import language
from fascis.workspace import Workspace, from_environment

_LOG = logging.getLogger(__name__)
_NAME = "fascis"


def make_application(arguments: list[str]) -> QApplication:
    """The one application object, with our font: made once."""
    existing = QApplication.instance()
    if isinstance(existing, QApplication) and existing.applicationName() == _NAME:
        return existing
    _use_the_desktops_dialogs()
    application = existing if isinstance(existing, QApplication) else QApplication(arguments)
    application.setApplicationName(_NAME)
    application.setDesktopFileName("org.fascis.Fascis")
    application.setStyle("Fusion")
    _speak(application)
    theme.load_fonts()
    _stay_live()
    return application


def _speak(application: QApplication) -> None:
    """The toolkit's own texts, such as a field's menu, in the window's language."""
    words = QTranslator(application)
    folder = QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)
    if words.load(QLocale(language()), "qtbase", "_", folder):
        application.installTranslator(words)


def _use_the_desktops_dialogs() -> None:
    """Uses the desktop's own file dialog, through its portal, if it has one.

    Otherwise the toolkit uses its own.
    """
    if os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        os.environ.setdefault("QT_QPA_PLATFORMTHEME", "xdgdesktopportal")


def _stay_live() -> None:
    """Keeps tasks from blocking the window.

    A full garbage collection over a large library's objects takes a tenth of a second, in any
    thread; objects made in bulk here have no cycles. And a computing thread gives up the
    interpreter only after 5 ms by default, at every call of the toolkit while it paints.
    """
    gc.set_threshold(2_000, 10, 100_000)
    sys.setswitchinterval(0.0002)


def expect_anything(window: Window) -> None:
    """An unexpected error never ends the program or shows a traceback, wherever it occurs."""

    def said(
        kind: type[BaseException], error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if error is None or isinstance(error, (KeyboardInterrupt, SystemExit)):
            sys.__excepthook__(kind, error or kind(), trace)
            return
        window.take_unexpected(error)

    sys.excepthook = said
    threading.excepthook = lambda told: said(told.exc_type, told.exc_value, told.exc_traceback)


def run(arguments: list[str], workspace: Workspace | None = None, demo: bool = False) -> int:
    """Opens the window and stays until it is closed; returns the exit status."""
    application = make_application(arguments)
    workspace = workspace or from_environment()
    log.begin(workspace.state)
    _LOG.info("the window opens")
    theme.apply(application, preferred_theme(workspace))
    window = Window(workspace, demo)
    expect_anything(window)
    window.show()
    signal.signal(signal.SIGINT, lambda *_: window.close())
    # Lets Python handle signals while Qt waits.
    waker = QTimer()
    waker.start(500)
    waker.timeout.connect(lambda: None)
    status = application.exec()
    if window.conducting.stuck:
        # Some thread waits in the kernel for a drive that does not answer, perhaps for ever.
        os._exit(status)
    return status


if __name__ == "__main__":
    sys.exit(run(sys.argv))
