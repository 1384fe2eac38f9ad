"""Comparing originals with other hash lists, in the same reading that copies them."""

from __future__ import annotations

from msgspec import Struct

from fascis.crossing.journal.copies import LISTED_OTHERWISE, Copied, Copies, Item
from fascis.files.digests import Algorithm
from fascis.files.hash_lists import Listed


class Checks(Struct, frozen=True):
    """What the lists state about the entries of one crossing.

    Attributes:
        algorithms: digests to compute beside BLAKE3.
    """

    copies: Copies
    said: dict[int, list[Listed]]
    algorithms: frozenset[Algorithm]

    @classmethod
    def of(cls, copies: Copies) -> Checks:
        """The lists of a journal; if it has none, nothing is compared."""
        said = {
            entry: [Listed.from_text(b"", text) for text in texts]
            for entry, texts in copies.journal.listed().items()
        }
        algorithms = (listed.algorithms() for some in said.values() for listed in some)
        return cls(copies, said, frozenset().union(*algorithms))

    def otherwise(self, item: Item, outcome: Copied) -> bool:
        """True if a list differs; from then on the original counts as damaged."""
        said = self.said.get(item.id)
        if not said or outcome.digest is None or outcome.seen is None:
            return False
        digests = {**outcome.others, Algorithm.BLAKE3: outcome.digest}
        if all(listed.holds(digests, outcome.seen[0]) for listed in said):
            return False
        self.copies.journal.record_otherwise(item.id, LISTED_OTHERWISE)
        return True
