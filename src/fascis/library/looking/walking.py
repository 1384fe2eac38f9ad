"""Seeing every folder below some."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import closing

from fascis.files.control import UNSTOPPED, Control
from fascis.library.looking.seeing import REFUSED, SAME, Answer, Seen, mount_of
from fascis.library.looking.seers import BATCH, Seers

# Folders of the system: they hold nobody's work.
_SYSTEM = frozenset(
    b"/" + name
    for name in (
        b"bin", b"boot", b"dev", b"etc", b"lib", b"lib32", b"lib64", b"libx32", b"lost+found",
        b"proc", b"root/.cache", b"run", b"sbin", b"snap", b"sys", b"tmp", b"usr", b"var",
    )
)  # fmt: skip


class Walking:
    """Sees every folder below one, parents before what lies in them.

    No link is followed, and nothing that is mounted below is entered.

    Args:
        known: the time in ns for which it is known what lies in a folder; -1 where it is not.
        remembered: what lay in such a folder then; None where that cannot be told any more.

    Attributes:
        files: how many were counted so far.
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
        with closing(Seers(device, mount, self._control)) as seers:
            pending = deque([root])
            while pending or seers.busy:
                while pending and seers.has_room:
                    some = [pending.popleft() for _ in range(min(len(pending), BATCH))]
                    seers.give([(path, self._known(path)) for path in some])
                for path, answer in seers.take():
                    if (seen := self._seen(seers, path, answer)) is None:
                        continue
                    self.files += seen.files
                    yield seen
                    above = b"" if path == b"/" else path
                    inner = (above + b"/" + name for name in sorted(seen.folders))
                    pending.extend(one for one in inner if one not in _SYSTEM)

    def _seen(self, seers: Seers, path: bytes, answer: Answer) -> Seen | None:
        kind, _, seen = answer
        if kind == SAME:
            seen = self._remembered(path)
            if seen is None:
                kind, _, seen = seers.eyes.see(path, -1)
        if kind == REFUSED:
            self.not_permitted.append(path)
        return seen
