"""The layout of a library's ties: pure geometry, from the result to ends, ribbons and text.

No painting here.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence

from msgspec import Struct, field

from fascis.library.standing import Standing
from fascis.relink.lost import Lost
from fascis.relink.outcome import Match, State
from fascis.words.figures import number
from fascis.words.speech import tr, trn

# Pixels; the last for one file.
SLOT, GAP, LEAST, TOP, MOST = 18.0, 9.0, 5.0, 10.0, 12.0


_Kind = tuple[State, bytes | None, bool]


class Group(Struct, frozen=True):
    """Lost files of one folder with the same result.

    Found in one folder, to be decided, or not found. ``away``: not found, and their drive is not
    connected.
    """

    old: bytes
    new: bytes | None
    state: State
    files: int
    away: bool = False


class TieEnd(Struct):
    """A folder at one side: its text, its full path for the tool tip, and its pixels."""

    words: str
    path: str
    y: float
    end: float


class TieRibbon(Struct):
    """Some files of a left end: their target, number and thickness.

    ``left`` and ``right`` are top edges.
    """

    state: State
    files: int
    thick: float
    left: float
    right: float
    words: str
    away: bool = False


class TieLayout(Struct):
    """The ends and ribbons in a height; ``height`` is what they need."""

    lefts: list[TieEnd] = field(default_factory=list)
    rights: list[TieEnd] = field(default_factory=list)
    ribbons: list[TieRibbon] = field(default_factory=list)
    height: float = 0.0


def groups_of(match: Match) -> list[Group]:
    """How many files of each lost folder were found where."""
    count: Counter[tuple[bytes, bytes | None, State, bool]] = Counter()
    for i, x in enumerate(match.lost):
        state = State.NOWHERE if match.state[i] is State.LEFT else match.state[i]
        new = None
        if state is State.FOUND:
            if i in match.path:
                new = match.path[i].rpartition(b"/")[0]
            else:
                new = match.index.folders[int(match.index.folder[match.row[i]])]
        away = state is State.NOWHERE and x.standing is Standing.AWAY
        count[x.folder, new, state, away] += x.files
    return [Group(old, new, state, files, away) for (old, new, state, away), files in count.items()]


def lay_out_ties(groups: list[Group], height: float, short: Callable[[bytes], str]) -> TieLayout:
    """The layout of the ties: the folders with most files by themselves, the others together.

    Args:
        short: gives a folder's short name.
    """
    by_old: dict[bytes, list[Group]] = {}
    for g in groups:
        by_old.setdefault(g.old, []).append(g)
    ranked = sorted(by_old.values(), key=lambda some: -sum(g.files for g in some))
    room = max(3, int(height / (SLOT + GAP)) - 1)
    own, rest = (ranked, []) if len(ranked) <= room else (ranked[: room - 1], ranked[room - 1 :])
    ends: list[tuple[str, str, list[Group]]] = [
        (short(some[0].old), short(some[0].old), some) for some in own
    ]
    if rest:
        ends.append(
            (
                tr("{count} more folders", count=number(len(rest))),
                "",
                [g for some in rest for g in some],
            )
        )
    parts = [(words, path, _merged(some, bool(path))) for words, path, some in ends]
    total = sum(n for _, _, some in parts for n in some.values())
    scale = min(max(0.0, height - len(parts) * (SLOT + GAP)) / max(total, 1), MOST)
    return _placed(parts, scale, short)


def _merged(some: list[Group], single: bool) -> dict[_Kind, int]:
    """The results of one end, found ones first.

    For many small folders together only the number of each result.
    """
    count: Counter[_Kind] = Counter()
    for g in some:
        count[g.state, g.new if single else None, g.away] += g.files
    order = {State.FOUND: 0, State.OPEN: 1, State.NOWHERE: 2, State.LEFT: 2}
    return dict(sorted(count.items(), key=lambda e: (order[e[0][0]], -e[1])))


def _placed(
    parts: list[tuple[str, str, dict[_Kind, int]]], scale: float, short: Callable[[bytes], str]
) -> TieLayout:
    layout = TieLayout()
    rights: dict[bytes | None, list[TieRibbon]] = {}
    y = TOP
    for words, path, some in parts:
        top = y
        for (state, new, away), files in some.items():
            thick = max(LEAST, files * scale)
            slot = max(SLOT, thick)
            ribbon = TieRibbon(
                state, files, thick, y + (slot - thick) / 2, 0.0, _said(state, files, away), away
            )
            layout.ribbons.append(ribbon)
            if state is State.FOUND:
                rights.setdefault(new, []).append(ribbon)
            y += slot
        layout.lefts.append(TieEnd(words, path, top, y))
        y += GAP
    layout.height = y
    end = 0.0
    for new, ribbons in rights.items():
        thick = sum(r.thick for r in ribbons)
        top = max(end, min(r.left for r in ribbons) - (max(SLOT, thick) - thick) / 2)
        at = top + (max(SLOT, thick) - thick) / 2
        for ribbon in ribbons:
            ribbon.right = at
            at += ribbon.thick
        name = tr("several folders") if new is None else short(new)
        layout.rights.append(TieEnd(name, name, top, top + max(SLOT, thick)))
        end = top + max(SLOT, thick) + GAP
    layout.height = max(layout.height, end)
    return layout


def _said(state: State, files: int, away: bool) -> str:
    if state is State.FOUND:
        return tr("{count} tied", count=number(files))
    if state is State.LEFT:
        return tr("{count} looked for", count=number(files))
    if away:
        return tr("{count} on a drive that is away", count=number(files))
    return (
        tr("{count} to decide", count=number(files))
        if state is State.OPEN
        else tr("{count} found nowhere", count=number(files))
    )


def summary(match: Match) -> tuple[int, tuple[str, str, str]]:
    """The number of found files, and a text about lost, found and open ones."""
    found, open, nowhere = (
        match.files(State.FOUND),
        match.files(State.OPEN),
        match.files(State.NOWHERE, State.LEFT),
    )
    gone = [
        x
        for x, s in zip(match.lost, match.state, strict=True)
        if s is State.NOWHERE and x.standing is Standing.AWAY
    ]
    away = sum(x.files for x in gone)
    nowhere -= away
    words = [tr("{count} to decide", count=number(open))] if open else []
    words += [tr("{count} on a drive that is away", count=number(away))] if away else []
    words += [tr("{count} found nowhere", count=number(nowhere))] if nowhere else []
    return found, (
        tr("{count} lost", count=number(match.files(*State))),
        tr("{count} found", count=number(found)),
        " · ".join(["", *words]),
    )


def groups_before(lost: Sequence[Lost]) -> list[Group]:
    """The number of files each folder lost, before anything was found."""
    count: Counter[bytes] = Counter()
    for x in lost:
        count[x.folder] += x.files
    return [Group(old, None, State.LEFT, files) for old, files in count.items()]


def sentence(match: Match, i: int, at: int, of: int) -> str:
    """The question about one lost file."""
    why, lost = match.why[i].rstrip("."), match.lost[i]
    if not lost.frames:
        return tr("{at} of {of} to decide · {why}", at=at, of=of, why=why)
    return trn(
        "{at} of {of} to decide · {why} · {n} frame",
        "{at} of {of} to decide · {why} · {n} frames",
        lost.files,
        at=at,
        of=of,
        why=why,
    )
