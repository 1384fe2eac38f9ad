"""How long it takes, before a release, to look at everything that may need what would go.

50 libraries on one drive.

    python benchmarks/needed.py FOLDER

Makes 50 libraries of 2,000 files and 20 timelines of 50 references below FOLDER, once, all of them
known; every tenth refers into the
first one, and so does a catalog beside them that nobody knows. Also the survey of 200,000 files
with 10,000 small files of unknown
make among them.
"""

import json
import statistics
import sys
import time
from pathlib import Path

from fascis.crossing.scope.needed import Going, find_needed
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.drives.connected import Drives
from fascis.workspace import Workspace

LIBRARIES, FILES, TIMELINES, REFERENCES = 50, 2_000, 20, 50


def timeline(targets: list[str]) -> str:
    clips = [
        {
            "OTIO_SCHEMA": "Clip.2",
            "media_reference": {"OTIO_SCHEMA": "ExternalReference.1", "target_url": t},
        }
        for t in targets
    ]
    return json.dumps(
        {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": clips}}
    )


def make(folder: Path) -> None:
    for n in range(LIBRARIES):
        library = folder / f"Library {n:02}"
        for f in range(FILES):
            path = library / f"media/Day {f // 100:02}/clip_{f:04}.mov"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x" * 20)
        for t in range(TIMELINES):
            said = [
                f"../media/Day {i % 20:02}/clip_{(i % 20) * 100 + i:04}.mov"
                for i in range(REFERENCES)
            ]
            if n and n % 10 == 0:
                said[0] = str(folder / "Library 00/media/Day 00/clip_0001.mov")
            path = library / f"cuts/cut {t:02}.otio"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(timeline(said))
    (folder / "beside.m3u8").write_text(str(folder / "Library 00/media/Day 00/clip_0002.mov"))
    (folder / "made").touch()


def main(folder: Path) -> None:
    libraries = folder / "libraries"
    if not (libraries / "made").exists():
        make(libraries)
    workspace = Workspace(folder / "data", folder / "state", folder / "config", Drives())
    for n in range(LIBRARIES):
        remember(workspace, survey_library(workspace, libraries / f"Library {n:02}"))
    root = bytes(libraries / "Library 00")
    times = []
    for _ in range(5):
        begun = time.perf_counter()
        needed = find_needed(workspace, Going(root, "", own=False))
        times.append(time.perf_counter() - begun)
    others = sum(len(who) for who in needed.by.values())
    print(
        f"{LIBRARIES} libraries, {LIBRARIES * FILES} files: {statistics.median(times):.2f} s, "
        f"{others} needs found; {needed.bounds}"
    )


main(Path(sys.argv[1]).absolute())
