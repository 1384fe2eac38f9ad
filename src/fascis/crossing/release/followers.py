"""Documents that stay are updated to the new place, by one act with its record and its undo.

This happens before home moves, and so before anything is set aside or deleted. They are searched
for at that moment, rewritten beside themselves, read back, and swapped in. Then each is read again:
it must need nothing that will be deleted at the old place, and lead first to the intended files.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from fascis.crossing.journal.copies import Copies
from fascis.crossing.journal.journal import LED
from fascis.crossing.journal.which import Which
from fascis.crossing.places.places import Places
from fascis.crossing.release.lists import NotMended, lists_after_act
from fascis.crossing.scope.following import Following, broken_sentence, following
from fascis.crossing.scope.needed import Going, find_needed, needed_by
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.errors import Refused
from fascis.files.names import shown
from fascis.relink.acts import Acts, acts_of, nothing_runs_above
from fascis.words.speech import tr
from fascis.workspace import Workspace

# In the journal: the acts whose documents were read again and lead where they should.
_SEEN_TO = "followers_seen_to"


def lead_followers(
    workspace: Workspace,
    places: Places,
    copies: Copies,
    control: Control,
    differs: Collection[bytes] = (),
) -> list[Path]:
    """Updates every document that stays; returns which. Can be called again.

    Args:
        differs: places whose original or copy is no longer as verified: no document is updated to
            these.

    Raises:
        Refused: a document cannot be led there, or one is held; none was changed.
        EnvironmentTrouble: a drive failed; what was changed was taken back.
        Cancelled: by the control, before anything is changed.
    """
    acts, journal = crossing_acts(workspace, places), copies.journal
    give_back_cut_off(workspace)
    seen_to = set(journal.value(_SEEN_TO, []))
    if any(act.id not in seen_to for act in acts.of_crossing()):
        # Interrupted before they were read again: they are updated again.
        take_back(workspace, places, copies)
    found = what_follows(workspace, places, copies, control, differs=differs)
    _check(found, tr("No document was changed, and home is where it was."))
    paths = [one.path for one in found.retargets]
    if paths:
        header = places.header
        # A crossing of another library may be running; the act itself locks its own folder.
        with nothing_runs_above(paths, places.source):
            acts.apply(header.whole, shown(header.called), places.source, 0, found.retargets)
        workspace.step("followers-led")
        again = [bytes(path) for path in paths]
        left = what_follows(workspace, places, copies, Control(), again, differs)
        wrong = [*_still_there(left), *_not_as_meant(workspace, places, found)]
        if wrong:
            take_back(workspace, places, copies)
            raise Refused(
                Code.WOULD_BREAK,
                tr(
                    "{wrong} does not lead to the new place after it was rewritten. "
                    "All documents are as before, and home is where it was.",
                    wrong=shown(wrong[0]),
                ),
            )
        journal.put(_SEEN_TO, [act.id for act in acts.of_crossing()])
        journal.put(LED, [*journal.value(LED, []), *_told(places, found)])
    for act in reversed(acts.of_crossing()):
        _note(workspace, copies, lists_after_act(act))
    return paths


def give_back_cut_off(workspace: Workspace) -> None:
    """Undoes interrupted changes of documents, before their content is read.

    The next start would undo them, and the result would no longer be true.

    Raises:
        EnvironmentTrouble: a document cannot be reached.
    """
    if troubles := acts_of(workspace).recover():
        raise troubles[0]


def _still_there(left: Following) -> Iterator[str]:
    """Documents that still lead to the old place."""
    yield from (one.path.name for one in left.retargets)
    yield from (one.told for one in left.broken)


def _not_as_meant(workspace: Workspace, places: Places, found: Following) -> Iterator[str]:
    """Documents with a reference that, read again, does not lead first to the intended file."""
    target, real = bytes(places.target), os.path.realpath(bytes(places.target))
    there = Going(real, "", leads=True)
    documents = [bytes(one.path) for one in found.retargets]
    leads = needed_by(workspace, there, documents).leads
    for one in found.retargets:
        mine = leads.get(bytes(one.path), {})
        for number, (_, new) in one.to.items():
            lead = mine.get(number)
            if lead is None or lead.files[0] != real + new[len(target) :]:
                yield one.path.name
                break


def take_back(
    workspace: Workspace, places: Places, copies: Copies, held: Path | None = None
) -> None:
    """Restores the documents that were updated for a crossing.

    Args:
        held: the folder of the originals, if the caller has locked it.

    Raises:
        Refused: one was worked in since, or is held.
        EnvironmentTrouble: a drive is away or failed.
    """
    acts = crossing_acts(workspace, places)
    for act in acts.undo_crossing(held):
        _note(workspace, copies, lists_after_act(act, undone=True))
    copies.journal.put(LED, [])


def _told(places: Places, found: Following) -> Iterator[dict[str, Any]]:
    """The updated documents, as in the journal, the receipt and the command line."""
    top = os.path.realpath(os.fsencode(places.origin())).rstrip(b"/") + b"/"
    for one in found.retargets:
        path = shown(bytes(one.path).removeprefix(top))
        yield {"path": path, "format": one.document.format, "references": len(one.to)}


def _note(workspace: Workspace, copies: Copies, wrong: Iterable[NotMended]) -> None:
    for one in wrong:
        copies.journal.note(one.path, "", one.meaning, workspace.clock())


def crossing_acts(workspace: Workspace, places: Places) -> Acts:
    """Changes of documents for one crossing, which can be undone."""
    return replace(acts_of(workspace), crossing=places.crossing)


def _check(found: Following, meaning: str) -> None:
    if found.broken:
        files = tuple(b.file for b in found.broken[:1000])
        raise Refused(Code.WOULD_BREAK, f"{broken_sentence(found.broken)} {meaning}", files)


def what_follows(
    workspace: Workspace,
    places: Places,
    copies: Copies,
    control: Control,
    documents: Collection[bytes] = (),
    differs: Collection[bytes] = (),
) -> Following:
    """The documents that follow, searched for now.

    Args:
        documents: search only these, by their absolute paths.
        differs: places whose copy differs: no document is updated to these.
    """
    header = places.header
    root = os.path.realpath(os.fsencode(places.origin())).rstrip(b"/")
    loose = {i.outside: i for i in copies.items(Which.LOOSE_MAY_GO)} if header.loose_too else {}
    going = Going(
        root,
        header.whole,
        frozenset(filter(None, loose)),
        [] if places.goal.joins else [bytes(places.target)],
        bool(header.document),
        crossing=places.crossing,
        leads=True,
        also=[os.fsencode(path) for path in header.also],
    )
    top, target = root + b"/", bytes(places.target)

    # Needed for every photo of a catalog: read from the journal once.
    there = {
        outside or top + place: called
        for place, outside, called in copies.where_they_are()
        if (outside is None or outside in loose) and place not in differs
    }

    def route(path: bytes) -> bytes | None:
        """Where the copy of an absolute path is; None if it was not copied, and stays."""
        place = there.get(path)
        return None if place is None else target + b"/" + place

    def goes(path: bytes) -> bool:
        """If a whole library is moved, no document follows: it moves too, or its files stay."""
        return route(path) is not None or (header.part is None and path.startswith(top))

    if documents:
        needed = needed_by(workspace, going, documents)
    else:
        needed = find_needed(workspace, going, control)
    return following(needed, route, goes, workspace.private)
