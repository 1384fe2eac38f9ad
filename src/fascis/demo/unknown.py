"""Documents of unknown make in the demo: a database of scans, a project of titles.

Both are made up here; nothing else in the program knows them.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from xml.sax.saxutils import quoteattr

Still = Callable[[Path, int, int], None]
PAPERS = "Mill Papers"
SCANS, TITLES = "Scans.db", "Title sequence.xml"
_BOXES = {"Letters 1911": 8, "Maps of the weir": 6, "Ferry tickets": 5}


def make_papers(internal: Path, still: Still) -> Path:
    """Makes a library of scanned papers, and of the title sequence that uses them."""
    papers = internal / PAPERS
    number = 0
    for box, count in _BOXES.items():
        for n in range(1, count + 1):
            number += 1
            still(papers / "scans" / box / f"sheet_{n:02}.jpg", 2100 + number, 500)
    for n in range(1, 7):
        still(papers / f"titles/plate_{n:02}.jpg", 2200 + n, 500)
    _scans(papers)
    _titles(papers)
    return papers


def _scans(papers: Path) -> None:
    """The path of a scan is stored in three parts, and its source once more."""
    with closing(sqlite3.connect(papers / SCANS)) as db:
        db.executescript(
            "CREATE TABLE cupboard(nr INTEGER PRIMARY KEY, stands TEXT);"
            "CREATE TABLE box(nr INTEGER PRIMARY KEY, cupboard INTEGER, called TEXT);"
            "CREATE TABLE sheet(nr INTEGER PRIMARY KEY, box INTEGER, scan TEXT, words TEXT, "
            "came TEXT);"
        )
        db.execute("INSERT INTO cupboard VALUES(1, ?)", (str(papers / "scans"),))
        for nr, box in enumerate(_BOXES, 1):
            db.execute("INSERT INTO box VALUES(?,1,?)", (nr, box))
            for scan in sorted((papers / "scans" / box).iterdir()):
                came = f"/tray/{nr}/{scan.stem}.raw"
                row = (nr, scan.name, f"{box}, written by hand", came)
                db.execute("INSERT INTO sheet(box, scan, words, came) VALUES(?,?,?,?)", row)
        db.commit()


def _titles(papers: Path) -> None:
    plates = "\n".join(
        f"  <plate turn={quoteattr(str(n))} shows={quoteattr(str(path))} fades='12'/>"
        for n, path in enumerate(sorted((papers / "titles").iterdir()), 1)
    )
    said = f'<?xml version="1.0"?>\n<sequence name="The Mill">\n{plates}\n</sequence>\n'
    (papers / TITLES).write_text(said, "utf-8")
