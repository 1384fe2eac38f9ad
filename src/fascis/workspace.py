"""The workspace: folders, drives, clock and register, created once at the edge and passed in.

There is no global state.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from msgspec import Struct, field

from fascis.documents.learned.stored import CONFIRMED, Stored
from fascis.drives.connected import Drives
from fascis.files.own.folders import cache_folder, config_folder, data_folder, state_folder
from fascis.library.register import Register


def _no_step(_name: str) -> None:
    """Does nothing between two steps; tests end the program here."""


class Workspace(Struct):
    """Where Fascis stores its own files, and its view of the machine.

    Attributes:
        data: the register's folder (XDG data).
        state: journals of crossings (XDG state).
        config: settings (XDG config).
        drives: the drives of the machine.
        clock: seconds since 1970; only for display and names.
        cache: where private copies are made; by default below ``state``.
        step: called at every point where the engine can be killed.
    """

    data: Path
    state: Path
    config: Path
    drives: Drives
    clock: Callable[[], float] = time.time
    step: Callable[[str], None] = field(default=_no_step)
    cache: Path | None = None

    def __post_init__(self) -> None:
        self.drives.known_hardware = lambda: self.register.hardware()
        self.drives.known_mounts = lambda: self.register.mounts()

    @property
    def private(self) -> Path:
        """A private folder for copies of databases, which are never opened in place (XDG cache)."""
        return self.cache or self.state / "private"

    @property
    def register(self) -> Register:
        """The register of known libraries and drives."""
        return Register(self.data / "register.sqlite")

    def use_readings(self) -> None:
        """From now on the confirmed readings of documents of unknown make are known.

        Raises:
            Damaged: the register is.
        """
        register = self.register
        said = register.readings() if register.path.exists() else []
        if not said:
            CONFIRMED.use(())
            return
        mounts = self.drives.mounts()
        roots = {str(one.root): one.id for one in register.libraries()}
        every = register.all_copies().values()
        roots |= {str(one.root): one.library for copies in every for one in copies}
        CONFIRMED.use(Stored.understood(said, register.path), mounts, roots)

    @property
    def crossings(self) -> Path:
        """The folder of the journals."""
        return self.state / "crossings"


def from_environment(environment: Mapping[str, str] | None = None) -> Workspace:
    """The workspace of the person who runs the program.

    The only place that reads the environment.
    """
    environment = os.environ if environment is None else environment
    stand_ins = environment.get("FASCIS_STAND_INS")
    return Workspace(
        data=data_folder(),
        state=state_folder(),
        config=config_folder(),
        cache=cache_folder(),
        drives=Drives(Path(stand_ins).absolute() if stand_ins else None),
    )
