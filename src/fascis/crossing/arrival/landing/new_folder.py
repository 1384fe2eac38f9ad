"""A library lands in a folder of its own.

The final name appears in one rename. If the drive cannot guarantee that nothing is replaced, a
folder is made exclusively with this crossing's token in it, everything is moved into it, and the
identity file comes last.
"""

from __future__ import annotations

import errno
import json
import os
from collections.abc import Callable

from fascis.crossing.arrival.landing.landing import Landing
from fascis.crossing.journal.copies import Copies
from fascis.crossing.journal.listing import plan_list
from fascis.crossing.model.seen import Fidelity
from fascis.crossing.places.clearing import Clearing
from fascis.crossing.places.places import (
    CLAIM,
    NEW,
    PLAN_FILE,
    TOKEN_FILE,
    Places,
    open_destination,
    write_new,
)
from fascis.drives.leftovers import clear_leftovers
from fascis.files.codes import Code
from fascis.files.disk.medium import Medium, read_small, remove_own
from fascis.files.errors import DriveGone, EnvironmentTrouble, Refused, told
from fascis.files.names import join, shown
from fascis.library.identity import read_identity
from fascis.library.own import IDENTITY, OWN
from fascis.words.speech import tr
from fascis.workspace import Workspace


class InNewFolder(Landing):
    """One library on its way into a folder of its own."""

    def __init__(
        self, workspace: Workspace, copies: Copies, places: Places, medium: Medium, keeps: Fidelity
    ) -> None:
        self._workspace, self._copies, self._places = workspace, copies, places
        self._medium, self._keeps = medium, keeps
        self._clock: Callable[[], float] = workspace.clock

    @property
    def has_records(self) -> bool:
        """It is a library of its own."""
        return True

    @property
    def staged(self) -> bytes:
        """The library in the staging folder."""
        return self._places.staged_library

    @property
    def final(self) -> bytes:
        """Its name."""
        return self._places.name

    # -- staging -----------------------------------------------------------------------------------

    def is_begun(self) -> bool:
        """True if there is a staging folder with a token."""
        return self._medium.exists(join(self._places.staging, TOKEN_FILE))

    def begin(self) -> None:
        """Makes the staging folder with the token, and a second copy of the plan."""
        medium, staging = self._medium, self._places.staging
        try:
            if not medium.exists(staging):
                medium.make_folder(staging)
            if not self.is_begun():
                header = self._places.header.as_json()
                header.pop("decisions", None)
                token = json.dumps(header, indent=1).encode()
                write_new(medium, join(staging, TOKEN_FILE), [token])
                medium.sync_folder(staging)
        except OSError as error:
            raise told(error, tr("make the staging folder"), staging) from error
        prove_staging(medium, self._places)
        try:
            if not medium.exists(join(staging, PLAN_FILE)):
                write_new(medium, join(staging, PLAN_FILE), plan_list(self._copies.journal))
                medium.sync_folder(staging)
        except OSError as error:
            raise told(error, tr("write the plan"), staging) from error

    def prove(self) -> None:
        """Proves by its token that the staging folder is this crossing's."""
        prove_staging(self._medium, self._places)

    def clear(self) -> None:
        """Removes the staging folder.

        Also removes what an interrupted test of the drive left beside it.
        """
        medium, staging = self._medium, self._places.staging
        clear_leftovers(medium)
        if not medium.exists(staging):
            return
        token = join(staging, TOKEN_FILE)
        if not medium.exists(token) and medium.names(staging) in ([], [TOKEN_FILE + NEW]):
            if medium.exists(token + NEW):
                # Interrupted before the token was whole: nothing else is in there.
                remove_own(medium, token + NEW)
            medium.remove_folder(staging)
            return
        prove_staging(medium, self._places)
        self._clearing().clear_staging()
        medium.sync()
        remove_own(medium, token)
        medium.remove_folder(staging)
        medium.sync_folder(b"")

    def _clearing(self) -> Clearing:
        return Clearing(self._copies, self._places, self._medium, self._keeps, self._clock)

    # -- arriving ----------------------------------------------------------------------------------

    def is_arriving(self) -> bool:
        """True if this crossing made the folder at the final name, to move into it."""
        place = join(self.final, CLAIM)
        if not self._medium.exists(place):
            return False
        return read_small(self._medium, place) == self._places.header.token.encode()

    def has_landed(self) -> bool:
        """True if the token shows that this crossing made the library at the final name."""
        return has_arrived(self._workspace, self._places) or self.is_arriving()

    def arrive(self) -> None:
        """Moves the staged library to its final name."""
        claimed = self.is_arriving()
        if claimed:
            # Interrupted while it was moved in: files that a person added meanwhile are theirs.
            self._clearing().set_theirs_apart(self.final)
        elif not self._medium.exists(self.staged):
            # The rename was done, but its outcome was not recorded.
            return
        elif self._renamed():
            return
        else:
            self._claim()
        self._move_in()
        if (act := self._copies.open_act("claim")) is not None:
            self._copies.journal.conclude(act, "arrived", self._clock())

    def _renamed(self) -> bool:
        """Gives the staged library its final name; False if the name must be reserved first."""
        try:
            self._medium.rename_new(self.staged, self.final)
            self._medium.sync_folder(b"")
            return True
        except FileExistsError as error:
            if self._copies.open_act("claim") is None or not self._is_only_claimed():
                raise Refused(
                    Code.DESTINATION_EXISTS,
                    tr(
                        "{target} appeared meanwhile and was not changed. The copy "
                        "waits beside it. Rename that folder, then resume.",
                        target=shown(str(self._places.target)),
                    ),
                ) from error
        except OSError as error:
            if error.errno != errno.EINVAL:
                raise
        return False

    def _is_only_claimed(self) -> bool:
        """True if the folder at the final name contains only what reserving it makes."""
        if self._medium.names(self.final) not in ([], [OWN]):
            return False
        own = join(self.final, OWN)
        if not self._medium.exists(own):
            return True
        return set(self._medium.names(own)) <= {b"arriving.json" + NEW}

    def _claim(self) -> None:
        """An exclusive folder with this crossing's token."""
        medium = self._medium
        if self._copies.open_act("claim") is None:
            if medium.exists(self.final):
                raise Refused(
                    Code.DESTINATION_EXISTS,
                    tr(
                        "{target} appeared meanwhile and was not changed.",
                        target=shown(str(self._places.target)),
                    ),
                )
            self._copies.intend("claim", shown(str(self._places.target)), self._clock())
            medium.make_folder(self.final)
        elif not medium.exists(self.final):
            medium.make_folder(self.final)
        if not medium.exists(join(self.final, OWN)):
            medium.make_folder(join(self.final, OWN))
        write_new(medium, join(self.final, CLAIM), [self._places.header.token.encode()])
        medium.sync()

    def _move_in(self) -> None:
        medium, root = self._medium, self.staged
        if medium.exists(root):
            for name in sorted(medium.names(root)):
                if name != OWN:
                    self._move_one_in(join(root, name), join(self.final, name))
            staged_own = join(root, OWN)
            if medium.exists(staged_own):
                for name in sorted(medium.names(staged_own), key=_is_identity):
                    # The identity comes last, when everything else is durable.
                    medium.sync()
                    medium.move_into_claimed(
                        join(staged_own, name), join(join(self.final, OWN), name)
                    )
                medium.remove_folder(staged_own)
            medium.remove_folder(root)
        medium.sync()
        remove_own(medium, join(self.final, CLAIM))

    def _move_one_in(self, place: bytes, final: bytes) -> None:
        try:
            self._medium.move_into_claimed(place, final)
        except FileExistsError:
            # Somebody else made it, and it is empty; any other folder stays, and is an error.
            self._medium.remove_folder(final)
            self._medium.move_into_claimed(place, final)

    # -- taken back --------------------------------------------------------------------------------

    def withdraw(self) -> None:
        """Moves an arrival back into the staging folder, which exists, with its token."""
        copies, medium = self._copies, self._medium
        act = copies.open_act("withdraw") or copies.intend(
            "withdraw", shown(str(self._places.target)), self._clock()
        )
        clearing = self._clearing()
        try:
            self._drop_doubles(clearing)
            clearing.set_theirs_apart(self.final)
            if not self.is_arriving():
                try:
                    medium.rename_new(self.final, self.staged)
                except OSError as error:
                    if error.errno != errno.EINVAL:
                        raise
                    token = self._places.header.token.encode()
                    write_new(medium, join(self.final, CLAIM), [token])
            if self.is_arriving():
                self._move_out()
            medium.sync()
        except OSError as error:
            raise told(error, tr("undo the arrival"), self.final) from error
        for kind in ("claim", "arrive"):
            if (begun := copies.open_act(kind)) is not None:
                copies.journal.conclude(begun, "withdrawn", self._clock())
        copies.journal.conclude(act, "done", self._clock())

    def _drop_doubles(self, clearing: Clearing) -> None:
        """After a power loss a moved file may be found at both paths.

        The staged one is removed, and everything is read again: both names may share the same
        blocks, so that removing one damages the other. Only reading shows this.
        """
        medium, root, name = self._medium, self.staged, self.final
        if not medium.exists(root):
            return
        own, staged_own = join(name, OWN), join(root, OWN)
        doubles = [n for n in medium.names(name) if n != OWN and medium.exists(join(root, n))]
        if medium.exists(own) and medium.exists(staged_own):
            both = (n for n in medium.names(own) if medium.exists(join(staged_own, n)))
            doubles += [join(OWN, n) for n in both]
        if not self.is_arriving() and not doubles:
            # An empty one; any other contains what the arrival lacks, and is an error.
            medium.remove_folder(root)
            return
        if doubles:
            self._copies.doubt_all()
        for place in doubles:
            clearing.clear_one(root, place)
        if not self.is_arriving():
            clearing.clear(root)
        medium.sync()

    def _move_out(self) -> None:
        """Moves everything out again.

        The identity first, so that the rest never looks like a library.
        """
        medium, root, name = self._medium, self.staged, self.final
        own, staged_own = join(name, OWN), join(root, OWN)
        for folder in (root, staged_own):
            if not medium.exists(folder):
                medium.make_folder(folder)
        for entry in sorted(medium.names(own), key=lambda n: not _is_identity(n)):
            if join(OWN, entry) not in (CLAIM, CLAIM + NEW):
                medium.move_into_claimed(join(own, entry), join(staged_own, entry))
                medium.sync()
        for entry in medium.names(name):
            if entry != OWN:
                medium.move_into_claimed(join(name, entry), join(root, entry))
        medium.sync()
        self._remove_claim()

    def _remove_claim(self) -> None:
        for rest in (CLAIM + NEW, CLAIM):
            if self._medium.exists(join(self.final, rest)):
                remove_own(self._medium, join(self.final, rest))
        self._medium.remove_folder(join(self.final, OWN))
        self._medium.remove_folder(self.final)


def _is_identity(name: bytes) -> bool:
    return join(OWN, name) == IDENTITY


# -- proofs ----------------------------------------------------------------------------------------


def prove_staging(medium: Medium, places: Places) -> None:
    """Proves that the staging folder belongs to this crossing.

    Raises:
        Refused: it is not.
    """
    try:
        said = json.loads(read_small(medium, join(places.staging, TOKEN_FILE)))
    except (EnvironmentTrouble, ValueError, RecursionError) as error:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "The staging folder on {label} does not belong to this crossing. "
                "Nothing was changed.",
                label=places.label,
            ),
        ) from error
    if not isinstance(said, dict) or said.get("token") != places.header.token:
        raise Refused(
            Code.WRONG_STATE,
            tr("The staging folder belongs to another crossing. Nothing was changed."),
        )


def has_arrived(workspace: Workspace, places: Places) -> bool:
    """True if the token shows that this crossing made the library at its final name.

    Raises:
        DriveGone: the drive does not answer: then nothing is known of it.
    """
    if not os.path.lexists(places.target):
        return False
    if places.goal.stands:
        # Its contents were there before, too; each copy is checked by itself.
        return places.target.is_dir()
    try:
        medium = workspace.drives.open(places.target)
    except DriveGone:
        raise
    except EnvironmentTrouble:
        return False
    try:
        identity = read_identity(medium, places.target)
    finally:
        medium.close()
    return bool(identity and any(h.token == places.header.token for h in identity.history))


def open_copy(workspace: Workspace, places: Places, copies: Copies) -> Medium:
    """Opens the arrived library, proven by drive and token.

    Raises:
        DriveGone: its drive is away.
        Refused: what stands there is not what this crossing made.
    """
    open_destination(workspace, places).close()
    if not copies.value("settled_at") or not has_arrived(workspace, places):
        raise Refused(
            Code.COPY_CHANGED,
            tr(
                "{target} is not the copy that this crossing made. The originals stay.",
                target=shown(str(places.target)),
            ),
        )
    return workspace.drives.open(places.target)
