"""The files of the demo: a studio that documents a river being set free, on stand-in drives.

Everything is made up.
"""

from __future__ import annotations

import io
import json
import os
import wave
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import Any

import av
import numpy as np
from msgspec import Struct
from PIL import Image

from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.demo.copies import NESTS, make_copies, make_nests
from fascis.demo.parts import make_archive, make_cuts, make_river, make_year
from fascis.demo.timelines import Cut, sequence, write_catalog, write_timeline
from fascis.demo.unknown import PAPERS, make_papers
from fascis.drives.connected import Drives
from fascis.files.disk.medium import PosixMedium, remove_own
from fascis.workspace import Workspace

MARK = "made.json"
_ALSO = ("Saltmeadow", "Bell", "River", "River Cuts", NESTS, PAPERS)
VERSION = 9
_INTERNAL = "Studio internal"
Make = Callable[[Path], None]


class World(Struct, frozen=True):
    """The demo's folder, its workspace, and the folders of its libraries."""

    root: Path
    workspace: Workspace

    @property
    def drives(self) -> Path:
        """The folder of the stand-in drives."""
        return self.root / "drives"

    @property
    def weir(self) -> Path:
        """The library of the demo's crossing."""
        return self.drives / "studio-internal" / "The Weir Comes Down"

    @property
    def heron_a(self) -> Path:
        """The drive with much space."""
        return self.drives / "heron-a"


def make_world(root: Path, slow: bool = True, brief: bool = False) -> World:
    """Makes the demo's files in a new folder, or opens existing ones.

    Args:
        root: its folder.
        slow: stand-in drives are slow, so that a crossing can be watched.
        brief: stills are small, sounds, clips and the feature short, if nobody watches them.
    """
    world = World(
        root,
        Workspace(
            root / "data", root / "state", root / "config", Drives(root / "drives", real=False)
        ),
    )
    if (root / MARK).exists():
        return world
    internal = world.drives / "studio-internal"
    internal.mkdir(parents=True)
    _libraries(internal, brief)
    for i in range(1, 5):
        _clip(world.drives / f"field-2/DCIM/otter_{i:02}.mov", 900 + i, 20, 320)
        _still(world.drives / f"field-2/DCIM/nests/nest_{i:02}.jpg", 950 + i, 500)
    _documents(internal, world.drives / "field-2", brief)
    river = make_river(internal, _still)
    make_cuts(internal, _clip, brief)
    nests = make_nests(internal, _clip)
    make_papers(internal, _still)
    _drives(world.drives, slow)
    make_year(world.heron_a, river, _still)
    make_archive(world.workspace, internal, world.heron_a, _clip)
    make_copies(world.workspace, nests, (world.heron_a, world.drives / "heron-b"), _clip)
    _field(world.drives, True)
    libraries = (world.weir, *(internal / name for name in _ALSO))
    remember(
        world.workspace,
        survey_library(world.workspace, _october(world.drives / "field-2" / "October")),
    )
    # Surveyed once before a folder was renamed and a drive was put away.
    for library in libraries:
        remember(world.workspace, survey_library(world.workspace, library))
    with closing(PosixMedium.at(internal / "Footage")) as footage:
        footage.rename_new(b"Day 04", b"Day 04, weir")
    _tidy_scans(internal)
    _field(world.drives, False)
    for library in libraries:
        remember(world.workspace, survey_library(world.workspace, library))
    (root / MARK).write_text(json.dumps({"version": VERSION}))
    return world


def _field(folder: Path, connected: bool) -> None:
    """The drive of field trips, which is disconnected."""
    make = _Make("Field 2", "exfat", 64_000_000, 20, 30, connected=connected)
    _drive(folder, "field-2", make)


def _october(folder: Path) -> Path:
    """A small catalog of an autumn by the river, on the drive of field trips."""
    for i in range(1, 31):
        _still(folder / "otters" / f"otter_{i:03}.jpg", 1200 + i, 700)
    names = sorted(p.name for p in (folder / "otters").iterdir())
    write_catalog(folder / "October.fascat", [("demo-field-2", "October", "otters", names)])
    return folder


def _tidy_scans(internal: Path) -> None:
    """Moves scans to a folder of their year, by a copy that does not keep their dates.

    An older shoot has scans with the same names.
    """
    for n, (place, year) in enumerate(SCANS.items()):
        old = internal / place
        new = internal / year / old.name
        new.parent.mkdir(parents=True, exist_ok=True)
        new.write_bytes(old.read_bytes())
        _raw(
            internal / "Old shoots/2022" / old.name,
            700 + n,
            (1.25, 1.0, 0.62),
            1_651_500_000 + 77 * n,
        )
        with closing(PosixMedium.at(old.parent)) as folder:
            remove_own(folder, old.name.encode())


# -- the drives ------------------------------------------------------------------------------------


def _drives(folder: Path, slow: bool) -> None:
    taken = _taken(folder / "studio-internal")
    speed = 1 if slow else 100
    for name, stand_in in (
        ("studio-internal", _Make(_INTERNAL, "ext4", int(taken / 0.902), 900, 1200, "nvme")),
        ("heron-a", _Make("Heron A", "ext4", 400_000_000, 26 * speed, 60 * speed)),
        ("heron-b", _Make("Heron B", "exfat", 210_000_000, 12 * speed, 20 * speed)),
        ("old-stick", _Make("Old Stick", "vfat", 30_000_000, 5 * speed, 9 * speed)),
    ):
        _drive(folder, name, stand_in)
    for name, count in (("heron-a", 120), ("heron-b", 60), ("old-stick", 3)):
        older = folder / name / "Older shoots"
        older.mkdir()
        for i in range(count // 3):
            (older / f"shoot_{i:03d}.mov").write_bytes(np.random.default_rng(i).bytes(600_000))


class _Make(Struct, frozen=True):
    """A stand-in drive: capacity in bytes, speeds in MB/s."""

    label: str
    filesystem: str
    capacity: int
    write: int
    read: int
    transport: str = "usb"
    connected: bool = True


def _drive(folder: Path, name: str, make: _Make) -> None:
    (folder / name).mkdir(exist_ok=True)
    facts = {
        "uuid": f"demo-{name}",
        "label": make.label,
        "filesystem": make.filesystem,
        "capacity_bytes": make.capacity,
        "block_bytes": 4096,
        "transport": make.transport,
        "connected": make.connected,
        "read_mb_s": make.read,
        "write_mb_s": make.write,
        "faults": [],
    }
    (folder / name / "stand-in.json").write_text(json.dumps(facts, indent=1))


def _taken(folder: Path) -> int:
    return sum(
        os.lstat(os.path.join(d, f)).st_blocks * 512
        for d, _, files in os.walk(folder)
        for f in files
    )


# -- the libraries ---------------------------------------------------------------------------------


def _libraries(internal: Path, brief: bool) -> None:
    with ThreadPoolExecutor(2) as pool:
        for work in [pool.submit(make, path) for make, path in _files(internal, brief)]:
            work.result()
    for sidecar in (internal / "Bell").glob("shoots/*/*.jpg"):
        sidecar.with_suffix(".xmp").write_text(_XMP.format(rating=1 + hash(sidecar.name) % 5))
    (internal / "Bell" / "shoots" / "unsorted").mkdir()
    long_take = internal / "Saltmeadow" / "media" / "Tide" / "long_tide_take.mov"
    # Recorded into a file reserved for far more: 4.4 GB long, almost all of it a hole.
    with open(long_take, "r+b") as out:
        out.truncate(4_400_000_000)
    _still(internal / "System and other" / "wallpaper.jpg", 9, 900)
    for i in range(14):
        (internal / "System and other" / f"archive_{i:02d}.bin").write_bytes(
            np.random.default_rng(50 + i).bytes(900_000)
        )


def _documents(internal: Path, away: Path, brief: bool) -> None:
    """Timelines and a catalog, like real ones.

    Loose media, a renamed folder, a disconnected drive.
    """
    weir, salt, bell = internal / "The Weir Comes Down", internal / "Saltmeadow", internal / "Bell"
    used = sorted(p for p in weir.glob("media/*/*.mov") if p.stem not in _NEVER_USED)
    talks = [p for p in used if p.parent.name == "Interviews"]
    days = [f"../{p.relative_to(weir)}" for p in used if p.parent.name != "Interviews"]
    sounds = [f"../{p.relative_to(weir)}" for p in sorted(weir.glob("media/Sound/*.wav"))]
    stills = [f"../{p.relative_to(weir)}" for p in sorted(weir.glob("media/Stills/*.jpg"))[:128]]
    field = [p.as_uri() for p in sorted((internal / "Field recordings").rglob("*.wav"))]
    music = [str(p) for p in sorted((internal / "Desktop/Music").glob("*.wav"))]
    titles = [str(p) for p in sorted((internal / "Desktop/Titles").glob("*.jpg"))]
    renamed = [
        str(internal / "Footage/Day 04/B-roll" / p.name)
        for p in sorted((internal / "Footage/Day 04/B-roll").iterdir())
    ]
    raws = [str(internal / place) for place in SCANS]
    drawer = [str(away / "DCIM" / f"otter_{i:02}.mov") for i in range(1, 5)]
    scans = sequence("../media/Scans/", "weir_plan_", ".png", 1, 24)
    feature = days + stills + titles + raws + renamed + drawer
    write_timeline(
        weir / "timelines/Feature.otio",
        feature,
        sounds + field + music[:2],
        Cut(200 if brief else 600, 3600, 1),
        [scans],
    )
    write_timeline(weir / "timelines/Teaser.otio", days[::3] + renamed[:3], music, Cut(40, 90, 2))
    write_timeline(
        weir / "timelines/Interviews.otio",
        [f"../{p.relative_to(weir)}" for p in talks],
        field[:2],
        Cut(80, 1500, 3),
    )
    tide = [f"../{p.relative_to(salt)}" for p in sorted(salt.glob("media/Tide/*.mov"))[:8]]
    write_timeline(salt / "timelines/Saltmeadow.otio", tide, [], Cut(30, 240, 4))
    folders: list[tuple[str | None, str, str, list[str]]] = [
        ("demo-studio-internal", "Bell/shoots", f.name, sorted(p.name for p in f.glob("*.jpg")))
        for f in sorted(bell.glob("shoots/2024*"))
    ]
    phone = sorted(p.name for p in (internal / "From the phone/weir walk").iterdir())
    folders.append(("demo-studio-internal", "From the phone", "weir walk", phone))
    folders.append(("demo-field-2", "DCIM", "nests", [f"nest_{i:02}.jpg" for i in range(1, 5)]))
    write_catalog(bell / "Bell.fascat", folders)


# Without compression: all of one size.
SCANS = {
    "Scans/weir_raw_0417.tif": "Scans 2024/Weir",
    "Gauge house/gauge_raw_0031.tif": "Scans 2024/Gauge",
}
_NEVER_USED = frozenset(
    (
        "excavator_wide_03",
        "weir_crest_03",
        "banks_north_02",
        "crew_lunch_01",
        "crew_lunch_02",
        "crew_lunch_03",
    )
)


class _Maker:
    """Makes the contents of each of the demo's files, from its own seed."""

    def __init__(self, brief: bool) -> None:
        self._seed, self._brief = iter(range(10_000)), brief

    def clip(self, path: Path, frames: int, width: int) -> tuple[Make, Path]:
        n = next(self._seed)
        if self._brief:
            frames = 3
        return (lambda p: _clip(p, n, frames, width)), path

    def still(self, path: Path, width: int) -> tuple[Make, Path]:
        n = next(self._seed)
        if self._brief:
            width //= 4
        return (lambda p: _still(p, n, width)), path

    def scan(self, path: Path) -> tuple[Make, Path]:
        n = next(self._seed)
        return (lambda p: _scan(p, n)), path

    def sound(self, path: Path, seconds: float) -> tuple[Make, Path]:
        n = next(self._seed)
        if self._brief:
            seconds /= 8
        return (lambda p: _sound(p, n, seconds)), path


_DAYS = (
    ("Day 01", ("excavator_wide", "weir_crest", "first_breach", "banks_north")),
    ("Day 02", ("spillway_dawn", "salmon_ladder", "crew_lunch", "two_herons", "breach_close")),
    ("Interviews", ("interview_mara", "interview_tomas")),
)
# Named by two cameras and a person.
_SIGNS = ("Fish pass", "fish pass", "Weir 1911", "WEIR 1911", "no entry?")
_RECORDINGS = (
    ("rain on the sluice", 9),
    ("millrace at night", 8),
    ("2024/salmon ladder", 7),
    ("2024/dawn herons", 6),
)


def _files(internal: Path, brief: bool) -> Iterator[tuple[Make, Path]]:
    # One maker for all: the order of the files gives each its seed.
    make = _Maker(brief)
    weir, salt, bell = internal / "The Weir Comes Down", internal / "Saltmeadow", internal / "Bell"
    yield from _weir_files(make, weir)
    yield from _loose_files(make, internal)
    for i in range(24):
        yield make.scan(weir / "media/Scans" / f"weir_plan_{i + 1:04d}.png")
    yield from _salt_files(make, salt)
    for i in range(160):
        shoot = "2024-03 high water" if i % 3 else "2024-05 herons nesting"
        yield make.still(bell / "shoots" / shoot / f"bell_{i:04d}.jpg", 420)
        yield make.still(bell / "previews" / f"{i:04x}.jpg", 120)


def _weir_files(make: _Maker, weir: Path) -> Iterator[tuple[Make, Path]]:
    for day, names in _DAYS:
        takes = 4 if day == "Interviews" else 3
        for name in names:
            for take in range(1, takes + 1):
                yield make.clip(weir / "media" / day / f"{name}_{take:02d}.mov", 60, 800)
                yield make.clip(weir / "proxies" / day / f"{name}_{take:02d}.mov", 42, 160)
    for name in _SIGNS:
        yield make.still(weir / "media" / "Signs" / f"{name}.jpg", 240)
    for i in range(6):
        yield make.sound(weir / "media" / "Sound" / f"millrace_{i + 1:02d}.wav", 6)
        yield make.clip(weir / "renders" / f"feature_{412 + i:04d}.mov", 36, 480)
    for i in range(140):
        yield make.still(weir / "previews" / f"{i:04x}.jpg", 160)
        yield make.still(weir / "media" / "Stills" / f"scan_{i:04d}.jpg", 220)


def _loose_files(make: _Maker, internal: Path) -> Iterator[tuple[Make, Path]]:
    for place, seconds in _RECORDINGS:
        yield make.sound(internal / "Field recordings" / f"{place}.wav", seconds)
    for name in ("two herons theme", "downstream", "the breach"):
        yield make.sound(internal / "Desktop/Music" / f"{name}.wav", 12)
    for i in range(6):
        yield make.still(internal / "Desktop/Titles" / f"title_{i + 1:02d}.jpg", 900)
        yield make.still(internal / "From the phone/weir walk" / f"walk_{i + 1:02d}.jpg", 700)
    mist = internal / "Footage/Day 04/B-roll"
    for i in range(14):
        yield make.clip(mist / f"spillway_mist_{i + 1:02d}.mov", 24, 480)
    for n, place in enumerate(SCANS):
        yield partial(_raw, seed=720 + n), internal / place


def _salt_files(make: _Maker, salt: Path) -> Iterator[tuple[Make, Path]]:
    for i in range(9):
        name = "long_tide_take.mov" if i == 0 else f"tide_{i:02d}.mov"
        yield make.clip(salt / "media" / "Tide" / name, 40, 480)
        yield make.clip(salt / "renders" / f"saltmeadow_{i:02d}.mov", 20, 320)


_XMP = """<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF
 xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description xmlns:xmp="http://ns.adobe.com/xap/1.0/"
 xmp:Rating="{rating}"/></rdf:RDF></x:xmpmeta>
"""


def _picture(seed: int, width: int, shift: int = 0) -> np.ndarray[Any, Any]:
    """Water under a sky: a gradient, waves and grain; height is 9/16 of the width."""
    height = width * 9 // 16 // 2 * 2
    y = np.arange(height, dtype=np.float32)[:, None]
    along, down = (np.arange(width, dtype=np.float32) + shift * 3) / 17, y / 9 + seed
    # The sine of a sum, with a sine for each row and column instead of each dot.
    waves = np.sin(along) * np.cos(down) + np.cos(along) * np.sin(down)
    grain = np.random.default_rng(seed).integers(-22, 22, (height, width), np.int8)
    light = np.clip(90 + 80 * (1 - y / height) + 20 * waves + grain, 0, 255).astype(np.uint8)
    tint = np.array([0.75 + 0.03 * (seed % 7), 0.95, 1.05])
    colours = np.clip(np.arange(256)[:, None] * tint, 0, 255).astype(np.uint8)
    return np.asarray(np.take(colours, light, axis=0))


def _still(path: Path, seed: int, width: int) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    exif = Image.Exif()
    exif[0x010F], exif[0x0110] = "Reedbank", "Reedbank One"
    exif[0x0132] = f"2024:05:{seed % 28 + 1:02d} 06:{seed % 60:02d}:12"
    out = io.BytesIO()
    Image.fromarray(_picture(seed, width)).save(out, "JPEG", quality=88, exif=exif)
    path.write_bytes(out.getvalue())


def _scan(path: Path, seed: int) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    Image.fromarray(_picture(seed, 160)).save(path, "PNG")


def _raw(
    path: Path,
    seed: int,
    light: tuple[float, float, float] = (1.0, 1.0, 1.0),
    changed: int = 1_697_263_872,
) -> None:
    """A scan as TIFF, without compression and without a date in it.

    ``light`` is of the day, ``changed`` in seconds since 1970.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    picture = np.clip(_picture(seed, 640, seed % 40) * np.array(light), 0, 255).astype(np.uint8)
    Image.fromarray(picture).save(path, "TIFF")
    os.utime(path, (changed, changed))


def _clip(path: Path, seed: int, frames: int, width: int) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    height = width * 9 // 16 // 2 * 2
    first = _picture(seed, width)
    with av.open(str(path), "w", format="mov") as container:
        stream = container.add_stream("mjpeg", rate=25)
        stream.width, stream.height, stream.pix_fmt = width, height, "yuvj420p"
        stream.options = {"qscale": "2"}
        for i in range(frames):
            frame = av.VideoFrame.from_ndarray(np.roll(first, 7 * i, axis=1), format="rgb24")
            for packet in stream.encode(frame):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)


def _sound(path: Path, seed: int, seconds: float) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    rate = 48_000
    t = np.arange(int(rate * seconds)) / rate
    noise = np.random.default_rng(seed).normal(0, 1200, t.size)
    samples = (
        noise * (1 + 0.5 * np.sin(2 * np.pi * 0.4 * t))
        + 900 * np.sin(2 * np.pi * (110 + seed % 50) * t)
    ).astype("<i2")
    with wave.open(str(path), "wb") as out:
        out.setnchannels(1)
        out.setsampwidth(2)
        out.setframerate(rate)
        out.writeframes(samples.tobytes())
