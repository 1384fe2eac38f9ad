"""Documents that stay and would be updated to the new place, and the changes in each."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from msgspec import Struct, field

from fascis.crossing.scope.kept import Lead, Needed
from fascis.documents.learned.kind import check_agreed
from fascis.documents.model import NotUnderstood
from fascis.documents.registry import LINK, kind_of
from fascis.files.errors import FascisError
from fascis.files.names import shown
from fascis.library.references.reading import PathSource
from fascis.library.references.uses import Document, LostReference
from fascis.relink.acts import check_writable
from fascis.relink.retarget import Retarget
from fascis.words.speech import tr, trn


class Broken(Struct, frozen=True):
    """A document that cannot be updated, a file that it needs, and the reason."""

    told: str
    file: bytes
    why: str


def broken_sentence(broken: Sequence[Broken], below: bytes = b"") -> str:
    """What would break, and why, for at least one document.

    Args:
        below: the library's folder, with a slash at its end, which is left out of paths in the
            sentence.
    """
    first, more = broken[0], len(broken) - 1
    said = tr(
        "{document} uses {file}, and cannot be led to the new place: {why}.",
        document=shown(first.told),
        file=shown(first.file.removeprefix(below)),
        why=first.why.rstrip("."),
    )
    if not more:
        return said
    others = trn("{n} more is like it.", "{n} more are like it.", more)
    return f"{said} {others}"


class Following(Struct):
    """Documents that follow, and documents that would break.

    ``led`` has each document by its absolute path, and the files with new paths.
    """

    retargets: list[Retarget] = field(default_factory=list)
    broken: list[Broken] = field(default_factory=list)
    led: dict[bytes, set[bytes]] = field(default_factory=dict)


def following(
    needed: Needed,
    route: Callable[[bytes], bytes | None],
    goes: Callable[[bytes], bool],
    cache: Path,
) -> Following:
    """Finds documents that stay and lead to copied files. Writes only private copies.

    Args:
        needed: found with its leads.
        route: the new path for an absolute path; None for a file that stays.
        goes: whether a document is moved itself; it then follows nothing.
        cache: a private folder for copies of databases.
    """
    found = Following()
    tried: dict[bytes, set[bytes]] = {}
    for document, leads in sorted(needed.leads.items()):
        if goes(document):
            continue
        told = _told(needed, document, leads)
        changes, why = _changes(leads, route)
        if not changes and not why:
            continue
        files = {f for number in changes for f in leads[number].files}
        tried[document] = files
        if not why:
            try:
                found.retargets.append(_retarget(document, changes, cache))
                found.led[document] = files
                continue
            except (FascisError, NotUnderstood, OSError) as error:
                why = str(error)
        file = min(f for lead in leads.values() for f in lead.files if route(f) is not None)
        found.broken.append(Broken(told, file, why))
    for path, who in sorted(needed.by.items()):
        if route(path) is None:
            continue
        for document, told in who.items():
            if not (document and goes(document)) and path not in tried.get(document, ()):
                found.broken.append(Broken(told, path, tr("how it names it cannot be changed")))
    return found


def _told(needed: Needed, document: bytes, leads: Mapping[int, Lead]) -> str:
    files = (f for lead in leads.values() for f in lead.files)
    return next(
        (t for f in files if (t := needed.by.get(f, {}).get(document))), os.fsdecode(document)
    )


def _changes(
    leads: Mapping[int, Lead], route: Callable[[bytes], bytes | None]
) -> tuple[dict[int, tuple[LostReference, bytes]], str]:
    """The changes in a document, by the number of the reference; or why they are not possible."""
    changes: dict[int, tuple[LostReference, bytes]] = {}
    for number, lead in leads.items():
        new = [route(f) for f in lead.files]
        going = [n for n in new if n is not None]
        if not going:
            continue
        if lead.sequence is None and len(going) < len(new):
            return {}, tr("what it names may be either of two files, of which only one goes")
        if len(going) < len(new) or len({n.rpartition(b"/")[0] for n in going}) > 1:
            return {}, tr("not all pictures of one sequence go to one folder")
        reference = LostReference(0, number, lead.files[0], lead.sequence)
        changes[number] = reference, going[0]
    return changes, ""


def _retarget(
    document: bytes, changes: dict[int, tuple[LostReference, bytes]], cache: Path
) -> Retarget:
    """The changes in a document, if it can be written.

    Raises:
        Refused, NotUnderstood, EnvironmentTrouble: it cannot.
    """
    path = Path(os.fsdecode(document))
    with PathSource(document, cache) as source:
        link = stat.S_ISLNK(os.lstat(document).st_mode)
        kind = LINK if link else kind_of(document, source.head())
        if kind is None:
            raise NotUnderstood(tr("how it names files is not known"))
        with kind.open(source) as opened:
            check_agreed(opened, document)
            seen = opened.seen
    one = Retarget(Document(b"", kind, len(changes), document, seen=seen), path, changes)
    check_writable(one)
    return one
