"""The crossings this machine knows, by their journals."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from types import MappingProxyType
from typing import Protocol, TypeVar

from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.glance import read_header
from fascis.crossing.journal.journal import Journal
from fascis.crossing.model.states import State
from fascis.crossing.split import Split
from fascis.files.codes import Code
from fascis.files.errors import Damaged, EnvironmentTrouble, FascisError, Refused
from fascis.files.names import shown
from fascis.words.speech import tr
from fascis.workspace import Workspace

# Letters of an id that identify a crossing: fewer are a typing error, none is a script's unset
# variable.
_SHORTEST = 4


def journals(workspace: Workspace) -> list[Path]:
    """The journals, newest first."""
    if not workspace.crossings.is_dir():
        return []
    found = [p for p in workspace.crossings.iterdir() if p.suffix == ".sqlite"]

    def planned(path: Path) -> tuple[float, str]:
        header = read_header(path)
        return header.planned_at if header else 0.0, path.name

    return sorted(found, key=planned, reverse=True)


def find_crossing(workspace: Workspace, id: str) -> Crossing:
    """Opens a known crossing by an id or a unique beginning of one.

    Raises:
        Refused: there is none such, or several.
        Damaged: its journal is damaged.
    """
    if len(id) < _SHORTEST:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "{value} is too short for a crossing's id: give its first {shortest} "
                "letters at least.",
                value=shown(id) or tr("Nothing"),
                shortest=_SHORTEST,
            ),
        )
    found = [p for p in journals(workspace) if p.stem.startswith(id)]
    if len(found) != 1:
        sentence = tr("There is no crossing whose id begins with {id}.", id=shown(id))
        if found:
            sentence = tr(
                "There are {found} crossings whose id begins with {id}.",
                found=len(found),
                id=shown(id),
            )
        raise Refused(Code.WRONG_STATE, sentence)
    crossing = _open(workspace, found[0])
    if crossing is None:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "Crossing {id} was interrupted before its plan was written; nothing was done.",
                id=shown(id),
            ),
        )
    return crossing


def _open(workspace: Workspace, path: Path) -> Crossing | None:
    """The crossing of a journal.

    None if it was interrupted before the plan was written: nothing was done.

    Raises:
        Damaged: the journal is damaged, or what everybody asks of it is not there.
    """
    journal = Journal.open(path, workspace.step)
    try:
        if journal.has_plan:
            crossing = Crossing(workspace, journal)
            header = journal.header
            _ = (
                crossing.state,
                crossing.turn,
                crossing.after,
                [(d.state, d.label) for d in crossing.destinations],
            )
            _ = (
                header.name,
                header.token,
                header.library_id,
                header.source_drive.uuid,
                header.planned_at,
            )
            return crossing
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        journal.close()
        meaning = tr("No file of a library was changed; other crossings are not affected.")
        raise Damaged(path, tr("its plan or state is not valid"), meaning) from error
    journal.close()
    return None


def find_split(workspace: Workspace, id: str) -> Split | None:
    """Opens a known split by its id or a unique beginning of it; None if there is none.

    The caller closes it.

    Raises:
        Refused: several begin so.
        Damaged: a journal of it is damaged.
    """
    if len(id) < _SHORTEST:
        return None
    found: dict[str, list[Path]] = {}
    for path in journals(workspace):
        header = read_header(path)
        if header and header.split and header.split.id.startswith(id):
            found.setdefault(header.split.id, []).append(path)
    if len(found) > 1:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "There are {found} splits whose id begins with {id}.",
                found=len(found),
                id=shown(id),
            ),
        )
    parts = [c for paths in found.values() for p in paths if (c := _open(workspace, p))]
    return Split(parts) if parts else None


@contextmanager
def opened(workspace: Workspace, id: str) -> Iterator[Crossing]:
    """A crossing that is closed at the end of the block."""
    crossing = find_crossing(workspace, id)
    try:
        yield crossing
    finally:
        crossing.close()


def all_crossings(
    workspace: Workspace, held: Mapping[str, Crossing] = MappingProxyType({})
) -> tuple[list[Crossing], list[FascisError]]:
    """All crossings, newest first, and the journals that cannot be read. The caller closes them.

    Args:
        held: crossings that are open already, by id; they are returned unchanged.
    """
    found: list[Crossing] = []
    damaged: list[FascisError] = []
    for path in journals(workspace):
        if (known := held.get(path.stem)) is not None:
            found.append(known)
            continue
        try:
            crossing = _open(workspace, path)
        except (Damaged, EnvironmentTrouble) as error:
            damaged.append(error)
            continue
        if crossing:
            found.append(crossing)
    return found, damaged


def unfinished(workspace: Workspace) -> list[str]:
    """Ids of crossings that can be resumed, newest first.

    Without those in the queue.
    """
    found, _ = all_crossings(workspace)
    ids = [
        c.id for c in found if not c.finished and c.state is not State.REFUSED and c.turn is None
    ]
    for c in found:
        c.close()
    return ids


class Queued(Protocol):
    """The facts that decide the order of crossings: of a crossing, or of what was read of it."""

    @property
    def id(self) -> str:
        """Its id."""

    @property
    def state(self) -> State:
        """Its state."""

    @property
    def turn(self) -> float | None:
        """Its turn in the queue; None if it is not in the queue."""

    @property
    def planned_at(self) -> float:
        """When it was planned, in seconds since 1970."""


Q = TypeVar("Q", bound=Queued)


def to_go_on(crossings: Iterable[Q]) -> list[Q]:
    """Interrupted crossings, in the order they started, then the queue in its order.

    Without those that need a decision (a file that cannot be read, a copy read back wrong).
    """
    found = [c for c in crossings if c.state in (State.PLANNED, State.COPYING, State.VERIFYING)]
    cut_off = sorted((c for c in found if c.turn is None), key=lambda c: (c.planned_at, c.id))
    return [*cut_off, *in_turn(found)]


def in_turn(crossings: Iterable[Q]) -> list[Q]:
    """The queue, in its order."""
    return sorted((c for c in crossings if c.turn is not None), key=lambda c: (c.turn or 0, c.id))


def line_up(crossings: Iterable[Crossing], last: Crossing) -> None:
    """Puts a crossing at the end of the queue."""
    last.line_up(max((c.turn or 0 for c in crossings if c is not last), default=0) + 1)


def let_go_first(crossings: Iterable[Crossing], first: Crossing) -> None:
    """Moves a crossing to the front of the queue."""
    first.line_up(
        min((c.turn or 0 for c in crossings if c.turn is not None and c is not first), default=2)
        - 1
    )


def crossed_away(workspace: Workspace) -> dict[str, list[tuple[bytes, int]]]:
    """Files that crossed to drives that are away.

    A drive's UUID → ``(name, size in bytes)`` of every file, by the journals.
    """
    there = {d.uuid for d in workspace.drives.connected(measured=False) if d.connected}
    found: dict[str, list[tuple[bytes, int]]] = {}
    crossings, _ = all_crossings(workspace)
    for crossing in crossings:
        for number, facts in enumerate(crossing.journal.header.destinations):
            uuid = facts.drive.uuid
            if uuid and uuid not in there:
                found.setdefault(uuid, []).extend(crossing.journal.crossed_to(number))
        crossing.close()
    return found
