"""Homes like those of real people: work in separate folders, and many other folders beside it."""

from __future__ import annotations

import json
import os
import random
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from tests.library.making import timeline, write

WORDS = ["weir", "heron", "otter", "salmon", "alder", "ford", "mill", "reed", "gravel", "spring"]


def clips(folder: Path, numbers: random.Random, count: int, ending: str = "mov") -> list[Path]:
    """Media that nobody else has."""
    found = []
    for n in range(count):
        path = folder / f"{numbers.choice(WORDS)}_{n:03}.{ending}"
        write(path, bytes([n % 250 + 1]) * numbers.randrange(300, 3000))
        found.append(path)
    return found


# -- work: each gives the folder, or document, that is to be found ---------------------------------


def film(home: Path, name: str, numbers: random.Random) -> Path:
    """Timelines in a folder of their own, footage beside it."""
    root = home / numbers.choice(["Film", "Work/Film", "Videos/2024", "Jobs"]) / name
    files = clips(root / "footage" / "day 1", numbers, 4) + clips(root / "sound", numbers, 2, "wav")
    for n in range(numbers.randrange(1, 4)):
        cut = root / numbers.choice(["projects", "cuts/final", "."]) / f"cut {n}.otio"
        some = numbers.sample(files, 3)
        write(cut, timeline(*(os.path.relpath(f, cut.parent) for f in some)))
    return root


def loose_film(home: Path, name: str, numbers: random.Random) -> Path:
    """A timeline with most of its footage beside it, and some on the desktop."""
    root = home / "Film" / name
    files = clips(root, numbers, 4)
    loose = clips(home / "Desktop" / "graphics", numbers, 1, "png")
    write(root / "cut.otio", timeline(*(f.name for f in files), str(loose[0])))
    return root


def playlist(home: Path, name: str, numbers: random.Random) -> Path:
    root = home / "Music" / name
    files = clips(root, numbers, 5, "flac")
    write(root / "evening.m3u8", "".join(f"{f.name}\n" for f in files).encode())
    return root


def scans(home: Path, name: str, numbers: random.Random) -> Path:
    """A database of unknown make that names its pictures by whole paths."""
    root = home / "Pictures" / name
    files = clips(root / "sheets", numbers, 6, "tif")
    with closing(sqlite3.connect(root / "scans.db")) as db:
        db.execute("CREATE TABLE sheet(k INTEGER PRIMARY KEY, at TEXT)")
        db.executemany("INSERT INTO sheet(at) VALUES(?)", [(str(f),) for f in files])
        db.commit()
    return root


def titles(home: Path, name: str, numbers: random.Random) -> Path:
    """A project of unknown make, in XML, that names its pictures from its own folder."""
    root = home / "Work" / name
    files = clips(root / "art", numbers, 5, "png")
    shots = "".join(f'<shot art="art/{f.name}"/>' for f in files)
    write(root / "titles.xyz", f"<film>{shots}</film>".encode())
    return root


def recorded(home: Path, name: str, numbers: random.Random) -> Path:
    """A library with records of an earlier crossing, and no document."""
    root = home / "Archive" / name
    clips(root / "footage", numbers, 3)
    said = {
        "format": 1,
        "library_id": f"{numbers.randrange(16**8):08x}-0000",
        "name": name,
        "home": {"drive": "uuid-inside", "path": name},
    }
    write(root / ".fascis/identity.json", json.dumps(said).encode())
    return root


WORK: list[Callable[[Path, str, random.Random], Path]] = [
    film, film, loose_film, playlist, scans, titles, recorded,
]  # fmt: skip


# -- what is none ----------------------------------------------------------------------------------


def photos(home: Path, numbers: random.Random) -> None:
    """Pictures that no document names."""
    clips(home / "Pictures" / "Phone", numbers, 12, "jpg")


def program(home: Path, numbers: random.Random) -> None:
    """A program's folder, with pictures that its pages name."""
    root = home / "src" / "river-site"
    files = clips(root / "img", numbers, 3, "png")
    page = "".join(f'<img src="img/{f.name}">' for f in files)
    write(root / "index.html", page.encode())
    names = json.dumps([f"img/{f.name}" for f in files])
    write(root / "assets.json", names.encode())
    for n in range(30):
        write(root / "lib" / f"part{n}.js", b"x = 1\n")


def thumbnails(home: Path, numbers: random.Random) -> None:
    """A cache that names what it was made from."""
    with closing(_database(home / ".cache" / "thumbs" / "thumbs.db")) as db:
        db.execute("CREATE TABLE t(p TEXT)")
        some = [str(p) for p in (home / "Pictures").rglob("*.jpg")][:20]
        db.executemany("INSERT INTO t VALUES(?)", [(p,) for p in some])
        db.commit()


def _database(path: Path) -> sqlite3.Connection:
    path.parent.mkdir(parents=True, exist_ok=True)
    return sqlite3.connect(path)


def settings(home: Path, numbers: random.Random) -> None:
    """Settings and text of all kinds."""
    for n in range(10):
        write(home / "Documents" / f"letter {n}.txt", b"Dear otter, the weir is gone.\n")
        write(home / ".config" / f"app{n}" / "settings.json", b'{"last": "/nowhere/x.mov"}')
    write(home / "Documents" / "table.csv", b"a,b\n1,2\n3,4\n5,6\n7,8\n")
    write(home / "Downloads" / "dead.m3u8", b"gone one.flac\ngone two.flac\n")


def small_files(home: Path, numbers: random.Random) -> None:
    """A tree of many small files."""
    for n in range(200):
        write(home / "src" / "tree" / f"m{n % 20}" / f"f{n}.json", b'{"name": "x", "v": 1}')


NOISE: list[Callable[[Path, random.Random], None]] = [
    photos, program, thumbnails, settings, small_files,
]  # fmt: skip


def make_home(home: Path, seed: int) -> set[Path]:
    """A home; returns what should be found in it."""
    numbers = random.Random(seed)
    wanted = set()
    for n in range(numbers.randrange(1, 6)):
        make = numbers.choice(WORK)
        wanted.add(make(home, f"{numbers.choice(WORDS).title()} {n}", numbers))
    for noise in numbers.sample(NOISE, numbers.randrange(1, len(NOISE) + 1)):
        noise(home, numbers)
    return wanted
