"""Visiting every folder below some folders."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import closing

from fascis.files.control import UNSTOPPED, Control
from fascis.files.own.in_order import BATCH
from fascis.library.looking.seeing import REFUSED, SAME, Answer, Eyes, Seen, mount_of
from fascis.library.looking.seers import seers

# Folders of the system, which hold nobody's work.
_SYSTEM = frozenset(
    b"/" + name
    for name in (
        b"bin", b"boot", b"dev", b"etc", b"lib", b"lib32", b"lib64", b"libx32", b"lost+found",
        b"proc", b"root/.cache", b"run", b"sbin", b"snap", b"sys", b"tmp", b"usr", b"var",
    )
)  # fmt: skip


class Walking:
    """Visits every folder below one, parents first.

    No link is followed, and no other mount is entered.

    Args:
        known: the time in ns for which a folder's contents are known; -1 if not.
        remembered: its stored contents; None if they cannot be read any more.

    Attributes:
        files: the number counted so far.
        not_permitted: folders that could not be listed.
    """

    def __init__(
        self,
        known: Callable[[bytes], int] = lambda _path: -1,
        remembered: Callable[[bytes], Seen | None] = lambda _path: None,
        control: Control = UNSTOPPED,
    ) -> None:
        self._known, self._remembered, self._control = known, remembered, control
        self.files = 0
        self.not_permitted: list[bytes] = []

    def below(self, root: bytes) -> Iterator[Seen]:
        """Every folder.

        Raises:
            Cancelled: ``control`` was stopped.
        """
        root = os.path.realpath(root)
        try:
            device, mount = os.stat(root).st_dev, mount_of(root)
        except OSError:
            self.not_permitted.append(root)
            return
        eyes = Eyes(device, mount)
        with closing(seers(eyes, self._control)) as looking:
            pending = deque([root])
            while pending or looking.busy:
                while pending and looking.has_room:
                    some = [pending.popleft() for _ in range(min(len(pending), BATCH))]
                    looking.give([(path, self._known(path)) for path in some])
                for (path, _), answer in looking.take():
                    if (seen := self._seen(eyes, path, answer)) is None:
                        continue
                    self.files += seen.files
                    yield seen
                    above = b"" if path == b"/" else path
                    inner = (above + b"/" + name for name in sorted(seen.folders))
                    pending.extend(one for one in inner if one not in _SYSTEM)

    def _seen(self, eyes: Eyes, path: bytes, answer: Answer) -> Seen | None:
        kind, _, seen = answer
        if kind == SAME:
            seen = self._remembered(path)
            if seen is None:
                kind, _, seen = eyes.see(path, -1)
        if kind == REFUSED:
            self.not_permitted.append(path)
        return seen
