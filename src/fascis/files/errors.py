"""The errors of Fascis. Each has the sentence for the person, and the facts as attributes.

Three families: the environment (drive, permission, space), damaged or hostile input, and refusals.
Bugs are not among these: they are ordinary exceptions and become crash reports.
"""

from __future__ import annotations

import errno
from collections.abc import Sequence

from fascis.files.codes import Code
from fascis.files.names import shown
from fascis.words.speech import tr


class FascisError(Exception):
    """The base of all errors shown to a person; ``str()`` is the sentence."""


class EnvironmentTrouble(FascisError):
    """The machine or a drive failed.

    Attributes:
        place: the file concerned, relative to its library or drive, as bytes.
        errno: the kernel's error number, or 0.
    """

    def __init__(self, sentence: str, place: bytes = b"", number: int = 0) -> None:
        super().__init__(sentence)
        self.place = place
        self.errno = number


class DriveFull(EnvironmentTrouble):
    """A write was refused because there is no room."""


class DriveGone(EnvironmentTrouble):
    """The drive no longer answers (unplugged, unmounted, input/output error)."""


class NotPermitted(EnvironmentTrouble):
    """The file or folder cannot be read or written for lack of permission."""


class Unreadable(EnvironmentTrouble):
    """One file's content could not be read; others perhaps can."""


class Damaged(FascisError):
    """A file of Fascis's own is damaged, or of a newer version.

    A journal, an identity, the register, a stand-in.
    """

    def __init__(self, path: object, what: str, meaning: str) -> None:
        self.path = path
        super().__init__(f"{shown(str(path))}: {what}. {meaning}")


class Refused(FascisError):
    """Something was not started; nothing was changed.

    ``code`` is from the closed list in docs/formats.md. ``files`` are the places concerned, at most
    1,000.
    """

    def __init__(self, code: Code, sentence: str, files: Sequence[bytes] = ()) -> None:
        super().__init__(sentence)
        self.code = code
        self.files = tuple(files[:1000])


class Cancelled(FascisError):
    """A person stopped a long task; finished work is kept."""


_GONE = {
    errno.EIO,
    errno.ENODEV,
    errno.ENXIO,
    errno.ESTALE,
    errno.ENOTCONN,
    errno.EROFS,
    errno.ESHUTDOWN,
}
_DENIED = {errno.EACCES, errno.EPERM}
_FULL = {errno.ENOSPC, errno.EDQUOT}


def told(error: OSError, doing: str, place: bytes = b"") -> EnvironmentTrouble:
    """Translates an ``OSError`` by one table. ``doing`` reads as in "could not …"."""
    number = error.errno or 0
    kind: type[EnvironmentTrouble] = EnvironmentTrouble
    meaning = error.strerror or str(error)
    if number in _FULL:
        kind, meaning = DriveFull, tr("the drive is full")
    elif number in _GONE:
        kind = DriveGone
        if number == errno.EROFS:
            meaning = tr("the drive became read-only")
        else:
            meaning = tr("the drive does not answer ({meaning})", meaning=meaning)
    elif number in _DENIED:
        kind, meaning = NotPermitted, tr("it is not permitted")
    name = f" {shown(place)}" if place else ""
    return kind(
        tr("Could not {doing}{name}: {meaning}.", doing=doing, name=name, meaning=meaning),
        place,
        number,
    )
