"""The balance of originals and copy: what was checked, with the result on each side.

Figures from surveys and the journal.
"""

from __future__ import annotations

import stat
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing

from msgspec import Struct, field

from fascis.crossing.arrival.destination import Destination
from fascis.crossing.arrival.open_check import Opened, open_documents
from fascis.crossing.arrival.rewriting import why_carried
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.states import CopyState, State
from fascis.crossing.places.changes import Differences
from fascis.crossing.status.deleting import lost_now
from fascis.files.codes import Stays
from fascis.files.errors import DriveGone, FascisError
from fascis.files.names import place_text, shown
from fascis.library.own import OWN
from fascis.library.survey import Kind
from fascis.words.figures import listed, number
from fascis.words.speech import tr, trn


class Check(Struct, frozen=True):
    """One line of the scales.

    Figures of both sides as text, for each copy, the verdict, and whether it passed.
    """

    name: str
    originals: str
    copies: tuple[str, ...]
    verdict: str
    well: bool
    detail: str = ""


class Balance(Struct):
    """All checks, failed ones first.

    ``weights`` are strand bytes on (originals, copy, and so on), largest first. ``newer`` changed
    at the old place and is not decided; ``left`` stays there by decision. ``busy``: a drive was
    slow to answer, which does not concern the balance; it is checked again. ``lacks`` counts files
    that documents use and that were left out by choice. ``lost`` are originals whose copies were
    changed or removed at the new place since home is there, and how.
    """

    checks: list[Check]
    weights: list[tuple[int, ...]]
    newer: list[bytes] = field(default_factory=list)
    trouble: str = ""
    left: list[bytes] = field(default_factory=list)
    busy: bool = False
    lacks: int = 0
    lost: Mapping[bytes, Stays] = field(default_factory=dict)

    @property
    def even(self) -> bool:
        """True if nothing failed."""
        return not self.trouble and all(c.well for c in self.checks)


def _count_copy(destination: Destination) -> tuple[int, int]:
    """``(files, bytes)`` in a copy now, without Fascis's own folder."""
    medium = destination.open()
    files = total = 0
    try:
        for folder in medium.walk():
            if folder.place == OWN or folder.place.startswith(OWN + b"/"):
                continue
            for status in folder.stats:
                if stat.S_ISREG(status.st_mode):
                    files += 1
                    total += status.st_size
    finally:
        medium.close()
    return files, total


def weigh(crossing: Crossing) -> Balance:
    """Checks all places again and compares. Writes nothing. May take as long as two surveys."""
    journal, demanded, state = crossing.journal, crossing.demanded, crossing.state
    trouble, busy = "", False
    differences = Differences()
    counted: list[tuple[int, int] | None] = []
    opened: list[Opened | None] = []
    for destination in demanded:
        try:
            counted.append(_count_copy(destination))
            opened.append(_open_copy(destination))
        except FascisError as error:
            counted += [None] * (len(opened) + 1 - len(counted))
            opened.append(None)
            trouble, busy = trouble or str(error), busy or _is_busy(crossing, error)
    try:
        if state is not State.RELEASED:
            differences = crossing.look_again()
    except FascisError as error:
        trouble, busy = trouble or str(error), busy or _is_busy(crossing, error)
    skipped = max(d.copies.count_copies([CopyState.SKIPPED]) for d in demanded)
    decided = set(journal.value("left_newer", []))
    fresh = crossing.goes_along(differences).newer
    newer = since = [p for p in fresh if place_text(p) not in decided]
    one_more = crossing.wanted_after is After.COPY and state is State.SETTLED
    if one_more:
        # Home stays and is worked in: the copy is right if it is as when it was made.
        newer = []
    left = [p for p in fresh if place_text(p) in decided]
    gone_now = list(differences.gone)
    expected = [d.copies.must_hold() for d in demanded]
    lost = lost_now(crossing) if not trouble else []
    # Home is there, and is worked in: later changes there are right.
    if lost:
        counted = [_whole(d, e, one) for d, e, one in zip(demanded, expected, lost, strict=True)]
    worked_in = any(lost)
    changed = {place: why for one in lost for place, why in one.items()}
    checks = [
        _newer(since, len(demanded), one_more),
        _even(tr("Files"), [e[0] for e in expected], [c and c[0] for c in counted], "", worked_in),
        _even(
            tr("Bytes"),
            [e[1] for e in expected],
            [c and c[1] for c in counted],
            _anew_words(demanded[0]),
            worked_in,
        ),
        _contents(crossing, [d.copies.demanded() for d in demanded]),
        *_documents(crossing, opened),
    ]
    if skipped:
        checks.append(
            Check(
                tr("Not copied (your choice)"),
                number(skipped),
                ("0",) * len(demanded),
                tr("not copied"),
                True,
            )
        )
    if worked_in:
        names = ", ".join(shown(p) for p in sorted(changed)[:3]) + (
            " …" if len(changed) > 3 else ""
        )
        each = tuple(number(len(one)) for one in lost)
        meaning = tr("worked on there") if state is State.RELEASED else tr("their originals stay")
        checks.append(Check(tr("Changed at the new place since"), "", each, meaning, True, names))
    if gone_now:
        checks.append(
            Check(
                tr("No longer at the old place"),
                number(len(gone_now)),
                (),
                tr("copied before"),
                True,
                shown(gone_now[0]),
            )
        )
    if left:
        checks.append(
            Check(
                tr("Newer, left there (your choice)"),
                number(len(left)),
                (),
                tr("they stay"),
                True,
                shown(left[0]),
            )
        )
    looked = journal.value("looked_at")
    checks.append(
        Check(tr("Looked at by you"), "", (tr("yes") if looked else tr("not yet"),), "", True)
    )
    checks.sort(key=lambda c: c.well)
    strands = [d.copies.strands() for d in demanded]
    verified = [{s.id: s.verified_bytes for s in one} for one in strands]
    weights = [(s.bytes, *(v.get(s.id, 0) for v in verified)) for s in strands[0]]
    if state is State.RELEASED:
        # The originals' side is empty now.
        weights = [(0, *w[1:]) for w in weights]
    return Balance(
        checks, weights, newer, trouble, left, busy, crossing.places.header.lacks, changed
    )


def _is_busy(crossing: Crossing, error: FascisError) -> bool:
    """True if a drive is connected, and only slow to answer."""
    if not isinstance(error, DriveGone):
        return False
    drives = {d.uuid: d for d in crossing.workspace.drives.connected()}
    wanted = [
        crossing.places.header.source_drive.uuid,
        *(d.places.drive.uuid for d in crossing.demanded),
    ]
    return all((d := drives.get(uuid)) is not None and (d.connected or d.silent) for uuid in wanted)


def _outside_words(crossing: Crossing) -> str:
    """Where references out of the library lead, by the plan."""
    said = crossing.places.header.references
    named = (
        (said.get("missing", 0), tr("missing")),
        (said.get("away", 0), tr("away")),
        (said.get("loose", 0) - said.get("gathered", 0), tr("loose")),
    )
    files = ", ".join(f"{number(n)} {word}" for n, word in named if n > 0)
    if not files:
        return tr("lead outside, as before")
    return tr("lead outside, as before: {files}", files=files)


def _open_copy(destination: Destination) -> Opened | None:
    """Opens every document of a copy now; pictures are decoded once, when it settles."""
    before = destination.opened()
    if before is None:
        return None
    with closing(destination.open()) as library:
        now = open_documents(
            destination.workspace,
            destination.copies,
            destination.places,
            library,
            destination.drive().rules,
        )
    now.sampled, now.seen, now.not_sampled = before.sampled, before.seen, before.not_sampled
    return now


def _documents(crossing: Crossing, opened: list[Opened | None]) -> Iterator[Check]:
    """The result of opening the documents at their new paths."""
    known = [o for o in opened if o is not None]
    if not known:
        return
    first = known[0]

    def figures(of: Callable[[Opened], int]) -> tuple[str, ...]:
        return tuple(tr("away") if o is None else number(of(o)) for o in opened)

    wrong = [w for o in known for w in o.wrong]
    if first.references:
        nowhere = first.lost + first.left_out
        if not wrong and not nowhere and not first.elsewhere:
            verdict = tr("all lead there")
        else:
            verdict = tr("the rest as before")
        parts = [
            (first.lost, tr("lead nowhere, as before")),
            (first.left_out, tr("lead to what was left out")),
            (first.elsewhere, _outside_words(crossing)),
        ]
        detail = ", ".join(f"{number(n)} {words}" for n, words in parts if n)
        well = not wrong and len({(o.references, o.found) for o in known}) == 1
        yield Check(
            tr("References, followed at the new place"),
            number(first.references),
            figures(lambda o: o.found),
            verdict if well else tr("not equal"),
            well,
            detail,
        )
        names = "; ".join([", ".join(wrong[:2]), *why_carried(crossing.copies, wrong)])
        yield Check(
            tr("Lead to other content than before"),
            "",
            figures(lambda o: len(o.wrong)),
            tr("none") if not wrong else tr("wrong"),
            not wrong,
            names,
        )
    said = crossing.places.header.references
    before, closed = said.get("unreadable", 0), said.get("not_understood", 0)
    documents = first.documents + first.closed + closed - before
    if documents:
        well = max(o.closed for o in known) <= before
        if closed:
            detail = trn(
                "{n} document is not understood: balance holds for what could be checked",
                "{n} documents are not understood: balance holds for what could be checked",
                closed,
            )
        else:
            detail = ""
        if not well:
            verdict = tr("not all")
        elif closed:
            verdict = tr("the rest not understood")
        else:
            verdict = tr("all open")
        yield Check(
            tr("Documents, opened there"),
            number(documents),
            figures(lambda o: o.documents),
            verdict,
            well,
            detail,
        )
    if first.sampled:
        short = first.sampled - min(o.seen for o in known)
        words = (
            [tr("{count} of a kind that cannot be shown here", count=number(short))]
            if short
            else []
        )
        if first.not_sampled:
            words.append(tr("for {count} more there was no time", count=number(first.not_sampled)))
        detail = "; ".join(words)
        yield Check(
            tr("One picture or clip of every strand"),
            number(first.sampled),
            figures(lambda o: o.seen),
            tr("decoded") if not short else tr("the rest not shown"),
            True,
            detail,
        )


def _newer(newer: list[bytes], copies: int, one_more: bool) -> Check:
    names = ", ".join(shown(p) for p in newer[:3]) + (" …" if len(newer) > 3 else "")
    figures = number(len(newer)), ("",) * copies
    if newer and one_more:
        verdict = tr("since this copy was made")
        return Check(tr("Newer at home"), *figures, verdict, True, names)
    verdict = tr("to be decided") if newer else tr("none")
    return Check(tr("Newer at the old place"), *figures, verdict, not newer, names)


def _anew_words(destination: Destination) -> str:
    """Says that some documents count with their present content."""
    anew = len(destination.copies.derived())
    return trn("{n} document as rewritten", "{n} documents as rewritten", anew) if anew else ""


def _even(
    name: str,
    originals: list[int],
    copies: list[int | None],
    detail: str = "",
    worked_in: bool = False,
) -> Check:
    """A figure of both sides; if the copy is worked in, only unchanged files count."""
    same = originals == copies
    found = tuple(tr("away") if c is None else number(c) for c in copies)
    if same:
        verdict = tr("equal")
    elif worked_in:
        verdict = tr("as verified")
    else:
        verdict = tr("not equal")
    return Check(name, number(originals[0]), found, verdict, same or worked_in, detail)


def _whole(
    destination: Destination, expected: tuple[int, int], lost: Mapping[bytes, str]
) -> tuple[int, int]:
    """``(files, bytes)`` of a copy that are as they were verified."""
    files, total = expected
    anew = destination.copies.derived()
    for place in lost:
        item = destination.copies.at(place)
        if item and item.kind is Kind.FILE and item.fate is Fate.COPY:
            files -= 1
            total -= anew[item.id][0].size if item.id in anew else (item.seen or (item.size,))[0]
    return files, total


def _contents(crossing: Crossing, expected: list[tuple[int, int]]) -> Check:
    verified = [d.copies.verified() for d in crossing.demanded]
    if crossing.places.header.trusts:
        name = tr("Contents: new ones read back, others as listed")
    elif crossing.proven:
        name = tr("Contents, read back from the drive")
    else:
        name = tr("Contents, read back, perhaps from memory")
    same = verified == expected
    figures = tuple(number(v[0]) for v in verified)
    unproven = [d.label for d in crossing.demanded if not d.copies.proven()]
    detail = tr("on {join}", join=listed(unproven)) if unproven and len(verified) > 1 else ""
    return Check(
        name,
        number(expected[0][0]),
        figures,
        tr("equal") if same else tr("not equal"),
        same,
        detail,
    )
