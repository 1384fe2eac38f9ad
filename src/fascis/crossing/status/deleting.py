"""What a release would delete now, and what would stay: one answer for everyone."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator, Mapping
from contextlib import closing

from msgspec import Struct, field

from fascis.crossing.crossing import Crossing
from fascis.crossing.fit.room import Freeing
from fascis.crossing.journal.which import Which
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.states import ARRIVED, State
from fascis.crossing.places.places import open_source
from fascis.crossing.release.course import lost_there, needed_now
from fascis.crossing.release.originals import STAYS_BY_FATE, is_of_the_rest, why_stays
from fascis.crossing.split import Split
from fascis.crossing.status.queue import find_split
from fascis.files.codes import Code, Stays
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import FascisError, Refused
from fascis.files.names import shown
from fascis.library.roles import Role
from fascis.library.survey import Kind
from fascis.words.speech import tr


class Staying(Struct, frozen=True):
    """An original that would stay.

    Its place in the library, or its full path if it is loose; its length in bytes; the reason, and
    who needs it.
    """

    place: bytes
    bytes: int
    why: Stays
    by: tuple[str, ...] = ()
    loose: bool = False

    @property
    def told(self) -> str:
        """The reason in words, with who needs it if that is the reason."""
        if self.why is Stays.USED_ELSEWHERE and self.by:
            return tr("needed by {join}", join=", ".join(self.by))
        return self.why.words


class Together(Struct):
    """How many files, and their total length in bytes."""

    files: int = 0
    bytes: int = 0


class Deleting(Struct):
    """What a release would delete now, and what would stay.

    ``places`` and ``lengths`` (bytes) are those of all deleted files, ``stays`` has all that stay;
    only regular files, without Fascis's own. ``frees`` is their room on the drive, in bytes.
    ``discarded`` of the files have no copy, by the person's choice; ``discarded_frees`` is their
    room. ``loose`` of them lie outside the library, and are listed by their full path.
    """

    places: list[bytes] = field(default_factory=list)
    lengths: list[int] = field(default_factory=list)
    stays: list[Staying] = field(default_factory=list)
    frees: int = 0
    discarded: int = 0
    discarded_frees: int = 0
    loose: int = 0
    loose_frees: int = 0

    @property
    def files(self) -> int:
        """How many files would be deleted."""
        return len(self.places)

    @property
    def bytes(self) -> int:
        """Their total length."""
        return sum(self.lengths)

    def reasons(self) -> dict[str, Together]:
        """Files that stay, by the reason in words."""
        sums: dict[str, Together] = {}
        for one in self.stays:
            words = tr("loose, and needed by others") if one.loose else _IN_SHORT[one.why]
            total = sums.setdefault(words, Together())
            total.files += 1
            total.bytes += one.bytes
        return {words: sums[words] for words in _IN_ORDER if words in sums}


_IN_SHORT = {
    Stays.LEFT_OUT: tr("left out by the plan"),
    Stays.NOT_VERIFIED: tr("not copied"),
    Stays.SPECIAL: tr("neither files nor folders nor links"),
    Stays.LINK: tr("links, which that drive cannot hold"),
    Stays.USED_ELSEWHERE: tr("still needed by others"),
    Stays.DAMAGED: tr("damaged at the source"),
    Stays.CHANGED: tr("newer at the old place"),
    Stays.APPEARED: tr("newer at the old place"),
    Stays.COPY_CHANGED: tr("changed at the new place since"),
    Stays.COPY_MISSING: tr("changed at the new place since"),
}
_IN_ORDER = dict.fromkeys((tr("loose, and needed by others"), *_IN_SHORT.values()))


def lost_now(crossing: Crossing) -> list[dict[bytes, Stays]]:
    """What changed on each destination since home is there, and how.

    Empty if that cannot be seen: a release cannot continue then.
    """
    if crossing.state not in (State.SWITCHED, State.PARKED, State.RELEASED):
        return []
    which = Which.GOING_VERIFIED if crossing.state is State.RELEASED else Which.MAY_GO
    try:
        return lost_there(crossing.demanded, Control(), which)
    except FascisError:
        return []


def deleting_now(crossing: Crossing, control: Control = UNSTOPPED) -> Deleting:
    """Checks both places, and returns what a release would delete. Writes nothing.

    Raises:
        Refused: the crossing has not arrived, or was taken back.
        EnvironmentTrouble: a place is away or failed.
        Cancelled: by the control.
    """
    arrived = (State.SETTLED, State.SWITCHED, State.PARKED, State.RELEASED)
    if crossing.state not in arrived:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "State of the crossing: {value}. Nothing can be deleted now.",
                value=crossing.state.words,
            ),
        )
    newer = crossing.goes_along(crossing.look_again(control)).newer
    # No answer if it cannot be seen: a release would not continue either.
    lost = {
        place: why
        for one in lost_there(crossing.demanded, control, Which.MAY_GO)
        for place, why in one.items()
    }
    return deleting(crossing, newer, lost, control)


def deleting_of_split(split: Split, control: Control = UNSTOPPED) -> Deleting:
    """What a release of a whole split would delete now, and what would stay. Writes nothing.

    Raises:
        Refused: a part has not arrived, or was taken back.
        EnvironmentTrouble: a place is away or failed.
        Cancelled: by the control.
    """
    each = [deleting_now(part, control) for part in split.parts]
    documents = {
        shown(item.place)
        for part in split.parts
        for item in part.copies.items(Which.MAY_GO)
        if item.role is Role.DOCUMENT
    }
    not_held = split.not_held(control)
    goes: dict[bytes, int] = {}
    stays: dict[bytes, Staying] = {}
    found = Deleting()
    for one in each:
        goes |= zip(one.places, one.lengths, strict=True)
        # Files that only documents of other parts need are deleted with these.
        later = [s for s in one.stays if s.by and set(s.by) <= documents]
        goes |= {s.place: s.bytes for s in later}
        stays |= {s.place: s for s in one.stays if s not in later}
    stays |= {p: Staying(p, goes[p], why) for p, why in not_held.items() if p in goes}
    room = Freeing()
    told: set[bytes] = set()
    for part in split.parts:
        for item in part.copies.items(Which.FILES_THERE):
            if item.place in goes and item.place not in stays and item.place not in told:
                told.add(item.place)
                room.add(goes[item.place], item.allocated, (0, item.inode), item.links)
    found.places = sorted(told)
    found.lengths = [goes[place] for place in found.places]
    found.stays = [stays[place] for place in sorted(stays)]
    found.frees = room.room
    return found


def deleting_with_others(
    crossing: Crossing,
    newer: Collection[bytes],
    lost: Mapping[bytes, Stays],
    control: Control = UNSTOPPED,
) -> Deleting:
    """Like :func:`deleting`; for one part of a split, what all parts together delete.

    While a part has not arrived, what this one would delete.
    """
    facts = crossing.places.header.split
    split = find_split(crossing.workspace, facts.id) if facts else None
    if split is None:
        return deleting(crossing, newer, lost, control)
    try:
        if all(part.state in ARRIVED for part in split.parts) and split.complete:
            return deleting_of_split(split, control)
        return deleting(crossing, newer, lost, control)
    finally:
        split.close()


def release_with_others(crossing: Crossing) -> None:
    """Deletes the originals of a crossing; for one part of a split, those of all parts.

    Raises:
        Refused: a copy is not what was verified, or a part has not arrived; nothing was deleted.
        EnvironmentTrouble: a drive failed; called again, it goes on.
    """
    facts = crossing.places.header.split
    split = find_split(crossing.workspace, facts.id) if facts else None
    if split is None:
        crossing.release()
        return
    try:
        split.release(Control())
    finally:
        split.close()


def deleting(
    crossing: Crossing,
    newer: Collection[bytes],
    lost: Mapping[bytes, Stays],
    control: Control = UNSTOPPED,
) -> Deleting:
    """The exact list of originals that a release would delete, from journal and last check.

    Args:
        newer: places that changed at the old place, whether decided or not.
        lost: places whose copies are not as verified, and how.
    """
    copies, found = crossing.copies, Deleting()
    others = [d.copies for d in crossing.demanded[1:]]
    needed = needed_now(crossing.workspace, crossing.places, copies, [*newer, *lost], control)
    top = os.path.realpath(os.fsencode(crossing.places.origin())).rstrip(b"/") + b"/"
    fresh, told = frozenset(newer), set[bytes]()
    room, discarded = Freeing(), Freeing()
    for item in copies.items(Which.FILES_THERE):
        told.add(item.place)
        if item.fate is Fate.OWN or is_of_the_rest(item, crossing.part):
            continue
        length = (item.seen or (item.size,))[0]
        by = tuple(needed.get(top + item.place, ()))
        why = lost.get(item.place) or why_stays(item, fresh, others)
        if why or by:
            found.stays.append(Staying(item.place, length, why or Stays.USED_ELSEWHERE, by))
            continue
        found.places.append(item.place)
        found.lengths.append(length)
        room.add(length, item.allocated, (0, item.inode), item.links)
        if item.fate is Fate.DISCARD:
            discarded.add(length, item.allocated, (0, item.inode), item.links)
    for item in copies.items(Which.RECORDS_THAT_GO):
        room.take(item.allocated, (0, item.inode), item.links)
    found.discarded, found.discarded_frees = discarded.files, discarded.room
    found.stays += _no_files(crossing)
    if appeared := sorted(fresh - told):
        with closing(open_source(crossing.workspace, crossing.places, lock=False)) as source:
            found.stays += [_appeared(source, place) for place in appeared]
    _add_loose(crossing, needed, found)
    found.frees = room.room + found.loose_frees
    return found


def _no_files(crossing: Crossing) -> Iterator[Staying]:
    """Links and special files that stay."""
    for item in crossing.copies.items(Which.STAYING):
        if item.kind is Kind.FILE or is_of_the_rest(item, crossing.part):
            continue
        yield Staying(item.place, 0, STAYS_BY_FATE.get(item.fate, Stays.NOT_VERIFIED))


def _appeared(source: Medium, place: bytes) -> Staying:
    try:
        length = source.status(place).st_size
    except OSError:
        # Gone by now.
        length = 0
    return Staying(place, length, Stays.APPEARED)


def _add_loose(crossing: Crossing, needed: Mapping[bytes, list[str]], found: Deleting) -> None:
    """Loose originals that would be deleted too, if requested.

    Those that others need stay.
    """
    if not crossing.places.header.loose_too:
        return
    room = Freeing()
    for item in crossing.copies.items(Which.LOOSE_MAY_GO):
        path = item.outside or b""
        if path in needed:
            by = tuple(needed[path])
            found.stays.append(Staying(path, item.size, Stays.USED_ELSEWHERE, by, loose=True))
            continue
        found.places.append(path)
        found.lengths.append(item.size)
        room.add(item.size, item.allocated, (1, item.inode), item.links)
    found.loose, found.loose_frees = room.files, room.room
