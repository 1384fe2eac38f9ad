"""The work of ``look``."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from fascis.commands.progress import Saying, stoppable
from fascis.commands.telling import put, usage
from fascis.files.control import Control
from fascis.files.names import shown
from fascis.library.looking.finding import Found
from fascis.library.looking.look import LibraryFound, Looked, Weight, usual_folders
from fascis.library.looking.look import look as look_at
from fascis.library.looking.seeing import TYPES
from fascis.words.figures import number, size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment

_MOST_TOLD = 20


def look(where: list[str], as_json: bool) -> None:
    """Looks for libraries and for large folders and files."""
    workspace = from_environment()
    folders = [_folder(workspace, name, as_json) for name in where] or usual_folders(workspace)
    control = Control()
    with Saying() as saying:

        def tell(files: int, found: list[Found]) -> None:
            libraries = trn("{n} library", "{n} libraries", len({one.root for one in found}))
            saying.tell(
                trn(
                    "{n} file looked at, {libraries} found",
                    "{n} files looked at, {libraries} found",
                    files,
                    libraries=libraries,
                )
            )

        looked = stoppable(lambda: look_at(workspace, folders, control, tell), control)
    if as_json:
        put(_as_json(looked))
    else:
        _tell(looked)


def _folder(workspace: Workspace, name: str, as_json: bool) -> Path:
    """A folder, or a drive by its label or identity."""
    if Path(name).is_dir():
        return Path(name)
    for drive in workspace.drives.connected():
        if drive.connected and name in (drive.label, drive.uuid):
            return drive.mount
    usage(tr("There is no folder and no connected drive called {name}.", name=shown(name)), as_json)
    raise AssertionError


def _as_json(looked: Looked) -> dict[str, Any]:
    return {
        "libraries": [_library(one) for one in looked.libraries],
        "folders": [_weight(one) for one in looked.folders()],
        "files": [
            {"path": shown(path), "bytes": length, "last_change": _time(mtime)}
            for length, mtime, path in looked.big
        ],
        "looked_at_files": looked.files,
        "seconds": round(looked.seconds, 3),
        "not_permitted": [shown(path) for path in looked.not_permitted],
    }


def _library(one: LibraryFound) -> dict[str, Any]:
    return {
        "root": shown(str(one.root)),
        "name": shown(one.name),
        "kind": one.kind,
        "documents": one.documents,
        "files": one.files,
        "bytes": one.size,
        "last_change": _time(one.last_change_ns),
        "known": one.known,
        "library_id": one.id or None,
    }


def _weight(one: Weight) -> dict[str, Any]:
    return {
        "path": shown(one.path),
        "files": one.files,
        "bytes": one.size,
        "last_change": _time(one.last_change_ns),
        "by_type": dict(zip(TYPES, one.types, strict=True)),
    }


def _time(ns: int) -> str | None:
    """A time as ISO 8601; None if there is none, or if it is out of range."""
    try:
        return datetime.fromtimestamp(ns / 1e9, UTC).isoformat(timespec="seconds") if ns else None
    except (ValueError, OverflowError, OSError):
        return None


def _tell(looked: Looked) -> None:
    seconds = f"{looked.seconds:.1f}"
    print(
        trn(
            "{n} file looked at in {seconds} s; nothing was written there.",
            "{n} files looked at in {seconds} s; nothing was written there.",
            looked.files,
            seconds=seconds,
        )
    )
    print()
    count = len(looked.libraries)
    if count:
        print(trn("{n} library:", "{n} libraries:", count))
    else:
        print(tr("No libraries found."))
    for one in looked.libraries:
        about = [one.kind, trn("{n} document", "{n} documents", one.documents)]
        about += [tr("of unknown make")] if one.unknown else []
        about += [tr("known already")] if one.known else []
        print(f"  {size(one.size):>12}  {shown(one.name)}: {', '.join(about)}")
        print(f"  {'':>12}  {shown(str(one.root))}")
    print()
    print(tr("What is big:"))
    for weight in looked.folders()[:_MOST_TOLD]:
        print(f"  {size(weight.size):>12}  {number(weight.files):>9}  {shown(weight.path)}")
    for length, _, path in looked.big[:_MOST_TOLD]:
        print(f"  {size(length):>12}  {tr('a file'):>9}  {shown(path)}")
    if looked.not_permitted:
        some = shown(os.fsdecode(looked.not_permitted[0]))
        print(
            trn(
                "Not permitted to look into {n} folder: {some}",
                "Not permitted to look into {n} folders: {some}",
                len(looked.not_permitted),
                some=some,
            )
        )
