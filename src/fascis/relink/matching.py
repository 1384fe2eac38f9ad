"""Which found file each lost one is: what evidence decides, and what is left to a person.

Nothing is written.

A tie is made by itself only where the evidence is for one file, or for identical copies of one. The
order of evidence:
content (digest) before name and size before name and length or capture time before name and folder
before name alone.
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
        contents: reads found files, where that is needed.
        in_use: what the library uses and finds.
        checked: every tie is checked by content where its digest is known, and by length and
            capture time where these are.

    Raises:
        Cancelled: when ``contents`` was told so.
    """
    evidence = Evidence(lost, index, contents, decisions, in_use)
    evidence.read_cheap_digests()
    decided = Deciding(evidence).run()
    if evidence.fetch(decided):
        decided = Deciding(evidence).run()
    while checked and evidence.check(decided):
        # What fails the check may leave another one to be checked.
        decided = Deciding(evidence).run()
    return decided
