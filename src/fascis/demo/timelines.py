"""The demo's documents: timelines in OpenTimelineIO JSON, and a photo catalog.

All names are made up.
"""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

from msgspec import Struct
from pydantic_core import to_json

from fascis.documents.making import new_catalog

RATE = 25


def _time(value: float) -> dict[str, Any]:
    return {"OTIO_SCHEMA": "RationalTime.1", "rate": float(RATE), "value": float(value)}


def _range(start: float, length: float) -> dict[str, Any]:
    return {"OTIO_SCHEMA": "TimeRange.1", "start_time": _time(start), "duration": _time(length)}


def _clip(name: str, reference: dict[str, Any], start: float, length: float) -> dict[str, Any]:
    return {
        "OTIO_SCHEMA": "Clip.2",
        "metadata": {},
        "name": name,
        "source_range": _range(start, length),
        "effects": [],
        "markers": [],
        "enabled": True,
        "media_references": {"DEFAULT_MEDIA": reference},
        "active_media_reference_key": "DEFAULT_MEDIA",
    }


def _file(target: str, frames: int) -> dict[str, Any]:
    return {
        "OTIO_SCHEMA": "ExternalReference.1",
        "metadata": {},
        "name": "",
        "available_range": _range(0, frames),
        "available_image_bounds": None,
        "target_url": target,
    }


def sequence(folder: str, prefix: str, suffix: str, first: int, frames: int) -> dict[str, Any]:
    """A reference to a numbered sequence of pictures."""
    return {
        "OTIO_SCHEMA": "ImageSequenceReference.1",
        "metadata": {},
        "name": "",
        "available_range": _range(first, frames),
        "available_image_bounds": None,
        "target_url_base": folder,
        "name_prefix": prefix,
        "name_suffix": suffix,
        "start_frame": first,
        "frame_step": 1,
        "rate": float(RATE),
        "frame_zero_padding": 4,
        "missing_frame_policy": "error",
    }


def frames_of(target: str) -> int:
    """How many frames a clip of the demo has."""
    if "spillway_mist" in target:
        return 24
    if "otter" in target:
        return 20
    return 60


class Cut(Struct, frozen=True):
    """How many clips the picture track has, their total seconds, and the random numbers."""

    clips: int
    seconds: float
    seed: int = 1


def write_timeline(
    path: Path,
    pictures: list[str],
    sounds: list[str],
    cut: Cut,
    more: Sequence[dict[str, Any]] = (),
) -> None:
    """A timeline that uses every one of the targets, and some of them many times.

    Args:
        pictures: targets of clips of the picture track; ``sounds`` of the sound track.
        more: references that are appended unchanged.
    """
    clips, seconds = cut.clips, cut.seconds
    chosen = random.Random(cut.seed)
    order = pictures + [chosen.choice(pictures) for _ in range(max(0, clips - len(pictures)))]
    chosen.shuffle(order)
    length = seconds * RATE / len(order)
    video = [
        _clip(
            Path(t).stem, _file(t, frames_of(t)), chosen.randrange(frames_of(t) // 2), round(length)
        )
        for t in order
    ]
    video += [_clip("scans", reference, 1, 24) for reference in more]
    audio = [
        _clip(Path(t).stem, _file(t, 6 * RATE), 0, round(seconds * RATE / max(len(sounds), 1)))
        for t in sounds
    ]

    def track(name: str, kind: str, children: list[dict[str, Any]]) -> dict[str, Any]:
        return {
            "OTIO_SCHEMA": "Track.1",
            "metadata": {},
            "name": name,
            "source_range": None,
            "effects": [],
            "markers": [],
            "enabled": True,
            "children": children,
            "kind": kind,
        }

    stack: dict[str, Any] = {
        "OTIO_SCHEMA": "Stack.1",
        "metadata": {},
        "name": "tracks",
        "source_range": None,
        "effects": [],
        "markers": [],
        "enabled": True,
        "children": [track("V1", "Video", video), track("A1", "Audio", audio)],
    }
    timeline = {
        "OTIO_SCHEMA": "Timeline.1",
        "metadata": {},
        "name": path.stem,
        "global_start_time": None,
        "tracks": stack,
    }
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(to_json(timeline, indent=2))


def write_catalog(path: Path, folders: list[tuple[str | None, str, str, list[str]]]) -> None:
    """A catalog with ratings, keywords, albums and edits.

    Args:
        folders: ``(drive, place, folder, photos)``.
    """
    new_catalog(path, "Bell")
    with closing(sqlite3.connect(path)) as db:
        db.executemany(
            "INSERT INTO keyword VALUES(?,?)",
            [(1, "heron"), (2, "salmon"), (3, "high water"), (4, "weir")],
        )
        db.execute("INSERT INTO album VALUES(1, 'For the book')")
        photo = 0
        for number, (drive, place, folder, names) in enumerate(folders, 1):
            db.execute(
                "INSERT OR IGNORE INTO place(id, drive_uuid, path) VALUES(?,?,?)",
                (number, drive, place),
            )
            db.execute("INSERT INTO folder VALUES(?,?,?)", (number, number, folder))
            for name in names:
                photo += 1
                row = (photo, number, name, 1 + photo % 5, "green" if photo % 7 == 0 else None)
                db.execute(
                    "INSERT INTO photo(id, folder_id, file_name, rating, label) VALUES(?,?,?,?,?)",
                    row,
                )
                db.execute("INSERT INTO photo_keyword VALUES(?,?)", (photo, 1 + photo % 4))
                if photo % 9 == 0:
                    db.execute("INSERT INTO album_photo VALUES(1,?,?)", (photo, photo // 9))
                if photo % 4 == 0:
                    db.execute(
                        "INSERT INTO adjustment VALUES(?, '<x:xmpmeta "
                        'xmlns:x="adobe:ns:meta/"/>\')',
                        (photo,),
                    )
        db.commit()
