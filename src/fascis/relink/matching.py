"""Finding each lost file: what the evidence decides, and what a person decides.

Nothing is written. A tie is made automatically only if the evidence is for one file, or for
identical copies of one. The order of evidence: content (digest), name and size, name and length or
capture time, name and folder, name alone.
"""

from __future__ import annotations

from collections.abc import Sequence

from fascis.relink.contents import Contents
from fascis.relink.deciding import Deciding
from fascis.relink.evidence import Evidence, InUse
from fascis.relink.index import Index
from fascis.relink.lost import Lost
from fascis.relink.outcome import NOTHING_DECIDED, Decisions, Match

_NOTHING_USED = InUse()


def match(
    lost: Sequence[Lost],
    index: Index,
    contents: Contents,
    decisions: Decisions = NOTHING_DECIDED,
    in_use: InUse = _NOTHING_USED,
    checked: bool = False,
) -> Match:
    """Ties lost files to found ones.

    Args:
        contents: reads found files, if needed.
        in_use: the files that the library uses and finds.
        checked: check every tie by content if its digest is known, and by length and capture time
            if known.

    Raises:
        Cancelled: when ``contents`` was told so.
    """
    evidence = Evidence(lost, index, contents, decisions, in_use)
    evidence.read_cheap_digests()
    decided = Deciding(evidence).run()
    if evidence.fetch(decided):
        decided = Deciding(evidence).run()
    while checked and evidence.check(decided):
        # If the check fails, another one may have to be checked.
        decided = Deciding(evidence).run()
    return decided
