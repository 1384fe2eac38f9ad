"""Where the drives in documents' paths are mounted, or were."""

from __future__ import annotations

from fascis.library.references.whereabouts import DriveRoots
from fascis.workspace import Workspace


def drive_roots(workspace: Workspace, literal: bool = False) -> DriveRoots:
    """Where drives are mounted, or were; writes nothing, not even an empty register.

    Args:
        literal: see :class:`~fascis.library.references.whereabouts.DriveRoots`.
    """
    register, connected = workspace.register, workspace.drives.connected(measured=False)
    if not register.path.exists():
        return DriveRoots(connected, [], literal=literal)
    former = [f for some in register.former().values() for f in some]
    return DriveRoots(connected, register.drives(), former, workspace.drives.unlisted(), literal)
