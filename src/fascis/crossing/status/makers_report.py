"""A report for the makers: what they need to understand an error, as one JSON object.

A person saves it and may send it: the program sends nothing. Names and paths are left out on
request; docs/formats.md describes it.
"""

from __future__ import annotations

import importlib.metadata
import json
import platform
import sys
from datetime import UTC, datetime
from typing import Any

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import CopyState
from fascis.crossing.status.queue import all_crossings
from fascis.drives.model import Drive
from fascis.files.names import shown
from fascis.files.own import log
from fascis.workspace import Workspace

FORMAT = 1
_CROSSINGS = 3
_PACKAGES = ("av", "blake3", "jeepney", "numpy", "Pillow", "pydantic", "PyQt6", "rich", "typer")
# The parts of a log record that can contain names and paths.
_NAMING = ("with", "words")


def makers_report(workspace: Workspace, names: bool = True) -> bytes:
    """The report, as UTF-8 text.

    Args:
        names: include names of drives and libraries, paths, and messages of programs and drives.
    """
    crossings, damaged = all_crossings(workspace)
    try:
        told = [_crossing(c, names) for c in crossings[:_CROSSINGS]]
    finally:
        for crossing in crossings:
            crossing.close()
    report = {
        "format": FORMAT,
        "made_at": datetime.fromtimestamp(workspace.clock(), UTC).isoformat(timespec="seconds"),
        "names": names,
        "versions": _versions(),
        "drives": [_drive(d, names) for d in workspace.drives.connected()],
        "crossings": told,
        "damaged_journals": [str(e) for e in damaged] if names else len(damaged),
        "log": [_record(r, names) for r in log.records(workspace.state)],
    }
    return json.dumps(report, indent=1, ensure_ascii=False).encode("utf-8", "backslashreplace")


def _versions() -> dict[str, str]:
    versions = {
        "fascis": importlib.metadata.version("fascis"),
        "python": sys.version.split()[0],
        "kernel": platform.release(),
        "machine": platform.machine(),
    }
    for package in _PACKAGES:
        try:
            versions[package] = importlib.metadata.version(package)
        except importlib.metadata.PackageNotFoundError:
            versions[package] = ""
    return versions


def _drive(drive: Drive, names: bool) -> dict[str, Any]:
    said: dict[str, Any] = {
        "filesystem": drive.filesystem,
        "capacity_bytes": drive.capacity,
        "free_bytes": drive.free,
        "block_bytes": drive.block,
        "transport": drive.transport,
        "connected": drive.connected,
        "read_only": drive.read_only,
        "stand_in": drive.stand_in,
    }
    if names:
        said |= {"uuid": drive.uuid, "label": shown(drive.label), "mount": shown(str(drive.mount))}
    return said


def _crossing(crossing: Crossing, names: bool) -> dict[str, Any]:
    header = crossing.journal.header
    said: dict[str, Any] = {
        "id": crossing.id,
        "state": crossing.state.value,
        "planned_at": header.planned_at,
        "after": header.after.value,
        "planned": crossing.journal.planned(),
        "destinations": [
            {
                "state": d.state.value,
                "filesystem": d.places.drive.filesystem,
                "copies": {
                    state.name.lower(): count
                    for state in CopyState
                    if (count := d.copies.count_copies([state]))
                },
            }
            for d in crossing.destinations
        ],
        "acts": [
            {"kind": kind, "begun": begun, "ended": ended} | ({"outcome": outcome} if names else {})
            for kind, _, begun, ended, outcome in crossing.journal.acts()
        ],
        "attentions": len(crossing.journal.attentions()),
    }
    if names:
        said |= {
            "name": shown(header.name),
            "from": shown(header.source),
            "to": [shown(str(d.places.target)) for d in crossing.destinations],
            "attention": [
                {"path": shown(place), "drive": shown(drive), "meaning": meaning}
                for place, drive, meaning, _ in crossing.journal.attentions()
            ],
        }
    return said


def _record(record: dict[str, Any], names: bool) -> dict[str, Any]:
    return record if names else {k: v for k, v in record.items() if k not in _NAMING}
