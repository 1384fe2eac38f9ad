"""Sidecars, ``.xmp`` (XMP, ISO 16684-1).

Which photo or clip of its folder each belongs to, by name. Two ways of naming are in use:
``a.ext.xmp`` belongs to ``a.ext``; ``a.xmp`` to a file named ``a`` with another extension.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from fascis.documents.model import NobodysWork, NotUnderstood, OpenDocument, Source
from fascis.documents.targets import Target
from fascis.files.names import name_key
from fascis.words.speech import tr

_END = b".xmp"


class Sidecar(NobodysWork):
    """A sidecar refers to the files of its name beside it, and to nothing else.

    It is never rewritten: it moves with them, under their name.
    """

    name = "sidecar"
    extensions = frozenset(("xmp",))
    companion = True

    def recognises(self, head: bytes) -> bool:
        """Never: only its name shows what it belongs to."""
        return False

    def open(self, source: Source) -> OpenDocument:
        """It is not read for references."""
        raise NotUnderstood(tr("A sidecar refers to what lies beside it, by its name."))

    def readings(self, as_written: str) -> list[Target]:
        """None: it contains no path."""
        return []

    def spellings(self, target: str) -> Iterator[str]:
        """None: it contains no path."""
        return iter(())

    def owners(self, names: Collection[bytes]) -> dict[bytes, list[bytes]]:
        """The sidecars among the names in one folder, and whose each is."""
        return owners(names)


def owners(names: Iterable[bytes]) -> dict[bytes, list[bytes]]:
    """The sidecars among the names in one folder, and whose each is; nobody's for an orphan.

    A photo and a clip of the same name, or a raw picture beside its developed one, share ``a.xmp``.
    Case and the form of accents do not count, unless a name matches exactly.
    """
    all_names = list(names)
    exact = set(all_names)
    by_name: dict[str, list[bytes]] = {}
    by_stem: dict[str, list[bytes]] = {}
    for name in all_names:
        if not is_sidecar(name):
            by_name.setdefault(name_key(name), []).append(name)
            by_stem.setdefault(name_key(name.rpartition(b".")[0] or name), []).append(name)
    found = {}
    for name in all_names:
        if is_sidecar(name):
            stem = name[: -len(_END)]
            if stem in exact and not is_sidecar(stem):
                found[name] = [stem]
            else:
                found[name] = by_name.get(name_key(stem)) or by_stem.get(name_key(stem), [])
    return found


def is_sidecar(name: bytes) -> bool:
    """True for the name, or path, of a sidecar."""
    return name[-len(_END) :].lower() == _END and len(name) > len(_END)
