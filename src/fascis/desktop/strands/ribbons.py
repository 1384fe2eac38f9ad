"""The layout of a bundle's ribbons: pure geometry, from woven columns to rectangles and text.

No painting here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

import numpy as np
from msgspec import Struct, field

from fascis.desktop.kit.words import ROLE_WORDS
from fascis.desktop.strands.woven import INSIDE, NOT_FOUND, Woven, WovenStrand
from fascis.library.standing import Standing
from fascis.words.figures import number, size
from fascis.words.speech import tr, trn

TOP, SLOT, HEAD, GAP = 30.0, 17.0, 18.0, 10.0
LEAST, LEAST_OUT = 5.0, 3.0
UNUSED_WORDS = tr("Used by nothing")


class End(Struct):
    """One end: a folder at the left, a use at the right.

    ``y`` to ``end`` are its pixels. ``part`` is the plan's name of a part that can be ticked there.
    ``missing``: some of its files are missing, not only away.
    """

    words: str
    quiet: str
    figure: str
    y: float
    end: float
    strands: tuple[int, ...] = ()
    part: str = ""
    ticked: bool = False
    missing: bool = False


class Bar(Struct):
    """A group of ends under one head."""

    words: str
    y: float
    end: float


class Ribbon(Struct):
    """A ribbon from a left end to a right one.

    Its strands, its thickness, and where it starts, passes and ends (top edges).
    """

    strands: tuple[int, ...]
    standing: Standing
    remakeable: bool
    along: bool
    thick: float
    left: float
    middle: float
    right: float
    files: int
    bytes: int


class Layout(Struct):
    """A bundle laid out in a height.

    ``loop`` is the extent of the twine, or None if nothing is copied.
    """

    bars: list[Bar] = field(default_factory=list)
    lefts: list[End] = field(default_factory=list)
    rights: list[End] = field(default_factory=list)
    ribbons: list[Ribbon] = field(default_factory=list)
    loop: tuple[float, float] | None = None
    along_bytes: int = 0


class _Left(Struct):
    """Strands drawn as one at the left side.

    Those of one folder, or all small ones of a group.
    """

    group: str
    words: str
    strands: list[int]
    bytes: int
    files: int


def lay_out(woven: Woven, height: float, by_project: bool) -> Layout:
    """Lays a bundle out.

    The largest strands by themselves, the small ones of each group together.
    """
    room = height - TOP - 8
    lefts = _lefts(woven.strands, room)
    rights, kinds = _rights(woven, by_project)
    by_users = by_project and not woven.by_folder
    table = woven.totals_by(rights, len(kinds)) if by_users else None
    # Left, right, along, strands, bytes, files.
    parts: list[tuple[int, int, bool, tuple[int, ...], int, int]] = []
    for index, left in enumerate(lefts):
        for strand in left.strands:
            parts += _parts(woven, index, strand, kinds, table, by_project)
    merged: dict[tuple[int, int, bool, Standing, bool], list[tuple[int, int, int]]] = {}
    for index, kind, along, (strand,), total, files in parts:
        key = woven.strands[strand].key
        merged.setdefault((index, kind, along, key[2], key[1].remakeable), []).append(
            (strand, total, files)
        )
    layout = Layout(along_bytes=sum(s.along_bytes for s in woven.strands))
    ribbons = [_ribbon(woven, key, some) for key, some in merged.items()]
    keys = list(merged)
    scale = _scale(ribbons, keys, lefts, room)
    for ribbon in ribbons:
        if ribbon.along:
            ribbon.thick = max(LEAST, ribbon.bytes * scale)
        else:
            ribbon.thick = max(LEAST_OUT, ribbon.bytes * scale * 0.6)
    _place_left(layout, lefts, ribbons, keys)
    _place_right(layout, woven, kinds, ribbons, keys, room)
    _place_middle(layout, ribbons)
    layout.ribbons = ribbons
    return layout


def _lefts(strands: list[WovenStrand], height: float) -> list[_Left]:
    """The left side's ends: folders, by group, largest first.

    Those without room are combined.
    """
    groups: dict[str, dict[bytes, list[int]]] = {}
    for i, s in enumerate(strands):
        groups.setdefault(s.group, {}).setdefault(s.key[0], []).append(i)
    away = {s.group for s in strands if s.key[2] is Standing.AWAY}
    order = sorted(groups, key=lambda g: (g != INSIDE, g == NOT_FOUND, g in away, g))
    room = max(int((height - len(groups) * (HEAD + GAP)) / (SLOT + 2) * 0.8), len(groups))
    everything = sum(len(folders) for folders in groups.values())
    found = []
    for group in order:
        folders = groups[group]
        share = len(folders) if everything <= room else max(2, room * len(folders) // everything)
        ranked = sorted(folders.values(), key=lambda ids: -sum(strands[i].bytes for i in ids))
        own, rest = (
            (ranked, []) if len(ranked) <= share else (ranked[: share - 1], ranked[share - 1 :])
        )
        found += [_left(group, strands[ids[0]].name, ids, strands) for ids in own]
        if rest:
            found.append(
                _left(
                    group,
                    tr("{count} more", count=number(len(rest))),
                    [i for ids in rest for i in ids],
                    strands,
                )
            )
    return found


def _left(group: str, words: str, ids: list[int], strands: list[WovenStrand]) -> _Left:
    return _Left(
        group, words, ids, sum(strands[i].bytes for i in ids), sum(strands[i].files for i in ids)
    )


def _rights(woven: Woven, by_project: bool) -> tuple[Callable[[int], int], list[str]]:
    """The division of the right side: by purpose, or by the projects that use a file."""
    if not by_project or woven.by_folder:
        words_of = _folder_words if by_project else _use_words
        return (lambda _u: 0), [*dict.fromkeys(words_of(woven, s) for s in woven.strands)]
    words = [", ".join(p) or UNUSED_WORDS for p in woven.projects]
    # Too many combinations: by the number of projects.
    if len(words) > 12:
        words = [_sharing_words(p) for p in woven.projects]
    kinds = list(dict.fromkeys(words))
    return (lambda u: kinds.index(words[u])), kinds


def _sharing_words(projects: Sequence[str]) -> str:
    if not projects:
        return UNUSED_WORDS
    return projects[0] if len(projects) == 1 else tr("shared by several")


def _folder_words(woven: Woven, strand: WovenStrand) -> str:
    return woven.part_of_strand(strand) or _use_words(woven, strand)


def _use_words(_woven: Woven, strand: WovenStrand) -> str:
    _, role, standing = strand.key
    return UNUSED_WORDS if standing is Standing.UNUSED and not role.remakeable else ROLE_WORDS[role]


def _parts(
    woven: Woven,
    index: int,
    strand: int,
    kinds: list[str],
    table: np.ndarray | None,
    by_project: bool,
) -> Iterable[tuple[int, int, bool, tuple[int, ...], int, int]]:
    s = woven.strands[strand]
    if table is None:
        kind = kinds.index((_folder_words if by_project else _use_words)(woven, s))
        cells = [(kind, s.bytes, s.files, s.along_bytes, s.along_files)]
    else:
        rows = ((k, table[strand, k].astype(int).tolist()) for k in range(len(kinds)))
        cells = [(k, r[0], r[1], r[2], r[3]) for k, r in rows if r[1]]
    for kind, total, files, along_bytes, along_files in cells:
        if along_files:
            yield index, kind, True, (strand,), along_bytes, along_files
        if files > along_files:
            yield index, kind, False, (strand,), total - along_bytes, files - along_files


def _ribbon(
    woven: Woven, key: tuple[int, int, bool, Standing, bool], some: list[tuple[int, int, int]]
) -> Ribbon:
    _, _, along, standing, remakeable = key
    total, files = sum(t for _, t, _ in some), sum(f for _, _, f in some)
    return Ribbon(
        tuple(i for i, _, _ in some), standing, remakeable, along, 0, 0, 0, 0, files, total
    )


def _lost_words(mine: list[Ribbon]) -> str:
    """The missing files of one folder, in words."""
    said = []
    for standing in (Standing.MISSING, Standing.AWAY):
        lost = [r for r in mine if r.standing is standing]
        files, total = sum(r.files for r in lost), sum(r.bytes for r in lost)
        if files:
            said.append(
                f"{number(files)} {standing.words}"
                + (f", {tr('last known {size}', size=size(total))}" if total else "")
            )
    return "; ".join(said)


def _scale(
    ribbons: list[Ribbon],
    keys: list[tuple[int, int, bool, Standing, bool]],
    lefts: list[_Left],
    room: float,
) -> float:
    """Pixels for a byte, so that the left side fits the room."""
    groups = len({x.group for x in lefts})

    def needed(scale: float) -> float:
        heights = [0.0] * len(lefts)
        for ribbon, key in zip(ribbons, keys, strict=True):
            heights[key[0]] += max(LEAST, ribbon.bytes * scale)
        return groups * (HEAD + GAP) + sum(max(SLOT, h) + 2 for h in heights)

    low, high = 0.0, room / max(sum(r.bytes for r in ribbons), 1)
    for _ in range(30):
        middle = (low + high) / 2
        low, high = (middle, high) if needed(middle) <= room else (low, middle)
    return low


def _place_left(
    layout: Layout,
    lefts: list[_Left],
    ribbons: list[Ribbon],
    keys: list[tuple[int, int, bool, Standing, bool]],
) -> None:
    y, group = TOP, ""
    for index, left in enumerate(lefts):
        if left.group != group:
            if group:
                layout.bars[-1].end = y
                y += GAP
            group = left.group
            layout.bars.append(Bar(group, y, y))
            y += HEAD
        mine = [r for r, key in zip(ribbons, keys, strict=True) if key[0] == index]
        mine.sort(key=lambda r: not r.along)
        thick = sum(r.thick for r in mine)
        slot = max(SLOT, thick)
        at = y + (slot - thick) / 2
        for ribbon in mine:
            ribbon.left = at
            at += ribbon.thick
        figure = size(left.bytes) if left.bytes else trn("{n} file", "{n} files", left.files)
        layout.lefts.append(
            End(
                left.words,
                _lost_words(mine),
                figure,
                y,
                y + slot,
                tuple(left.strands),
                missing=any(r.standing is Standing.MISSING for r in mine),
            )
        )
        y += slot + 2
    if layout.bars:
        layout.bars[-1].end = y


def _place_right(
    layout: Layout,
    woven: Woven,
    kinds: list[str],
    ribbons: list[Ribbon],
    keys: list[tuple[int, int, bool, Standing, bool]],
    room: float,
) -> None:
    groups: dict[tuple[bool, int], list[Ribbon]] = {}
    for ribbon, key in zip(ribbons, keys, strict=True):
        lost = ribbon.standing in (Standing.MISSING, Standing.AWAY)
        groups.setdefault((not ribbon.along and not lost, key[1]), []).append(ribbon)
    ends: list[tuple[float, End, list[Ribbon]]] = []
    for (out, kind), mine in sorted(
        groups.items(), key=lambda g: (g[0][0], -sum(r.bytes for r in g[1]))
    ):
        there = [r for r in mine if r.standing not in (Standing.MISSING, Standing.AWAY)]
        total = sum(r.bytes for r in there)
        if out:
            quiet = (
                tr("not copied") if any(r.remakeable for r in there) else tr("stays")
            ) + f", {size(total)}"
        else:
            quiet = size(total)
        for standing in (Standing.MISSING, Standing.AWAY):
            if lacking := sum(r.files for r in mine if r.standing is standing):
                quiet += f" · {number(lacking)} {standing.words}"
        thick = sum(r.thick for r in mine)
        strands = tuple(i for r in mine for i in r.strands)
        part = woven.parts.get(kinds[kind])
        if part is None and ", " in kinds[kind]:
            quiet = tr("shared · {quiet}", quiet=quiet)
        given = part.given if part else ""
        end = End(kinds[kind], quiet, "", 0, 0, strands, given, given in woven.ticked)
        ends.append((max(33.0, thick), end, mine))
    spare = max(0.0, room - sum(h for h, _, _ in ends)) / (len(ends) + 1)
    gap = min(26.0, max(4.0, spare))
    y = TOP + max(0.0, min(spare, 20.0))
    for height, end, mine in ends:
        thick = sum(r.thick for r in mine)
        end.y, end.end = y + (height - thick) / 2, y + (height + thick) / 2
        at = end.y
        for ribbon in sorted(mine, key=lambda r: r.left):
            ribbon.right = at
            at += ribbon.thick
        layout.rights.append(end)
        y += height + gap


def _place_middle(layout: Layout, ribbons: list[Ribbon]) -> None:
    """Copied files go through the loop, close together; the others pass below it."""
    there = [r for r in ribbons if r.standing not in (Standing.MISSING, Standing.AWAY)]
    along = sorted((r for r in there if r.along), key=lambda r: (r.right, r.left))
    rest = sorted((r for r in there if not r.along), key=lambda r: (r.right, r.left))
    thick = sum(r.thick for r in along)
    y = (min((r.right for r in along), default=TOP) + min((r.left for r in along), default=TOP)) / 2
    y = max(TOP + 8, y)
    top = y
    for ribbon in along:
        ribbon.middle = y
        y += ribbon.thick
    if along:
        layout.loop = (top - 12, top + thick + 12)
    y = max(y + 44, min((r.right for r in rest), default=0.0) - 30)
    for ribbon in rest:
        ribbon.middle = y
        y += ribbon.thick + 4
