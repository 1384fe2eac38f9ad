"""A crossing lands in an existing folder, among the files there.

Everything is first staged, verified and rewritten. Then it is moved in: whole folders by one rename
if the name is free, otherwise file by file, and nothing is replaced. Existing files are not
touched. The records of a library are amended last, each whole or not at all; until then the library
is as it was, and the new files are not listed.
"""

from __future__ import annotations

import errno
import stat
from contextlib import closing

from fascis.crossing.arrival.landing.new_folder import InNewFolder
from fascis.crossing.arrival.records import give_records_back
from fascis.crossing.journal.copies import Item, arrives_at, as_it_was
from fascis.crossing.journal.which import Which
from fascis.crossing.model.seen import CopySeen, Look, look_at_copy
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of, digest_of_bytes
from fascis.files.disk.medium import move, remove_own
from fascis.files.errors import Refused, told
from fascis.files.names import join, parent, shown
from fascis.library.own import OWN
from fascis.library.survey import Kind
from fascis.words.speech import tr

# In the journal: folders of the plan that existed before anything was moved in.
_FOLDERS_BEFORE = "folders_before"


class InExistingFolder(InNewFolder):
    """A crossing on its way into an existing folder.

    Staging is that of a new folder; arriving and moving back are its own.
    """

    _derived: dict[int, tuple[CopySeen, bytes]]

    @property
    def has_records(self) -> bool:
        """The records of the library that it becomes part of are amended."""
        return False

    @property
    def final(self) -> bytes:
        """The folder itself: places of the copy count from the opened destination."""
        return b""

    def is_arriving(self) -> bool:
        """True while files are moved in; the journal has the intent before the first move."""
        return self._copies.open_act("arrive") is not None and self._has_begun()

    def has_landed(self) -> bool:
        """True if it was moved in, or is being moved in."""
        return bool(self._copies.value("arrived_at")) or self.is_arriving()

    def _has_begun(self) -> bool:
        return self._copies.value(_FOLDERS_BEFORE) is not None

    # -- arriving ----------------------------------------------------------------------------------

    def arrive(self) -> None:
        """Moves staged files to their paths."""
        if not self._has_begun():
            self._note_folders()
        if self._medium.exists(self.staged):
            self._move_in_below(b"")
        self._medium.sync()

    def _note_folders(self) -> None:
        self._copies.put(_FOLDERS_BEFORE, [f.hex() for f in self._folders() if self._is(f)])

    def _folders(self) -> list[bytes]:
        """Every folder that it may make there, parents first."""
        found = {b""}
        for _, there in self._copies.journal.folders_that_cross():
            found |= {there, *_above(there)}
        crossing = self._places.crossing
        found |= {OWN, OWN + b"/as-it-was", as_it_was(b"", crossing).rstrip(b"/")}
        return sorted(found, key=lambda f: (f.count(b"/") if f else -1, f))

    def _is(self, place: bytes) -> bool:
        return bool(place) and self._medium.exists(place)

    def _move_in_below(self, folder: bytes) -> None:
        """Moves everything in a staged folder into the existing folder with its place."""
        medium, pending, emptied = self._medium, [folder], []
        while pending:
            inner = pending.pop()
            staged = join(self.staged, inner) if inner else self.staged
            emptied.append(staged)
            for name in sorted(medium.names(staged)):
                place = join(inner, name)
                if self._moves_whole(join(staged, name), place):
                    self._move_one(join(staged, name), place)
                else:
                    pending.append(place)
        medium.sync()
        for staged in reversed(emptied):
            medium.remove_folder(staged)

    def _moves_whole(self, staged: bytes, place: bytes) -> bool:
        """False for a folder that exists already."""
        if not stat.S_ISDIR(self._medium.status(staged).st_mode):
            return True
        if not self._medium.exists(place):
            return True
        return not stat.S_ISDIR(self._medium.status(place).st_mode)

    def _move_one(self, staged: bytes, place: bytes) -> None:
        try:
            move(self._medium, staged, place)
        except FileExistsError as error:
            raise Refused(
                Code.NAME_TAKEN,
                tr(
                    "{place} appeared at the new place meanwhile, and was not changed. "
                    "The arriving file waits beside it. Rename the other one, then "
                    "resume.",
                    place=shown(place),
                ),
            ) from error
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "Another file system is mounted at {parent} on the drive. It was "
                    "not changed. Unmount it, then resume.",
                    parent=shown(parent(place)),
                ),
            ) from error

    # -- taken back --------------------------------------------------------------------------------

    def withdraw(self) -> None:
        """Moves files back into the staging folder if they are as this crossing made them.

        Files that were changed since stay, and are copied again.
        """
        copies, medium = self._copies, self._medium
        act = copies.open_act("withdraw") or copies.intend(
            "withdraw", shown(str(self._places.told)), self._clock()
        )
        try:
            give_records_back(copies, self._places, medium)
            if not medium.exists(self.staged):
                medium.make_folder(self.staged)
            doubles, self._derived = False, copies.derived()
            for item in copies.items(Which.MADE_HERE):
                for place in self._places_of(item):
                    doubles = self._take_back(item, place) or doubles
            if doubles:
                # After a power loss two names may share the same blocks of the drive.
                copies.doubt_all()
            medium.sync()
            self._remove_emptied()
            medium.sync()
        except OSError as error:
            raise told(error, tr("undo the arrival"), self._places.told.name.encode()) from error
        if (begun := copies.open_act("arrive")) is not None:
            copies.journal.conclude(begun, "withdrawn", self._clock())
        copies.put(_FOLDERS_BEFORE, None)
        copies.put("arrived_at", None)
        copies.journal.conclude(act, "done", self._clock())

    def _places_of(self, item: Item) -> list[bytes]:
        kept = arrives_at(item, self._places.crossing)
        return [kept] if kept == item.there else [kept, item.there]

    def _take_back(self, item: Item, place: bytes) -> bool:
        """Moves one file or link back; True if it was found at both places."""
        medium, staged = self._medium, join(self.staged, place)
        if not medium.exists(place) or not self._is_ours(item, place):
            return False
        double = medium.exists(staged)
        if double:
            remove_own(medium, staged)
        self._make_staged_parents(parent(place))
        move(medium, place, staged)
        return double

    def _make_staged_parents(self, folder: bytes) -> None:
        for above in (*reversed(list(_above(folder))), folder):
            if above and not self._medium.exists(join(self.staged, above)):
                self._medium.make_folder(join(self.staged, above))

    def _is_ours(self, item: Item, place: bytes) -> bool:
        """True for an unchanged file of this crossing, by size and times or by content."""
        status = self._medium.status(place)
        if item.kind is Kind.LINK:
            is_link = stat.S_ISLNK(status.st_mode)
            target = self._medium.read_link(place) if is_link else b""
            anew = item.rewritten and place == item.there
            return is_link and (anew or digest_of_bytes(target) == item.digest)
        if not stat.S_ISREG(status.st_mode):
            return False
        seen, digest = item.copy_seen, item.digest
        if item.rewritten and place == item.there:
            seen, digest = self._derived.get(item.id, (None, None))
        look = look_at_copy(seen, status, self._keeps)
        if look is not Look.TOUCHED:
            return look is not Look.OTHER
        with closing(self._medium.open(place)) as file:
            return digest_of(file) == digest

    def _remove_emptied(self) -> None:
        """Removes the folders that it made there if they are empty."""
        before = set(self._copies.value(_FOLDERS_BEFORE) or [])
        for folder in reversed(self._folders()):
            if not folder or folder.hex() in before or not self._medium.exists(folder):
                continue
            try:
                self._medium.remove_folder(folder)
            except OSError as error:
                if error.errno not in (errno.ENOTEMPTY, errno.EEXIST, errno.ENOTDIR):
                    raise


def _above(folder: bytes) -> list[bytes]:
    """The folders above one, the nearest first."""
    found = []
    while folder := parent(folder):
        found.append(folder)
    return found
