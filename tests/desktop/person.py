"""A process that runs the window on real drives, driven as a person would.

The test ends it with SIGKILL.

Usage: person.py LIBRARY MOUNT begin|go-on. Prints lines that begin with "said:".
"""

import json
import sys
import tempfile
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from fascis.crossing.scope import needed
from fascis.desktop.app import make_application
from fascis.desktop.kit import theme
from fascis.desktop.window import Window
from fascis.tour.pictures import Hands
from fascis.workspace import from_environment

# Outside a test's files is the machine's whole disk: not all of it is searched.
needed.MOST_FOLDERS = 200
library, mount, what = Path(sys.argv[1]), Path(sys.argv[2]), sys.argv[3]
application = make_application([])
theme.apply(application, theme.LINEN)
window = Window(from_environment())
window.show()
hands = Hands(window, Path(tempfile.gettempdir()))
view = window.shelves
hands.wait(lambda: bool(window.planning.shelves), "shelves")
if what == "begin":
    window.planning.add_library(library)  # the folder dialog's answer
    hands.wait(lambda: view.selected is not None and view.selected.root == library, "the library")
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_Space)
    for _ in range(20):
        QTest.keyClick(view, Qt.Key.Key_Down)
        if view._shelves[view._over].drive.mount == mount:
            break
    QTest.keyClick(view, Qt.Key.Key_Return)
    hands.press("Start the crossing")
    hands.wait(
        lambda: any(x.verified for x in window.conducting._lanes.values()), "something verified", 0
    )
    QTest.keyClick(window, Qt.Key.Key_P)
    print("said:half", sum(x.verified for x in window.conducting._lanes.values()), flush=True)
    QTest.qWait(60_000)
else:
    hands.press("Continue")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    table = window.crossings.checks
    rows = {
        table.item(r, 0).text().split("   ")[0]: [table.item(r, c).text() for c in (1, 2, 3)]
        for r in range(table.rowCount())
    }
    print(
        "said:"
        + json.dumps(
            {
                "rows": rows,
                "even": window.conducting.steps.balance.even,
                "title": window.crossings.title.text(),
            }
        ),
        flush=True,
    )
    window.close()
