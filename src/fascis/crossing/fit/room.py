"""How much room deleting frees.

One way of counting for the plan, the list and the release. A file with several names (hard links)
frees its room only if all of them are deleted.
"""

from __future__ import annotations

from msgspec import Struct, field


class Freeing(Struct):
    """Files to be deleted: their number, length, and the room they free, in bytes."""

    files: int = 0
    bytes: int = 0
    _single: int = 0
    _several: dict[tuple[int, int], list[int]] = field(default_factory=dict)

    def add(self, size: int, allocated: int, inode: tuple[int, int], links: int) -> None:
        """Counts one name of a file.

        Args:
            inode: its device and inode.
            links: how many names it has.
        """
        self.files += 1
        self.bytes += size
        self.take(allocated, inode, links)

    def take(self, allocated: int, inode: tuple[int, int], links: int) -> None:
        """Counts only the room: for Fascis's own records, which are not counted as files."""
        if links <= 1:
            self._single += allocated
            return
        known = self._several.setdefault(inode, [0, links, allocated])
        known[0] += 1

    @property
    def room(self) -> int:
        """The room that is freed."""
        return self._single + sum(
            allocated for names, links, allocated in self._several.values() if names >= links
        )
