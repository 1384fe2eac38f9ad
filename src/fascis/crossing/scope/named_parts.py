"""The parts that a person can choose in a library: projects, or folders.

A part contains the same files as in its crossing: the plan uses the same functions.
"""

from __future__ import annotations

import os

from msgspec import Struct

from fascis.crossing.scope.parts import find_part, left_by
from fascis.crossing.scope.surveyed import Surveyed
from fascis.files.names import parent, shown
from fascis.library.references.projects import project_of, project_place
from fascis.library.survey import Kind, strand_folder
from fascis.words.speech import tr


class NamedPart(Struct, frozen=True):
    """One part that can be chosen.

    Attributes:
        words: its name, with the folder above it if another part has the same name.
        given: how a plan names it: its place, or its path if it lies elsewhere.
        place: the folder, or the single document.
        folder: it is a folder of a catalog, not a project.
    """

    words: str
    given: str
    place: bytes
    folder: bool = False


class Weight(Struct, frozen=True):
    """The files and bytes of a part: its own, and those others use too."""

    own: tuple[int, int]
    shared: tuple[int, int]
    shared_with: tuple[str, ...] = ()


def named_parts(surveyed: Surveyed) -> list[NamedPart]:
    """The projects of a library; without any, the folders that its catalogs know."""
    uses = surveyed.uses
    projects: dict[bytes, str] = {}
    for document in uses.documents:
        if document.place and document.kind.works and not document.kind.journals:
            projects.setdefault(project_place(document), project_of(document))
    found = [
        NamedPart(name, os.fsdecode(place), place)
        for place, name in sorted(projects.items(), key=lambda item: (item[1], item[0]))
    ]
    return _told_apart(found or _folders(surveyed))


def _folders(surveyed: Surveyed) -> list[NamedPart]:
    """Top folders of files used by catalogs: in the library, and elsewhere."""
    uses = surveyed.uses
    catalogs = {n for n, d in enumerate(uses.documents) if d.kind.journals}
    inside = {
        strand_folder(parent(place))
        for row, place in surveyed.survey.files()
        if not catalogs.isdisjoint(uses.used_by.get(row, ()))
    }
    outside = {parent(o.path) for o in uses.outside if o.used_by & catalogs}
    outside = {f for f in outside if not any(f.startswith(o + b"/") for o in outside)}
    places = sorted(f for f in inside if f) + sorted(outside)
    return [NamedPart(_last(place), os.fsdecode(place), place, True) for place in places]


def _last(place: bytes) -> str:
    return os.fsdecode(place.rpartition(b"/")[2])


def _told_apart(parts: list[NamedPart]) -> list[NamedPart]:
    words = [part.words for part in parts]
    return [
        NamedPart(
            tr("{words} in {parent}", words=p.words, parent=shown(parent(p.place))),
            p.given,
            p.place,
            p.folder,
        )
        if words.count(p.words) > 1
        else p
        for p in parts
    ]


def weigh_parts(surveyed: Surveyed, parts: list[NamedPart]) -> dict[str, Weight]:
    """The size of each part; those outside the library are left out."""
    survey, uses = surveyed.survey, surveyed.uses
    brings: dict[str, set[int]] = {}
    loose: dict[str, set[bytes]] = {}
    everything = {row for row, _ in survey.files()}
    for part in parts:
        if part.given.startswith("/"):
            continue
        left = left_by(surveyed, found := find_part(surveyed, [part.given]))
        brings[part.given] = everything - left.rows
        loose[part.given] = {o.path for o in uses.outside if found.documents & o.used_by}
    return {p.given: _weight(surveyed, p, parts, brings, loose) for p in parts if p.given in brings}


def _weight(
    surveyed: Surveyed,
    part: NamedPart,
    parts: list[NamedPart],
    brings: dict[str, set[int]],
    loose: dict[str, set[bytes]],
) -> Weight:
    survey, uses = surveyed.survey, surveyed.uses
    mine = brings[part.given]
    others = {p.words: brings[p.given] & mine for p in parts if p.given in brings and p != part}
    also = set().union(*others.values()) if others else set()
    # Files used by documents outside all parts are shared too; a catalog follows its folders.
    documents = find_part(surveyed, [part.given]).documents
    if part.folder:
        documents = documents | {n for n, d in enumerate(uses.documents) if d.kind.journals}
    also |= {row for row in mine if set(uses.used_by.get(row, ())) - documents}
    sizes = {o.path: o.size for o in uses.outside}
    own_loose = loose[part.given] - set().union(
        *(loose[p.given] for p in parts if p.given in loose and p != part)
    )
    shared_loose = loose[part.given] - own_loose
    own = mine - also

    def figures(rows: set[int], paths: set[bytes]) -> tuple[int, int]:
        total = sum(survey.size[r] for r in rows if survey.kind(r) is Kind.FILE)
        return len(rows) + len(paths), total + sum(sizes.get(p, 0) for p in paths)

    return Weight(
        figures(own, own_loose),
        figures(also, shared_loose),
        tuple(words for words, rows in others.items() if rows),
    )
