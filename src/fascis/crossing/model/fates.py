"""Fates: what a plan does with each entry of a survey."""

from __future__ import annotations

from array import array
from enum import IntEnum

from msgspec import Struct

from fascis.library.roles import ROLES, Role, RoleRule, is_media
from fascis.library.survey import Kind, Survey


class Fate(IntEnum):
    """What the plan does with an entry."""

    COPY = 0
    # Left out by role or by choice.
    LEFT_OUT = 1
    SPECIAL = 2  # Cannot be copied at all.
    # A link, and the destination has no links.
    UNHOLDABLE = 3
    # Fascis's own record in the old library, copied to as-it-was.
    OWN = 4
    # Left out, and deleted with the originals: it can be made again.
    DISCARD = 5


_BY_NAMES = RoleRule()


class Fates(Struct, frozen=True):
    """What decides the fate of an entry.

    Roles left out and discarded, rows left out, and whether a destination has links. Patterns of an
    identity file can leave files out, but never discard them: anybody can edit that file, and it
    travels.
    """

    leave_out: frozenset[Role] = frozenset()
    discard: frozenset[Role] = frozenset()
    links: bool = True
    rows_out: set[int] | frozenset[int] = frozenset()

    def of(self, survey: Survey) -> array[int]:
        """The fate of every row."""
        fates = array("B", bytes(len(survey)))
        kinds = survey.kinds()
        plain = not (self.leave_out or self.discard)
        for folder in survey.folders:
            own = survey.is_own(folder)
            mine = kinds[folder.first : folder.end]
            if plain and not own and mine.count(Kind.FILE) == len(mine):
                # Only files, and no role matters.
                for row in self.rows_out.intersection(range(folder.first, folder.end)):
                    fates[row] = Fate.LEFT_OUT
                continue
            for row in range(folder.first, folder.end):
                kind = kinds[row]
                if kind == Kind.SPECIAL:
                    fates[row] = Fate.SPECIAL
                elif (kind == Kind.LINK or own) and row in self.rows_out:
                    fates[row] = Fate.LEFT_OUT
                elif kind == Kind.LINK and not self.links:
                    fates[row] = Fate.UNHOLDABLE
                elif own:
                    fates[row] = Fate.OWN
                elif kind == Kind.FILE:
                    fates[row] = self._of_file(survey, row, folder.place)
        return fates

    def _of_file(self, survey: Survey, row: int, folder: bytes) -> Fate:
        role = ROLES[survey.role[row]]
        if role in self.discard and role.remakeable:
            if not is_media(survey.name(row)):
                # A person's work can never be made again.
                return Fate.LEFT_OUT if row in self.rows_out else Fate.COPY
            by_itself = _BY_NAMES.of_folder(folder) or _BY_NAMES.of_name(survey.name(row))
            return Fate.DISCARD if by_itself is role else Fate.LEFT_OUT
        out = role in self.leave_out or role in self.discard or row in self.rows_out
        return Fate.LEFT_OUT if out else Fate.COPY
