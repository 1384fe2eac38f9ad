"""The folder of the demo, and making it again."""

from __future__ import annotations

from pathlib import Path

import platformdirs

from fascis.demo.scenario import MARK, World, make_world
from fascis.files.codes import Code
from fascis.files.disk.medium import PosixMedium, remove_own
from fascis.files.errors import Refused
from fascis.files.names import join


def demo_world(fresh: bool, root: Path | None = None, slow: bool = True) -> World:
    """The demo's files, made if they do not exist.

    Raises:
        Refused: the folder holds something that the demo did not make.
    """
    root = root or Path(platformdirs.user_data_dir("fascis")) / "demo"
    if root.exists() and (fresh or not (root / MARK).exists()):
        _clear(root)
    root.mkdir(parents=True, exist_ok=True)
    return make_world(root, slow)


def _clear(root: Path) -> None:
    names = {p.name for p in root.iterdir()}
    if names - {"drives", "data", "state", "config", "pictures", MARK}:
        raise Refused(
            Code.TROUBLE, f"{root} holds something that is not the demo's; it is not cleared."
        )
    medium = PosixMedium.at(root)
    try:
        folders = list(medium.walk())
        for folder in reversed(folders):
            for name in folder.names:
                remove_own(medium, join(folder.place, name))
            if folder.place:
                medium.remove_folder(folder.place)
    finally:
        medium.close()
