"""The rows of a plan for the journal.

From a survey and a gathering, with fates, strands and changed names.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import repeat
from typing import Any

from fascis.crossing.fit.names import Apart
from fascis.crossing.journal.leads import LeadRows
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import inode_key
from fascis.crossing.scope.gathering import Gathering
from fascis.files.names import join
from fascis.library.roles import ROLES
from fascis.library.survey import FolderRow, Kind, Survey, strand_folder

_ALONG = frozenset((int(Fate.COPY), int(Fate.OWN)))
# A file with the same name in the copy, and no equal existing file.
_SAME = (None, None, None)


class Rows:
    """The rows of one plan; each table is requested once, in the order of the methods.

    Args:
        fates: the fate of every row of the survey.
        gathering: loose files that are copied, and their places.
        apart: names that differ in the copy.
        leads: where every reference leads.
    """

    def __init__(
        self,
        survey: Survey,
        fates: Sequence[int],
        gathering: Gathering,
        apart: Apart,
        leads: LeadRows,
    ) -> None:
        self.leads = leads
        self._survey, self._fates = survey, fates
        self._gathering, self._apart = gathering, apart
        self._folders: dict[bytes, int] = {}
        self._strands: dict[tuple[bytes, int], int] = {}

    def folders(self) -> Iterator[tuple[Any, ...]]:
        """The folders of the survey, then those needed for gathered files."""
        for folder in self._survey.folders:
            yield self._folder(folder.place, folder.mode, folder.mtime_ns)
        for place in self._gathering.folders():
            if place not in self._folders:
                yield self._folder(place, 0o40755, 0)

    def _folder(self, place: bytes, mode: int, mtime_ns: int) -> tuple[Any, ...]:
        number = self._folders[place] = len(self._folders)
        return number, place, mode, mtime_ns, self._apart.folder(place)

    def entries(self) -> Iterator[tuple[Any, ...]]:
        """A row for every entry of the survey, then one for every gathered file."""
        yield from self._survey_rows()
        yield from self._gathered_rows()

    def strands(self) -> Iterator[tuple[int, bytes, int]]:
        """The strands of all entries, known after these."""
        for (folder, role), number in self._strands.items():
            yield number, folder, role

    def aliases(self) -> Iterable[tuple[bytes, bytes]]:
        """Paths that documents use for gathered files, and the places of these."""
        return self._gathering.aliases.items()

    def _strand(self, folder: bytes, role: int) -> int:
        return self._strands.setdefault((folder, role), len(self._strands))

    def _survey_rows(self) -> Iterator[tuple[Any, ...]]:
        survey, kinds = self._survey, self._survey.kinds()
        first_of: dict[tuple[int, int], int] = {}
        # A million rows: columns are put together, without a look at each row. All must have the
        # same length: no row may be missing because a value is.
        for folder, rows, names in survey.names_below():
            part, count = slice(rows.start, rows.stop), len(rows)
            yield from zip(
                rows,
                repeat(self._folders[folder.place], count),
                names,
                kinds[part],
                survey.size[part],
                survey.allocated[part],
                map(inode_key, survey.inode[part]),
                survey.mtime_ns[part],
                survey.ctime_ns[part],
                survey.mode[part],
                survey.link_count[part],
                survey.role[part],
                self._fates[part],
                self._strands_of(folder, survey.role[part]),
                self._twins(folder, rows, names, first_of),
                repeat(None, count),
                *self._names_there(folder, names),
                strict=True,
            )

    def _strands_of(self, folder: FolderRow, roles: Iterable[int]) -> Iterator[int]:
        top = strand_folder(folder.place)
        return (self._strand(top, role) for role in roles)

    def _twins(
        self,
        folder: FolderRow,
        rows: range,
        names: list[bytes],
        first_of: dict[tuple[int, int], int],
    ) -> Iterable[int | None]:
        """For every entry the first with the same inode, if there is one."""
        survey, stands = self._survey, self._apart.stands
        if max(survey.link_count[rows.start : rows.stop]) <= 1:
            return repeat(None, len(rows))
        twins: list[int | None] = []
        for row, name in zip(rows, names, strict=True):
            shared = survey.link_count[row] > 1 and survey.kind(row) is Kind.FILE
            twin = None
            if shared and self._fates[row] in _ALONG and join(folder.place, name) not in stands:
                first = first_of.setdefault((folder.device, survey.inode[row]), row)
                twin = None if first == row else first
            twins.append(twin)
        return twins

    def _names_there(
        self, folder: FolderRow, names: list[bytes]
    ) -> Iterable[Iterable[bytes | None]]:
        """The three columns of :func:`_names`."""
        if not self._apart:
            return [repeat(None, len(names)) for _ in range(3)]
        return zip(*(_names(self._apart, folder.place, name) for name in names), strict=True)

    def _gathered_rows(self) -> Iterator[tuple[Any, ...]]:
        for number, (place, loose) in enumerate(self._gathering.items, len(self._survey)):
            above, _, name = place.rpartition(b"/")
            role = ROLES.index(loose.role)
            yield (
                number,
                self._folders[above],
                name,
                int(Kind.FILE),
                loose.size,
                loose.allocated,
                inode_key(loose.inode),
                loose.mtime_ns,
                loose.ctime_ns,
                loose.mode,
                loose.links,
                role,
                int(Fate.COPY),
                self._strand(strand_folder(above), role),
                None,
                loose.path,
                *(_names(self._apart, above, name) if self._apart else _SAME),
            )


def _names(
    apart: Apart, folder: bytes, name: bytes
) -> tuple[bytes | None, bytes | None, bytes | None]:
    """The name of a file in the copy, if it differs.

    Also its place before any renaming, and that of an equal existing file.
    """
    place = join(folder, name)
    if not apart.renames:
        return None, None, apart.stands.get(place)
    before, there = apart.called_before(place), apart.there(place)
    stands = apart.stands.get(place)
    renamed = before != there and stands is None
    return apart.files.get(place), before if renamed else None, stands
