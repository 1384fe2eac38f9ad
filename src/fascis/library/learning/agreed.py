"""For which libraries a reading was confirmed."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from msgspec.structs import replace

from fascis.documents.learned.stored import Stored
from fascis.files.errors import Damaged
from fascis.library.identity import parse_identity
from fascis.workspace import Workspace

_LARGEST = 1 << 20


def library_of(workspace: Workspace, document: Path) -> tuple[Path, str]:
    """The library of a document, and its id if known; otherwise its own folder."""
    register = workspace.register
    known = {str(x.root): x.id for x in register.libraries()} if register.path.exists() else {}
    for folder in document.parents:
        if str(folder) in known:
            return folder, known[str(folder)]
        if (said := folder / ".fascis/identity.json").is_file():
            return folder, _id_in(said)
    return document.parent, ""


def _id_in(records: Path) -> str:
    """The id in a library's records; empty if they are damaged."""
    try:
        with open(records, "rb") as file:
            return parse_identity(file.read(_LARGEST), records).library_id
    except (OSError, Damaged):
        return ""


def agree(workspace: Workspace, stored: Stored, document: Path) -> Stored:
    """Stores a confirmation for the library of a document, beside the others of that reading."""
    folder, id = library_of(workspace, document)
    before = known_readings(workspace).get(stored.shape)
    folders = {str(folder), os.path.realpath(folder)}
    ids = {id} if id else set()
    if before is not None and before.readings == stored.readings:
        folders |= before.folders
        ids |= before.libraries
    agreed = replace(stored, libraries=frozenset(ids), folders=frozenset(folders))
    workspace.register.put_reading(agreed.shape, agreed.as_text())
    workspace.use_readings()
    return agreed


def take_back(workspace: Workspace, shape: bytes, document: Path) -> bool:
    """Removes a confirmation for the library of a document; those for others stay.

    Returns:
        False when there was none.
    """
    stored = known_readings(workspace).get(shape)
    if stored is None:
        return False
    folder, id = library_of(workspace, document)
    above = {str(folder), os.path.realpath(folder), *map(str, document.parents)}
    left = replace(
        stored, libraries=stored.libraries - {id}, folders=stored.folders.difference(above)
    )
    if left.libraries or left.folders:
        workspace.register.put_reading(shape, left.as_text())
    else:
        workspace.register.forget_reading(shape)
    workspace.use_readings()
    return left != stored


def pass_on(workspace: Workspace, root: Path, ids: Iterable[str]) -> None:
    """The readings of a library also apply to its copies and parts.

    Args:
        root: the library's folder.
        ids: its own id, and those of its copies and parts.
    """
    every, ids = known_readings(workspace), [id for id in ids if id]
    inside = {str(root), os.path.realpath(root)}
    for stored in every.values():
        here = any(_meet(one, folder) for one in inside for folder in stored.folders)
        if (here or stored.libraries.intersection(ids)) and not stored.libraries.issuperset(ids):
            more = replace(stored, libraries=stored.libraries.union(ids))
            workspace.register.put_reading(more.shape, more.as_text())


def _meet(one: str, other: str) -> bool:
    """True if one folder lies in the other, or is the same."""
    return os.path.commonpath((one, other)) in (one, other)


def known_readings(workspace: Workspace) -> dict[bytes, Stored]:
    """The confirmed readings on this machine, by shape, for any library."""
    register = workspace.register
    if not register.path.exists():
        return {}
    return {one.shape: one for one in Stored.understood(register.readings(), register.path)}
