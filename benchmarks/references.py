"""Figures of slice 3: surveying what documents refer to, and moving a folder of a large catalog.

``python benchmarks/references.py FOLDER`` makes its libraries in a new folder there, and prints
figures.
"""

from __future__ import annotations

import json
import resource
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

from fascis.crossing.scope.surveyed import survey_library
from fascis.documents.catalog import move_folders
from fascis.documents.making import schema
from fascis.documents.model import Place
from fascis.drives.connected import Drives
from fascis.library.references.strands import totals
from fascis.workspace import Workspace

FILES, TIMELINES, CLIPS = 200_000, 50, 2_000
PHOTOS, MOVED = 500_000, 50_000


def make_library(root: Path) -> None:
    """50 timelines of 2,000 clips each; 200,000 files, a part of them used, and 20,000 outside."""
    for f in range(200):
        folder = root / "lib/media" / f"Day {f:03}"
        folder.mkdir(parents=True)
        for i in range(FILES // 200):
            (folder / f"clip_{i:04}.mov").touch()
    for f in range(20):
        folder = root / f"outside/Folder {f:02}"
        folder.mkdir(parents=True)
        for i in range(1000):
            (folder / f"loose_{i:04}.wav").touch()
    for t in range(TIMELINES):
        clips = []
        for c in range(CLIPS):
            n = t * CLIPS + c
            if n % 5:
                target = f"../media/Day {n % 200:03}/clip_{n // 200 % 1000:04}.mov"
            else:
                folder = f"outside/Folder%20{n // 5 % 20:02}"
                target = f"file://{root}/{folder}/loose_{n // 100 % 1000:04}.wav"
            clips.append(
                {"OTIO_SCHEMA": "Clip.2", "name": f"clip {c}", "metadata": {"notes": "x" * 200},
                "active_media_reference_key": "D",
                 "media_references": {"D": {"OTIO_SCHEMA": "ExternalReference.1",
                 "target_url": target}}}
            )  # fmt: skip
        track = {"OTIO_SCHEMA": "Track.1", "children": clips}
        path = root / f"lib/timelines/t{t:02}.otio"
        path.parent.mkdir(exist_ok=True)
        path.write_text(
            json.dumps(
                {
                    "OTIO_SCHEMA": "Timeline.1",
                    "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [track]},
                }
            )
        )


def make_catalog(path: Path) -> None:
    """500,000 photos in 10 folders."""
    with closing(sqlite3.connect(path)) as db:
        db.executescript(schema())
        db.execute("INSERT INTO place VALUES(1, 'inside', 'Pictures')")
        db.executemany(
            "INSERT INTO folder VALUES(?,1,?)", [(i, f"shoot {i}") for i in range(PHOTOS // MOVED)]
        )
        db.executemany(
            "INSERT INTO photo(id, folder_id, file_name, size_bytes, rating) VALUES(?,?,?,?,?)",
            ((i, i // MOVED, f"bell_{i:06}.jpg", 20_000_000 + i, i % 6) for i in range(PHOTOS)),
        )
        db.executemany(
            "INSERT INTO adjustment VALUES(?,?)", ((i, "<x/>" * 20) for i in range(0, PHOTOS, 5))
        )
        db.commit()


def survey(root: Path) -> None:
    """In a process of its own, for its memory."""
    workspace = Workspace(root / "data", root / "state", root / "config", Drives())
    for _ in range(2):
        begun = time.monotonic()
        found = survey_library(workspace, root / "lib")
        took = time.monotonic() - begun
    references = sum(d.references for d in found.uses.documents)
    print(f"survey: {took:.1f} s warm, {len(found.survey)} files, {references} references,"
          f" {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB at most")  # fmt: skip
    print({s.value: n for s, n in totals(found.survey, found.uses).items()})


def main() -> None:
    root = Path(sys.argv[1])
    if len(sys.argv) > 2:
        survey(root)
        return
    root.mkdir(parents=True, exist_ok=True)
    make_library(root)
    subprocess.run([sys.executable, __file__, str(root), "survey"], check=True)
    make_catalog(root / "big.fascat")
    begun = time.monotonic()
    move_folders(root / "big.fascat", {3: (Place("heron", "Bell"), "shoot 3")})
    took = time.monotonic() - begun
    megabytes = (root / "big.fascat").stat().st_size >> 20
    print(f"catalog of {PHOTOS} photos, {megabytes} MB: a folder of {MOVED} moved in {took:.2f} s")


if __name__ == "__main__":
    main()
