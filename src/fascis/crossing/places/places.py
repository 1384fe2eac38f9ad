"""Both places of a crossing, opened and proven.

The right drive, the right folder, this crossing's token.
"""

from __future__ import annotations

import fcntl
import os
import stat
from collections.abc import Iterable
from functools import lru_cache
from pathlib import Path

from msgspec import Struct

from fascis.crossing.journal.header import DriveFacts, Goal, Header
from fascis.crossing.model.seen import Fidelity, inode_key
from fascis.drives.model import Drive
from fascis.drives.rules import Answers
from fascis.files.codes import Code
from fascis.files.disk.medium import Medium, move, remove_own
from fascis.files.errors import DriveGone, EnvironmentTrouble, Refused
from fascis.files.names import STAGING, cut, fsname, shown, unlisted
from fascis.files.times import mtime_of
from fascis.library.identity import Home
from fascis.words.speech import tr
from fascis.workspace import Workspace

TOKEN_FILE = b"crossing.json"
PLAN_FILE = b"plan.csv"
LIBRARY = b"library"
NEW = b".new"
CLAIM = b".fascis/arriving.json"


@lru_cache(maxsize=64)
def path_of(text: str) -> Path:
    """A path from a header (surrogates escaped by JSON) as a path."""
    return Path(text)


def staging_name(crossing: str) -> bytes:
    """The staging folder of a crossing, beside the library's future path."""
    return STAGING + crossing.encode()


class Places(Struct):
    """The header's facts as paths and names.

    The old place, and one of the destinations by its number.
    """

    header: Header
    number: int = 0
    source_mount: Path | None = None
    destination_mount: Path | None = None

    def follow_source(self, workspace: Workspace) -> None:
        """Finds by its UUID where the old place's drive is mounted now.

        A drive may be mounted elsewhere after it was away.
        """
        self.source_mount = self._follow(workspace, self.header.source, self.header.source_drive)

    def follow_destination(self, workspace: Workspace) -> None:
        """Finds the destination's drive in the same way."""
        self.destination_mount = self._follow(workspace, self.goal.path, self.drive)

    @property
    def goal(self) -> Goal:
        """The header's entry for this destination."""
        return self.header.destinations[self.number]

    @property
    def drive(self) -> DriveFacts:
        """The header's facts about its drive."""
        return self.goal.drive

    @property
    def label(self) -> str:
        """The name of the destination's drive."""
        return self.drive.label

    @staticmethod
    def _follow(workspace: Workspace, text: str, facts: DriveFacts) -> Path | None:
        path = path_of(text)
        try:
            if workspace.drives.uuid_at(path) == facts.uuid:
                return None
        except EnvironmentTrouble:
            pass  # Not there: searched below.
        if not path.is_relative_to(facts.mount):
            return None
        there = [
            d.mount
            for d in workspace.drives.connected(measured=False)
            if d.uuid == facts.uuid and d.connected
        ]
        return there[0] if there and there[0] != Path(facts.mount) else None

    @staticmethod
    def _now(text: str, facts: DriveFacts, mount: Path | None) -> Path:
        path = path_of(text)
        return mount / path.relative_to(facts.mount) if mount else path

    @property
    def crossing(self) -> str:
        """The crossing's id."""
        return self.header.crossing

    @property
    def answers(self) -> Answers | None:
        """The results of the drive's test when the crossing started; None if it was not tested."""
        return self.drive.said()

    @property
    def source(self) -> Path:
        """The library's old folder."""
        return self._now(self.header.source, self.header.source_drive, self.source_mount)

    @property
    def old_root(self) -> Path:
        """The library's path at the old place: its folder, or the single document."""
        document = self.header.document
        return self.source / document if document else self.source

    @property
    def destination(self) -> Path:
        """The folder that contains the library's own folder."""
        return self._now(self.goal.path, self.drive, self.destination_mount)

    @property
    def name(self) -> bytes:
        """The library's name there, as bytes."""
        return fsname(self.goal.name)

    @property
    def target(self) -> Path:
        """The folder from which places of the copy count.

        The library's new folder or, in an existing folder, that one.
        """
        return self.destination / self.goal.name

    @property
    def told(self) -> Path:
        """Where a person finds the copy."""
        return self.target / self.goal.inner if self.goal.inner else self.target

    @property
    def home_there(self) -> Home:
        """The new place as an identity file names it.

        By the plan, never by what is mounted there now.
        """
        return _home(self.target, self.drive, self.destination_mount)

    @property
    def home_here(self) -> Home:
        """The old place, in the same way."""
        return _home(self.source, self.header.source_drive, self.source_mount)

    @property
    def staging(self) -> bytes:
        """The staging folder's name."""
        return staging_name(self.crossing)

    @property
    def staged_library(self) -> bytes:
        """The path of the staged library, relative to the destination."""
        return self.staging + b"/" + LIBRARY

    @property
    def parked_path(self) -> Path:
        """The path of originals that are set aside; those of a part have the part's name."""
        name = self.header.name if self.header.part else self.source.name
        return self.source.with_name(parked_name(name, self.crossing))

    def is_original(self, path: Path) -> bool:
        """True if a folder is the surveyed one: by its inode, never by its name.

        If inodes are not stable, by files that were in it; a folder that this crossing set aside,
        by its name.
        """
        try:
            s = os.lstat(path)
        except OSError:
            return False
        if self.header.stable_inodes:
            return inode_key(s.st_ino) == int(self.header.root_inode)
        return stat.S_ISDIR(s.st_mode) and (path == self.parked_path or self._landmarks(path))

    def _landmarks(self, path: Path) -> bool:
        for name, encoding, size, mtime in self.header.landmarks:
            try:
                s = os.lstat(path / os.fsdecode(unlisted(name, encoding)))
            except OSError:
                continue
            if stat.S_ISREG(s.st_mode) and (s.st_size, mtime_of(s)) == (size, mtime):
                return True
        return False

    def standing(self) -> Path | None:
        """Where the originals are now, or None if they are gone: the folder decides."""
        return next((p for p in (self.source, self.parked_path) if self.is_original(p)), None)

    def origin(self) -> Path:
        """Where the originals are now, or were."""
        return self.standing() or self.source


def _home(path: Path, facts: DriveFacts, followed: Path | None) -> Home:
    mount = followed or Path(facts.mount)
    inside = path.relative_to(mount) if path.is_relative_to(mount) else path
    return Home(drive=facts.uuid, path=shown(str(inside)))


def parked_name(name: str, crossing: str) -> str:
    """A free name for originals that are set aside."""
    tail = f" (set aside {crossing[:8]})"  # for programs
    return os.fsdecode(cut(os.fsencode(name), 255 - len(tail))) + tail


def open_source(workspace: Workspace, places: Places, lock: bool = True) -> Medium:
    """Opens the originals' folder, proven to be the surveyed one, and locks it.

    Raises:
        Refused: it is another folder or another drive, or another crossing holds it.
        EnvironmentTrouble: it cannot be opened.
    """
    places.follow_source(workspace)
    path = places.origin()
    medium = workspace.drives.open(path)
    try:
        uuid = workspace.drives.uuid_at(path)
        same = places.is_original(path) and os.path.samestat(os.lstat(path), medium.status(b""))
        if not same or uuid != places.header.source_drive.uuid:
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "{path} is not the folder that was surveyed. Nothing was changed.",
                    path=shown(str(path)),
                ),
            )
        if lock:
            hold(medium, path)
    except BaseException:
        medium.close()
        raise
    return medium


def hold(medium: Medium, path: Path) -> None:
    """Locks a library against other crossings, until the medium is closed.

    Raises:
        Refused: another one holds it.
    """
    try:
        fcntl.flock(medium.handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        raise Refused(Code.HELD_BY_ANOTHER, _running(shown(path.name), _holder(medium))) from error
    except OSError:
        # A file system without locks; the journal's own lock still works.
        return


def _running(name: str, holder: str) -> str:
    if holder:
        return tr(
            "Another crossing of {name} is running (process {number}). Nothing was changed.",
            name=name,
            number=holder,
        )
    return tr("Another crossing of {name} is running. Nothing was changed.", name=name)


def _holder(medium: Medium) -> str:
    s = medium.status(b"")
    wanted = f"{os.major(s.st_dev):02x}:{os.minor(s.st_dev):02x}:{s.st_ino}"
    try:
        for line in Path("/proc/locks").read_text().splitlines():
            fields = line.split()
            if wanted in fields and "->" not in fields:
                return fields[4]
    except (OSError, IndexError):
        pass
    return ""


def open_destination(workspace: Workspace, places: Places) -> Medium:
    """Opens the folder for the library, proven to be on the planned drive.

    Raises:
        DriveGone: the drive is away, or another one is mounted there.
    """
    places.follow_destination(workspace)
    label, uuid = places.label, places.drive.uuid
    gone = tr(
        "{label} is away. What is verified on it is kept; the crossing goes on when it is back.",
        label=label,
    )
    try:
        drive = workspace.drives.at(places.destination, measured=False)
        if drive.uuid != uuid:
            raise DriveGone(
                tr(
                    "Another drive ({label}) is where {label_2} was. Nothing was written to "
                    "it. {gone}",
                    label=drive.label,
                    label_2=label,
                    gone=gone,
                )
            )
        if not drive.connected:
            raise DriveGone(gone)
        medium = workspace.drives.open(places.destination)
    except DriveGone:
        raise
    except EnvironmentTrouble as error:
        raise DriveGone(gone) from error
    return medium


def write_new(medium: Medium, place: bytes, content: Iterable[bytes]) -> None:
    """Writes a new file of Fascis's own in a folder of this crossing, whole or not at all.

    Raises ``OSError``.
    """
    begun = place + NEW
    if medium.exists(begun):
        # Interrupted while it was written.
        remove_own(medium, begun)
    file = medium.create(begun, 0o644)
    try:
        for part in content:
            file.write(memoryview(part))
        file.flush()
    finally:
        file.close()
    move(medium, begun, place)


def fidelity(drive: Drive) -> Fidelity:
    """The properties of a file that a drive keeps."""
    rules = drive.rules
    owner = os.geteuid() == 0 and rules.modes
    return Fidelity(
        rules.modes,
        rules.attributes,
        rules.holes,
        owner,
        rules.links,
        rules.stable_inodes,
        rules.keeps_ctime,
    )
