"""Rows of a plan as the journal keeps them.

What a survey and a gathering have, with fates, strands and names that are kept apart.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from fascis.crossing.apart import Apart
from fascis.crossing.fates import Fate
from fascis.crossing.gathering import Gathering
from fascis.files.names import join
from fascis.library.roles import ROLES
from fascis.library.survey import Kind, Survey, strand_folder

INSERT = (
    "INSERT INTO entry(id, folder, name, kind, size, allocated, inode, mtime_ns, ctime_ns, mode, "
    "links, role, fate, strand, twin, outside, there, before) "
    "VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"
)


def survey_rows(
    survey: Survey, fates: Sequence[int], strands: dict[tuple[bytes, int], int], apart: Apart
) -> Iterator[tuple[Any, ...]]:
    """A row for every entry of a survey.

    ``strands`` gets those that are new, by folder and role.
    """
    first_of: dict[int, int] = {}
    for index, folder in enumerate(survey.folders):
        top = strand_folder(folder.place)
        for row in range(folder.first, folder.end):
            kind, role, fate = survey.kind(row), survey.role[row], fates[row]
            twin = None
            if kind is Kind.FILE and survey.link_count[row] > 1 and fate in (Fate.COPY, Fate.OWN):
                twin = first_of.setdefault(survey.inode[row], row)
                twin = None if twin == row else twin
            strand = strands.setdefault((top, role), len(strands))
            yield (
                row,
                index,
                survey.name(row),
                int(kind),
                survey.size[row],
                survey.allocated[row],
                inode_key(survey.inode[row]),
                survey.mtime_ns[row],
                survey.ctime_ns[row],
                survey.mode[row],
                survey.link_count[row],
                role,
                fate,
                strand,
                twin,
                None,
                *_names(apart, folder.place, survey.name(row)),
            )


def gathered_rows(
    gathering: Gathering,
    first: int,
    folders: dict[bytes, int],
    strands: dict[tuple[bytes, int], int],
    apart: Apart,
) -> Iterator[tuple[Any, ...]]:
    """A row for every loose file that goes along.

    They come after those of the survey, which has ``first`` rows.
    """
    for number, (place, o) in enumerate(gathering.items, first):
        above, _, name = place.rpartition(b"/")
        role = ROLES.index(o.role)
        strand = strands.setdefault((strand_folder(above), role), len(strands))
        yield (
            number,
            folders[above],
            name,
            int(Kind.FILE),
            o.size,
            o.allocated,
            inode_key(o.inode),
            o.mtime_ns,
            o.ctime_ns,
            o.mode,
            o.links,
            role,
            int(Fate.COPY),
            strand,
            None,
            o.path,
            *_names(apart, above, name),
        )


def _names(apart: Apart, folder: bytes, name: bytes) -> tuple[bytes | None, bytes | None]:
    """The name of a file in the copy, where that is another.

    And the place it had before any was changed.
    """
    if not apart:
        return None, None
    place = join(folder, name)
    before, there = apart.before.get(place, place), apart.there(place)
    return apart.files.get(place), before if before != there else None


def inode_key(inode: int) -> int:
    """An inode number as SQLite can hold it: 63 bits."""
    return inode & 0x7FFF_FFFF_FFFF_FFFF
