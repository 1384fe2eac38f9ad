"""Repairing a library from one of its copies: damaged and missing files are restored and verified.

The good file is read from the copy and must match the library's own manifest. It is written into
``.fascis/before-repair/<act>/``, flushed and read back. Then the damaged file moves there, and the
good one takes its path. Everything is recorded before anything changes; after an interruption, the
next repair or its undo finishes it. A file that was edited since it was listed is not damaged, and
is left alone.
"""

from __future__ import annotations

import fcntl
import json
import os
import stat
import uuid
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict

from fascis.copies.verifying.verifying import Verification, verify
from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.copies import LISTED_OTHERWISE
from fascis.crossing.model.states import CopyState
from fascis.crossing.places.places import hold
from fascis.crossing.places.putting import make_parents
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import Medium, as_stream, move, remove_own
from fascis.files.disk.writer import write_whole
from fascis.files.errors import Damaged, EnvironmentTrouble, FascisError, Refused, told
from fascis.files.inventory import Entry
from fascis.files.manifest import read_manifest
from fascis.files.names import fsname, join, listed, shown, unlisted
from fascis.files.own.private import make_private
from fascis.files.times import mtime_of
from fascis.library.identity import inventory_of, read_identity
from fascis.library.known.places import Place as Located
from fascis.library.known.places import known_places
from fascis.library.open_files import find_open
from fascis.library.own import INVENTORY, MANIFEST, OWN
from fascis.words.speech import tr
from fascis.workspace import Workspace

FORMAT = 1
BEFORE = OWN + b"/before-repair"
_AS_IT_WAS = OWN + b"/as-it-was"
_LARGEST = 64 << 20
_CHUNK = 1 << 20
Place = bytes


class Repaired(BaseModel):
    """One file of an act.

    Attributes:
        digest: of the good file, in hex.
        size, mtime_ns: from the library's inventory.
        kept: a damaged file had this path, and is kept.
    """

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)
    path: str
    path_encoding: Literal["utf-8", "percent"]
    digest: str
    size: int
    mtime_ns: int
    kept: bool

    @property
    def place(self) -> Place:
        """Its place in the library."""
        return unlisted(self.path, self.path_encoding)


class Repair(BaseModel):
    """The record of one act; ``state`` is its progress."""

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)
    format: int = FORMAT
    id: str
    library: str
    root: str
    copy_root: str
    when: float
    state: Literal["writing", "done", "undoing", "undone"]
    files: tuple[Repaired, ...]


class Found(BaseModel):
    """Damaged and missing files of a library, and how each can be restored.

    Attributes:
        good: place → the path of the good file in the copy.
        cannot: place → why it cannot be restored.
    """

    model_config = ConfigDict(frozen=True, arbitrary_types_allowed=True, defer_build=True)
    good: dict[Place, Place]
    cannot: dict[Place, str]
    wanted: dict[Place, Entry]
    missing: frozenset[Place]


class Repairs:
    """Repairs libraries from their copies, and records this."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._folder = workspace.state / "repairs"
        self._drives = workspace.drives

    # -- looking -----------------------------------------------------------------------------------

    def look(
        self,
        root: Path,
        copy: Path,
        control: Control,
        beat: Callable[[int, int, int], None] = lambda _f, _b, _of: None,
    ) -> Found:
        """Reads a whole library, and finds good files for everything damaged or missing.

        Writes nothing.

        Raises:
            Damaged: it has no manifest, or the copy has none.
            Refused: they are two libraries.
            EnvironmentTrouble: a drive failed.
        """
        drive = self._drives.at(root, measured=False)
        with closing(self._drives.open(root)) as mine, closing(self._drives.open(copy)) as theirs:
            _check_same(mine, root, theirs, copy)
            found = verify(mine, root, control, beat, drive)
            self._workspace.register.put_verified(
                _id(mine, root), root, drive.uuid, found.proven, found.files,
                len(found.damaged) + len(found.missing),
            )  # fmt: skip
            wanted = _wanted(mine, root, found)
            return self._good(mine, theirs, copy, wanted, found, control)

    def look_for(self, root: Path, copy: Path, places: list[Place], control: Control) -> Found:
        """The same for files that are known to be damaged; nothing else is read.

        Raises:
            Damaged, Refused, EnvironmentTrouble: as :meth:`look`.
        """
        with closing(self._drives.open(root)) as mine, closing(self._drives.open(copy)) as theirs:
            _check_same(mine, root, theirs, copy)
            found = Verification(damaged=places)
            return self._good(mine, theirs, copy, _wanted(mine, root, found), found, control)

    def _good(
        self,
        mine: Medium,
        theirs: Medium,
        copy: Path,
        wanted: dict[Place, Entry],
        found: Verification,
        control: Control,
    ) -> Found:
        writing = _written_to(mine, found.damaged)
        by_digest: dict[bytes, list[Place]] = {}
        for entry in _inventory(theirs, copy):
            by_digest.setdefault(entry.digest, []).append(entry.place)
        crossings = _crossings(theirs)
        good, cannot = {}, {}
        for place, entry in wanted.items():
            if place in writing:
                cannot[place] = "open"
                continue
            kept = [join(join(_AS_IT_WAS, crossing), place) for crossing in crossings]
            candidates = [place, *by_digest.get(entry.digest, []), *kept]
            there = [p for p in dict.fromkeys(candidates) if _is_file(theirs, p)]
            right = (p for p in there if _has(theirs, p, entry.digest, control))
            if (one := next(right, None)) is not None:
                good[place] = one
            else:
                cannot[place] = "copy-damaged" if there else "copy-missing"
        return Found(good=good, cannot=cannot, wanted=wanted, missing=frozenset(found.missing))

    # -- doing -------------------------------------------------------------------------------------

    def apply(self, root: Path, copy: Path, found: Found, control: Control) -> Repair:
        """Puts the good files back.

        Raises:
            Refused: a crossing of the library runs, or it may not be written; nothing was changed.
            EnvironmentTrouble: a drive failed; called again, it goes on.
        """
        with self._alone(), closing(self._drives.open(root)) as mine:
            hold(mine, root)
            self._finish_all(root)
            files = tuple(
                _record(place, found.wanted[place], place not in found.missing)
                for place in sorted(found.good)
            )
            act = Repair(
                id=uuid.uuid4().hex,
                library=_id(mine, root),
                root=os.fspath(root),
                copy_root=os.fspath(copy),
                when=self._workspace.clock(),
                state="writing",
                files=files,
            )
            self._write(act)
            self._workspace.step("repair recorded")
            try:
                with closing(self._drives.open(copy)) as theirs:
                    self._write_good(act, mine, theirs, found, control)
            except Exception:
                # Verified files are moved in, everything else is cleared; the damaged files are
                # untouched.
                with suppress(OSError, EnvironmentTrouble):
                    self._finish(act, mine)
                raise
            return self._finish(act, mine)

    def _write_good(
        self, act: Repair, mine: Medium, theirs: Medium, found: Found, control: Control
    ) -> None:
        base = _base(act)
        try:
            make_parents(mine, b"", join(base, b"x"))
            for number, file in enumerate(act.files):
                control.checkpoint()
                new = _new(base, number)
                copy_one(theirs, found.good[file.place], mine, new, file.mtime_ns)
                self._workspace.step("repair written")
            mine.sync()
        except OSError as error:
            raise told(error, tr("write the good file"), base) from error

    def _finish(self, act: Repair, mine: Medium) -> Repair:
        """Moves in the files that were written correctly, and clears the rest."""
        base, done = _base(act), []
        try:
            for number, file in enumerate(act.files):
                new, kept = _new(base, number), join(base, file.place)
                if mine.exists(new):
                    if _digest(mine, new) != file.digest:
                        # Interrupted while writing, or read back wrong.
                        remove_own(mine, new)
                        continue
                    self._bring_in(mine, file, new, kept)
                if _digest(mine, file.place) == file.digest:
                    done.append(file)
            mine.sync()
            _remove_empty(mine, act)
        except OSError as error:
            raise told(error, tr("put the good file back"), base) from error
        act = act.model_copy(update={"state": "done", "files": tuple(done)})
        self._write(act)
        self._workspace.step("repair done")
        return act

    def _bring_in(self, mine: Medium, file: Repaired, new: Place, kept: Place) -> None:
        place = file.place
        if mine.exists(place):
            if mine.exists(kept) or not self._is_the_damaged_one(mine, file):
                # The file is intact by now, or somebody replaced or changed it: it stays.
                remove_own(mine, new)
                return
            make_parents(mine, b"", kept)
            move(mine, place, kept)
            mine.sync()
            self._workspace.step("repair set the damaged one aside")
        make_parents(mine, b"", place)
        move(mine, new, place)
        mine.sync()
        self._workspace.step("repair put back")

    def _is_the_damaged_one(self, mine: Medium, file: Repaired) -> bool:
        """True for a file with the listed size and time but other content."""
        status = mine.status(file.place)
        as_listed = (status.st_size, mtime_of(status)) == (file.size, file.mtime_ns)
        return (as_listed or not file.mtime_ns) and _digest(mine, file.place) != file.digest

    # -- taking back -------------------------------------------------------------------------------

    def undo(self, prefix: str) -> Repair:
        """Restores the bytes that a library had before a repair.

        Raises:
            Refused: there is no such repair, it is undone already, or a file was changed since.
            EnvironmentTrouble: the drive is away or failed; called again, it goes on.
        """
        with self._alone():
            act = self.find(prefix)
            if act is None or act.state == "undone":
                raise Refused(
                    Code.NOTHING_TO_UNDO, tr("There is no such repair, or it was undone already.")
                )
            root = Path(act.root)
            with closing(self._drives.open(root)) as mine:
                hold(mine, root)
                if act.state == "writing":
                    act = self._finish(act, mine)
                if act.state == "done":
                    self._check_undo(act, mine)
                    act = act.model_copy(update={"state": "undoing"})
                    self._write(act)
                    self._workspace.step("repair undo recorded")
                return self._take_back(act, mine)

    def _check_undo(self, act: Repair, mine: Medium) -> None:
        for file in act.files:
            if _digest(mine, file.place) != file.digest:
                raise Refused(
                    Code.DOCUMENT_CHANGED,
                    tr(
                        "{place} was changed after it was repaired, so it is kept. "
                        "Nothing was changed.",
                        place=shown(file.place),
                    ),
                )

    def _take_back(self, act: Repair, mine: Medium) -> Repair:
        base = _base(act)
        try:
            for number, file in enumerate(act.files):
                new, kept = _new(base, number), join(base, file.place)
                if _digest(mine, file.place) == file.digest and (
                    not file.kept or mine.exists(kept)
                ):
                    make_parents(mine, b"", new)
                    move(mine, file.place, new)
                    self._workspace.step("repair taken out")
                if mine.exists(kept) and not mine.exists(file.place):
                    move(mine, kept, file.place)
                    self._workspace.step("repair damaged one back")
                if mine.exists(new) and _digest(mine, new) == file.digest:
                    # This act wrote it from the copy, which still has it.
                    remove_own(mine, new)
            mine.sync()
            _remove_empty(mine, act)
        except OSError as error:
            raise told(error, tr("undo the repair"), base) from error
        act = act.model_copy(update={"state": "undone"})
        self._write(act)
        return act

    # -- records -----------------------------------------------------------------------------------

    def recover(self) -> list[str]:
        """Finishes interrupted acts; returns the errors of those that cannot be finished now."""
        if not any(act.state in ("writing", "undoing") for act in self.all()):
            return []
        with self._alone():
            return self._finish_all()

    def _finish_all(self, held: Path | None = None) -> list[str]:
        said = []
        for act in self.all():
            if act.state not in ("writing", "undoing"):
                continue
            root = Path(act.root)
            try:
                with closing(self._drives.open(root)) as mine:
                    if root != held:
                        hold(mine, root)
                    (self._finish if act.state == "writing" else self._take_back)(act, mine)
            except (EnvironmentTrouble, Refused) as error:
                said.append(str(error))
        return said

    def all(self) -> list[Repair]:
        """All acts, latest first; a damaged record is skipped."""
        found = []
        for file in self._folder.glob("*.json") if self._folder.is_dir() else ():
            try:
                if file.stat().st_size <= _LARGEST:
                    found.append(Repair.model_validate(json.loads(file.read_bytes())))
            except (ValueError, RecursionError, OSError):
                continue
        return sorted(found, key=lambda act: -act.when)

    def find(self, prefix: str) -> Repair | None:
        """The act whose id begins like this, if there is only one."""
        found = [a for a in self.all() if a.id.startswith(prefix)] if len(prefix) >= 4 else []
        return found[0] if len(found) == 1 else None

    def _write(self, act: Repair) -> None:
        fd = os.open(self._folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            content = json.dumps(act.model_dump(), indent=1).encode("utf-8", "surrogateescape")
            write_whole(fd, fsname(f"{act.id}.json"), content)
        finally:
            os.close(fd)

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """Allows one repair at a time on this machine; the lock ends with the program."""
        try:
            make_private(self._folder)
            fd = os.open(self._folder / "lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError as error:
            raise told(error, tr("write the record of the repair"), bytes(self._folder)) from error
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield
        except BlockingIOError as error:
            raise Refused(Code.BUSY, tr("Another window is repairing now; try again.")) from error
        finally:
            os.close(fd)


# -- what is wanted, and what is there -------------------------------------------------------------


def _wanted(medium: Medium, root: Path, found: Verification) -> dict[Place, Entry]:
    """What the library's own lists state for all damaged and missing files."""
    wrong = {*found.damaged, *found.missing}
    wanted = {e.place: e for e in _inventory(medium, root) if e.place in wrong}
    with closing(medium.open(MANIFEST)) as file:
        for digest, place in read_manifest(as_stream(file), root / ".fascis/manifest.b3"):
            if place in wrong:
                # The manifest decides.
                entry = wanted.get(place, Entry(place, 0, 0, digest, "other"))
                wanted[place] = entry._replace(digest=digest)
    return wanted


def _inventory(medium: Medium, root: Path) -> list[Entry]:
    if not medium.exists(INVENTORY):
        return []
    return list(inventory_of(medium, root / ".fascis/inventory.csv"))


def _check_same(mine: Medium, root: Path, theirs: Medium, copy: Path) -> None:
    one, other = read_identity(mine, root), read_identity(theirs, copy)
    if one and other and one.library_id != other.library_id:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "{root} and {copy} are two libraries, not a library and its copy. "
                "Nothing was changed.",
                root=shown(str(root)),
                copy=shown(str(copy)),
            ),
        )
    if os.path.realpath(root) == os.path.realpath(copy):
        raise Refused(
            Code.WRONG_STATE, tr("A library cannot be repaired from itself. Nothing was changed.")
        )


def _id(medium: Medium, root: Path) -> str:
    identity = read_identity(medium, root)
    if identity is None:
        raise Damaged(root, tr("it has no identity"), tr("Nothing was changed."))
    return identity.library_id


def _crossings(medium: Medium) -> list[bytes]:
    """The crossings for which earlier versions of documents are kept."""
    with suppress(OSError):
        if medium.exists(_AS_IT_WAS):
            return sorted(medium.names(_AS_IT_WAS))
    return []


def _written_to(medium: Medium, places: list[Place]) -> set[Place]:
    """Which of these files a program has open for writing."""
    numbers = {}
    for place in places:
        with suppress(OSError):
            status = medium.status(place)
            numbers[(status.st_dev, status.st_ino)] = place
    found = find_open(set(numbers), {device for device, _ in numbers})
    open_ones = {(f.device, f.inode) for f in found.files if f.writing}
    return {place for key, place in numbers.items() if key in open_ones}


def _is_file(medium: Medium, place: Place) -> bool:
    try:
        return stat.S_ISREG(medium.status(place).st_mode)
    except OSError:
        return False


def _has(medium: Medium, place: Place, digest: bytes, control: Control) -> bool:
    control.checkpoint()
    return bool(digest) and _digest(medium, place) == digest.hex()


def _digest(medium: Medium, place: Place) -> str:
    """The digest (hex) of a file, read from the drive; empty if there is no file."""
    if not _is_file(medium, place):
        return ""
    try:
        with closing(medium.open(place)) as file:
            file.drop_cached()
            return digest_of(file).hex()
    except OSError:
        return ""


def copy_one(theirs: Medium, good: Place, mine: Medium, new: Place, mtime_ns: int) -> None:
    """Copies one file to a free path and flushes it. Raises ``OSError``."""
    with closing(theirs.open(good)) as reading:
        mode = stat.S_IMODE(reading.opened.st_mode)
        attributes = reading.attributes()
        buffer = memoryview(bytearray(_CHUNK))
        with closing(mine.create(new, mode)) as writing:
            while count := reading.readinto(buffer):
                writing.write(buffer[:count])
            with suppress(OSError):
                writing.set_attributes(attributes)
            os.utime(writing.handle, ns=(mtime_ns, mtime_ns))
            writing.flush()


# -- places ----------------------------------------------------------------------------------------


def _base(act: Repair) -> Place:
    return join(BEFORE, act.id[:16].encode())


def _new(base: Place, number: int) -> Place:
    return join(base, b".fascis-new-%d" % number)


def _record(place: Place, entry: Entry, kept: bool) -> Repaired:
    path, encoding = listed(place)
    return Repaired(
        path=path,
        path_encoding=encoding,
        digest=entry.digest.hex(),
        size=entry.size,
        mtime_ns=entry.mtime_ns,
        kept=kept,
    )


def _remove_empty(medium: Medium, act: Repair) -> None:
    """Removes the act's empty folders."""
    base = _base(act)
    folders = {base}
    for file in act.files:
        above = join(base, file.place).rpartition(b"/")[0]
        while len(above) > len(base):
            folders.add(above)
            above = above.rpartition(b"/")[0]
    for folder in (*sorted(folders, key=lambda f: -f.count(b"/")), BEFORE):
        with suppress(OSError):
            medium.remove_folder(folder)


# -- originals that a crossing found damaged -------------------------------------------------------


def damaged_originals(crossing: Crossing) -> list[Place]:
    """The originals that a crossing found damaged: the library's lists have another digest."""
    found = {
        item.place: None
        for destination in crossing.demanded
        for item in destination.copies.in_states([CopyState.DAMAGED])
        if item.known and item.known != LISTED_OTHERWISE and item.outside is None
    }
    return list(found)


def sound_copies(
    workspace: Workspace, crossing: Crossing, control: Control = UNSTOPPED
) -> list[Located]:
    """Copies of a library that have an intact version of a file that a crossing found damaged.

    Reads only these files in each copy. A copy that cannot be read is skipped.
    """
    damaged = damaged_originals(crossing)
    if not damaged:
        return []
    places, repairs, found = crossing.places, Repairs(workspace), []
    id, root = places.header.whole, places.origin()
    here = {root, *(d.places.target for d in crossing.destinations)}
    for one in known_places(workspace):
        for place in (one.home, *one.copies) if one.library.id == id else ():
            if place.path in here or not place.there:
                continue
            with suppress(FascisError, OSError):
                if repairs.look_for(root, place.path, damaged, control).good:
                    found.append(place)
    return found


def repair_originals(workspace: Workspace, crossing: Crossing, copy: Path, control: Control) -> int:
    """Restores damaged originals from a copy; returns how many files.

    Raises:
        Refused, EnvironmentTrouble: as :meth:`Repairs.apply`.
    """
    repairs, root = Repairs(workspace), crossing.places.origin()
    found = repairs.look_for(root, copy, damaged_originals(crossing), control)
    return len(repairs.apply(root, copy, found, control).files) if found.good else 0


CANNOT = {
    "open": tr("a program has it open for writing"),
    "copy-damaged": tr("the copy's content differs"),
    "copy-missing": tr("the copy does not have it"),
    "not-done": tr("it changed meanwhile"),
}
"""Why something cannot be repaired, for people."""
