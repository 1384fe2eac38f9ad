"""A part of something large: a plan made again after a tick, and a catalog that follows.

    python benchmarks/parts.py FROM TO

Makes in FROM, once, a library of 200,000 files with 40 projects of 5 timelines each, which share
clips, and a catalog of 500,000 photos in 500 folders, of which 50,000 photos are there. Plans each
of some projects into TO, in one survey; then lets the photos that are there cross into a folder in
TO, and times the catalog's change: from looking for what follows to its being read again.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
import statistics
import sys
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

from fascis.crossing.crossing import Crossing
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.release import followers
from fascis.crossing.scope.surveyed import survey_library
from fascis.documents.making import schema
from fascis.drives.connected import Drives
from fascis.relink.acts import Acts
from fascis.workspace import Workspace

PROJECTS, CUTS, DAYS, CLIPS = 40, 5, 200, 999
PHOTOS, THERE, IN_A_FOLDER = 500_000, 50_000, 1_000


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


def make_studio(library: Path) -> None:
    """Every timeline uses one day, and some of the day a week later, which is another's."""
    for day in range(DAYS):
        folder = library / f"media/day {day:03}"
        folder.mkdir(parents=True)
        for clip in range(CLIPS):
            (folder / f"clip_{clip:04}.mov").write_text(f"{day} {clip}")
    for cut in range(PROJECTS * CUTS):
        folder = library / f"projects/Weir {cut // CUTS:02}"
        folder.mkdir(parents=True, exist_ok=True)
        own = [f"../../media/day {cut:03}/clip_{clip:04}.mov" for clip in range(CLIPS)]
        later = (cut + 7) % DAYS
        shared = [f"../../media/day {later:03}/clip_{clip:04}.mov" for clip in range(50)]
        (folder / f"cut {cut % CUTS}.otio").write_text(timeline(own + shared))


def make_catalog(library: Path) -> None:
    trip = library / "photos/trip"
    for n in range(THERE):
        path = trip / f"day {n // IN_A_FOLDER}/heron_{n:06}.jpg"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(str(n))
    with closing(sqlite3.connect(library / "River.fascat")) as db:
        db.executescript(schema())
        db.execute("INSERT INTO place VALUES(1, NULL, ?)", (str(library / "photos"),))
        folders = [
            (n, f"trip/day {n}" if n < THERE // IN_A_FOLDER else f"old/{n}")
            for n in range(PHOTOS // IN_A_FOLDER)
        ]
        db.executemany("INSERT INTO folder VALUES(?,1,?)", folders)
        photos = ((n // IN_A_FOLDER, f"heron_{n:06}.jpg", n % 6) for n in range(PHOTOS))
        db.executemany("INSERT INTO photo(folder_id, file_name, rating) VALUES(?,?,?)", photos)
        edits = ((n, "<x/>" * 20) for n in range(1, PHOTOS, 5))
        db.executemany("INSERT INTO adjustment VALUES(?,?)", edits)
        db.commit()


def timed(owner: Any, name: str, times: dict[str, float]) -> None:
    """Adds up what a function takes."""
    plain: Callable[..., Any] = getattr(owner, name)

    def with_time(*given: Any, **named: Any) -> Any:
        begun = time.perf_counter()
        result = plain(*given, **named)
        times[name] = times.get(name, 0) + time.perf_counter() - begun
        return result

    setattr(owner, name, with_time)


def ticks(workspace: Workspace, library: Path, to: Path) -> None:
    begun = time.perf_counter()
    surveyed = survey_library(workspace, library)
    there = time.perf_counter()
    make_plan(workspace, surveyed, to, Choices())
    planned = time.perf_counter()
    again = []
    for project in range(0, PROJECTS, 4):
        begun_again = time.perf_counter()
        only = frozenset([f"Weir {project:02}"])
        make_plan(workspace, surveyed, to, Choices(only=only))
        again.append(time.perf_counter() - begun_again)
    print(
        f"{len(surveyed.survey)} files: survey {there - begun:.1f} s, first plan "
        f"{planned - there:.1f} s; of one project {again[0]:.2f} s at first, then "
        f"{statistics.median(again[1:]):.2f} s (to {max(again[1:]):.2f})"
    )


def catalog(workspace: Workspace, library: Path, to: Path) -> None:
    year = to / "Year"
    year.mkdir()
    surveyed = survey_library(workspace, library)
    choices = Choices(only=frozenset(["photos/trip"]), into=True)
    plan = make_plan(workspace, surveyed, year, choices)
    crossing = Crossing.start(workspace, plan, decided=True)
    crossing.run()
    times: dict[str, float] = {}
    timed(Acts, "apply", times)
    timed(followers, "_not_as_meant", times)
    begun = time.perf_counter()
    crossing.switch()
    whole = time.perf_counter() - begun
    crossing.close()
    print(
        f"{PHOTOS} photos, {THERE} of them went: catalog changed and proven in "
        f"{times['apply']:.1f} s; the whole switch {whole:.1f} s"
    )


def main() -> None:
    here, to = Path(sys.argv[1]).absolute(), Path(sys.argv[2]).absolute()
    workspace = Workspace(here / "data", here / "state", here / "config", Drives())
    if not (here / "Studio/made").exists():
        make_studio(here / "Studio")
        (here / "Studio/made").touch()
    ticks(workspace, here / "Studio", to)
    shutil.rmtree(here / "River", ignore_errors=True)
    make_catalog(here / "River")
    catalog(workspace, here / "River", to)


if __name__ == "__main__":
    main()
