"""Projects: the part of an editing library that is edited together, one or several documents."""

from __future__ import annotations

import os

from fascis.library.references.uses import Document


def project_place(document: Document) -> bytes:
    """The place of a project.

    Its documents' folder if that is at least two levels deep, otherwise the document itself.
    """
    above = document.place.rpartition(b"/")[0]
    return above if b"/" in above else document.place


def project_of(document: Document) -> str:
    """The project to which a document belongs.

    Its folder's name if that is at least two levels deep, otherwise its own without extension.
    """
    place = document.place or document.path
    above, _, name = place.rpartition(b"/")
    if not document.kind.works:
        return os.fsdecode(above.rpartition(b"/")[2])
    if document.place and b"/" in above:
        return os.fsdecode(above.rpartition(b"/")[2])
    return os.fsdecode(name.rpartition(b".")[0] or name)
