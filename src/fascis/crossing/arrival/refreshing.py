"""Where the references of changed documents lead.

Found again from the old place, for documents that changed since the plan, before they are
rewritten.
"""

from __future__ import annotations

from fascis.crossing.arrival.rewriting import documents_of
from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.journal.leads import LeadRows
from fascis.crossing.places.places import Places
from fascis.crossing.scope.gathering import Gathering
from fascis.crossing.scope.references import lead_rows
from fascis.crossing.scope.surveyed import survey_library
from fascis.workspace import Workspace


def refresh_leads(workspace: Workspace, copies: Copies, places: Places) -> None:
    """Records where references of changed and new documents lead, if those are still as copied.

    A document that changed once more meanwhile is copied later, or left by decision.

    Raises:
        EnvironmentTrouble: the old place cannot be read.
    """
    journal = copies.journal
    stale = _stale(copies)
    if not stale:
        return
    surveyed = survey_library(workspace, places.old_root)
    if not surveyed.survey.folders:
        return
    entries = journal.entries()
    gathering = Gathering(aliases=journal.aliases())
    found = lead_rows(surveyed.uses, surveyed.survey, gathering, entries)
    fresh = [row for row in found.rows if row[1] in stale.get(row[0], ())]
    if fresh:
        journal.put_leads(LeadRows(fresh, found.outside))


def _stale(copies: Copies) -> dict[int, tuple[bytes, bytes]]:
    """Documents whose recorded references are not those of the copied version.

    What each was when it was copied, by entry.
    """
    known, amending = copies.journal.led_entries(), copies.amending
    stale: dict[int, tuple[bytes, bytes]] = {}
    for item in documents_of(copies):
        now = _seen(item)
        if (item.id in known and known[item.id] not in now) or (
            item.id not in known and (not known or item.id in amending)
        ):
            stale[item.id] = now
    return stale


def _seen(item: Item) -> tuple[bytes, bytes]:
    """What a document was when it was copied, as either kind of survey would record it."""
    size, mtime, _, inode = item.seen or (0, 0, 0, 0)
    return item.digest or b"", b"%d %d %d" % (size, mtime, inode)
