"""Parking: setting the originals aside under a free name, by one rename; and moving them back."""

from __future__ import annotations

import os
from collections.abc import Callable

from fascis.crossing.journal.journal import Journal
from fascis.crossing.places.places import Places
from fascis.files.codes import Code
from fascis.files.errors import Refused, told
from fascis.files.names import shown
from fascis.words.speech import tr
from fascis.workspace import Workspace


def park(workspace: Workspace, journal: Journal, places: Places) -> None:
    """Renames the library's top folder; does nothing if it is parked already.

    Raises:
        Refused: it cannot be done in one rename (a mount point, no right, an existing name); there
            is no fallback.
    """
    if places.header.document:
        raise Refused(
            Code.CANNOT_SET_ASIDE,
            tr(
                "A single document cannot be set aside: its folder is not the library's. "
                "Nothing was touched."
            ),
        )
    if places.origin() == places.parked_path:
        _conclude(journal, "park", workspace.clock)
        return
    _rename(workspace, journal, places, "park", places.source.name, places.parked_path.name)


def unpark(workspace: Workspace, journal: Journal, places: Places) -> None:
    """Gives the originals their name back; does nothing if they have it already.

    Raises:
        Refused: something else has the old name by now.
    """
    places.follow_source(workspace)
    if places.is_original(places.source):
        _conclude(journal, "unpark", workspace.clock)
        return
    _rename(workspace, journal, places, "unpark", places.parked_path.name, places.source.name)


def _rename(
    workspace: Workspace, journal: Journal, places: Places, kind: str, old: str, new: str
) -> None:
    medium = workspace.drives.open(places.source.parent)
    try:
        raw_old, raw_new = os.fsencode(old), os.fsencode(new)
        if not places.is_original(places.source.with_name(old)):
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "{old} is not the folder that was surveyed. Nothing was touched.",
                    old=shown(old),
                ),
            )
        act = journal.open_act(kind) or journal.intend(
            kind, f"{shown(old)} → {shown(new)}", workspace.clock()
        )
        try:
            workspace.step(f"before {kind}")
            medium.rename_new(raw_old, raw_new)
            workspace.step(f"after {kind}")
            medium.sync_folder(b"")
        except FileExistsError as error:
            journal.conclude(act, tr("refused: the name exists"), workspace.clock())
            raise Refused(
                Code.DESTINATION_EXISTS,
                tr(
                    "{new} already exists beside the originals and was not changed. "
                    "Rename it first.",
                    new=shown(new),
                ),
            ) from error
        except OSError as error:
            journal.conclude(act, tr("refused: {why}", why=error.strerror), workspace.clock())
            raise Refused(
                Code.CANNOT_SET_ASIDE,
                tr(
                    "{old} cannot be renamed in one step ({strerror}). The originals stay "
                    "where they are.",
                    old=shown(old),
                    strerror=error.strerror,
                ),
            ) from error
        journal.conclude(act, "done", workspace.clock())
    except OSError as error:
        raise told(error, tr("rename"), os.fsencode(old)) from error
    finally:
        medium.close()


def _conclude(journal: Journal, kind: str, clock: Callable[[], float]) -> None:
    if (act := journal.open_act(kind)) is not None:
        journal.conclude(act, "done", clock())
