"""The demo's files for parts: a trip for its year, and projects that share clips.

The catalog River has a trip's folder; a few of its photos are on Heron A already, and one name is
taken there. The cuts of a year share clips. An archive of finished ones on Heron A was made by a
crossing.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.demo.timelines import Cut, write_catalog, write_timeline
from fascis.workspace import Workspace

Still = Callable[[Path, int, int], None]
Clip = Callable[[Path, int, int, int], None]
TRIP = "2024 free river"
SHARED = ("breach_wide", "crest_slow")
CUTS = {"Spring Cut": ("salmon_rise", "ladder_dusk"), "Spring Recut": ("heron_landing",)}


def make_river(internal: Path, still: Still) -> Path:
    """The catalog River with two folders of photos beside it."""
    river = internal / "River"
    for n, folder in enumerate(("2023 low water", TRIP)):
        for i in range(1, 19):
            still(river / folder / f"river_{100 * n + i:04d}.jpg", 1400 + 50 * n + i, 900)
    names = {f: sorted(p.name for p in (river / f).iterdir()) for f in ("2023 low water", TRIP)}
    write_catalog(
        river / "River.fascat",
        [("demo-studio-internal", "River", folder, some) for folder, some in names.items()],
    )
    return river


def make_year(heron_a: Path, river: Path, still: Still) -> None:
    """Makes the contents of that year's archive folder: some photos of the trip, and others."""
    year = heron_a / "Archive/2024"
    trip = sorted((river / TRIP).iterdir())
    (year / TRIP).mkdir(parents=True)
    for photo in trip[:4]:
        shutil.copyfile(photo, year / TRIP / photo.name)
    # Another camera counted to the same number.
    still(year / TRIP / trip[6].name, 1600, 900)
    for i in range(1, 7):
        still(year / "2024 nests" / f"nest_{i:03d}.jpg", 1620 + i, 900)


def make_cuts(internal: Path, clip: Clip, brief: bool) -> Path:
    """Two projects of one library, with clips of their own and two that both use."""
    cuts, frames = internal / "River Cuts", 3 if brief else 40
    own = [name for names in CUTS.values() for name in names]
    for n, name in enumerate((*SHARED, *own)):
        clip(cuts / "media" / f"{name}.mov", 1700 + n, frames, 640)
    for n, (project, names) in enumerate(CUTS.items()):
        clips = [f"../../media/{name}.mov" for name in (*names, *SHARED)]
        write_timeline(
            cuts / "projects" / project / f"{project}.otio", clips, [], Cut(12, 120, 20 + n)
        )
    return cuts


def make_archive(workspace: Workspace, internal: Path, heron_a: Path, clip: Clip) -> None:
    """Makes an archive on Heron A with an earlier finished cut, and a clip that others use."""
    before = internal / "River Archive"
    clip(before / "media/first_gate.mov", 1750, 3, 480)
    shutil.copyfile(internal / "River Cuts/media/crest_slow.mov", before / "media/crest_slow.mov")
    write_timeline(
        before / "projects/Winter Cut/Winter Cut.otio",
        ["../../media/first_gate.mov", "../../media/crest_slow.mov"],
        [],
        Cut(6, 60, 30),
    )
    surveyed = survey_library(workspace, before)
    plan = make_plan(workspace, surveyed, heron_a, Choices(after=After.RELEASE))
    crossing = Crossing.start(workspace, plan, decided=True, consent=True)
    crossing.run()
    crossing.looked()
    crossing.advance(consent=True)
    crossing.close()
