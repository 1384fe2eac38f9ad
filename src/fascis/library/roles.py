"""The purpose of a file: from folder names, patterns of the identity file, and its type."""

from __future__ import annotations

import fnmatch
from collections.abc import Mapping
from enum import StrEnum

from fascis.documents.registry import database_of, is_companion, kind_named
from fascis.words.speech import tr


class Role(StrEnum):
    """The purpose of a file. Proxies, renders and previews can be made again."""

    ORIGINAL = "original"
    PROXY = "proxy"
    RENDER = "render"
    PREVIEW = "preview"
    SIDECAR = "sidecar"
    DOCUMENT = "document"
    OTHER = "other"

    @property
    def remakeable(self) -> bool:
        """True if such files could be made again from others."""
        return self in (Role.PROXY, Role.RENDER, Role.PREVIEW)

    @property
    def words(self) -> str:
        """The name of such files, within a sentence."""
        return _WORDS[self]


ROLES = tuple(Role)
_WORDS = {
    Role.ORIGINAL: tr("footage, sound and stills"),
    Role.PROXY: tr("proxies"),
    Role.RENDER: tr("renders"),
    Role.PREVIEW: tr("previews"),
    Role.SIDECAR: tr("sidecars"),
    Role.DOCUMENT: tr("documents"),
    Role.OTHER: tr("other files"),
}
_FOLDERS = {b"proxies": Role.PROXY, b"renders": Role.RENDER, b"previews": Role.PREVIEW}
# for programs
_PICTURES = (
    "jpg jpeg tif tiff png heic heif avif webp gif bmp dng cr2 cr3 nef arw "
    "raf orf rw2 pef srw exr dpx psd jxl"
)
_SOUND = "wav flac mp3 m4a aac aif aiff ogg opus bwf"  # for programs
_FILMS = "mov mp4 m4v avi mkv mxf webm mpg mpeg mts m2ts r3d braw insv 3gp wmv"  # for programs
FILMS = frozenset(e.encode() for e in _FILMS.split())
SOUND = frozenset(e.encode() for e in _SOUND.split())
STILLS = frozenset(e.encode() for e in _PICTURES.split())
MEDIA = frozenset(e.encode() for e in f"{_PICTURES} {_SOUND} {_FILMS}".split())
DATABASES = frozenset((b"sqlite", b"sqlite3", b"db", b"db3"))  # Of unknown make.


def is_media(name: bytes) -> bool:
    """True for the name of a picture, sound or film.

    Only such files can be proxies, renders or previews that are made again.
    """
    return b"." in name and name.rpartition(b".")[2].lower() in MEDIA


def is_worked_in(place: bytes) -> bool:
    """True for documents, databases and their journals.

    Files that contain a person's work, as opposed to files they refer to.
    """
    name = place.rpartition(b"/")[2]
    extension = name.rpartition(b".")[2].lower() if b"." in name else b""
    known = kind_named(name) is not None or database_of(name) is not None
    return known or extension in DATABASES


class RoleRule:
    """Decides the roles of a library's files.

    Patterns of folders in an identity file decide first; then a folder named proxies, renders or
    previews (in any case) decides for everything in it. A word within a file's name never does.
    """

    def __init__(self, patterns: Mapping[str, str] | None = None) -> None:
        self._patterns = [(k, Role(v)) for k, v in (patterns or {}).items()]

    def of_folder(self, folder: bytes) -> Role | None:
        """The role that a folder gives to everything in it, or None."""
        if self._patterns:
            text = folder.decode("utf-8", "surrogateescape")
            for pattern, role in self._patterns:
                if fnmatch.fnmatchcase(text, pattern) or fnmatch.fnmatchcase(text, pattern + "/*"):
                    return role
        for part in folder.split(b"/"):
            if by_name := _FOLDERS.get(part.lower()):
                return by_name
        return None

    def of_name(self, name: bytes) -> Role:
        """The role that the type of a file gives."""
        extension = name.rpartition(b".")[2].lower() if b"." in name else b""
        if extension in MEDIA:
            return Role.ORIGINAL
        if is_companion(name):
            return Role.SIDECAR
        return Role.OTHER if kind_named(name) is None else Role.DOCUMENT
