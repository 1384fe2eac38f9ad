"""Which library a typed name means."""

from __future__ import annotations

from pathlib import Path

from fascis.library.register import root_now
from fascis.workspace import Workspace


def resolve(workspace: Workspace, given: str) -> Path:
    """A library's folder: a path, a known library's name, or the beginning of its id."""
    path = Path(given)
    if not path.exists() and "/" not in given and workspace.register.path.exists():
        known = workspace.register.libraries()
        found = [one for one in known if one.name == given]
        if not found and len(given) >= 4:
            found = workspace.register.find(given)
        if len(found) == 1:
            return root_now(workspace.register, workspace.drives.connected(), found[0])
    # A library is the folder itself, not a link to it.
    if path.is_symlink() or ".." in path.parts:
        return path.resolve()
    return path.absolute()
