"""Comparing originals with the hash lists of others, in the same reading that copies them."""

from __future__ import annotations

from dataclasses import dataclass

from fascis.crossing.journal.copies import LISTED_OTHERWISE, Copied, Copies, Item
from fascis.files.digests import Algorithm
from fascis.files.hash_lists import Listed


@dataclass(frozen=True, slots=True)
class Checks:
    """What the lists say of the entries of one crossing.

    Attributes:
        algorithms: what is computed beside BLAKE3 for them.
    """

    copies: Copies
    said: dict[int, list[Listed]]
    algorithms: frozenset[Algorithm]

    @classmethod
    def of(cls, copies: Copies) -> Checks:
        """Those of a journal; nothing is compared where it has none."""
        said = {
            entry: [Listed.from_text(b"", text) for text in texts]
            for entry, texts in copies.journal.listed().items()
        }
        algorithms = (listed.algorithms() for some in said.values() for listed in some)
        return cls(copies, said, frozenset().union(*algorithms))

    def otherwise(self, item: Item, outcome: Copied) -> bool:
        """True when a list says otherwise; from then on the original counts as damaged."""
        said = self.said.get(item.id)
        if not said or outcome.digest is None or outcome.seen is None:
            return False
        digests = {**outcome.others, Algorithm.BLAKE3: outcome.digest}
        if all(listed.holds(digests, outcome.seen[0]) for listed in said):
            return False
        self.copies.journal.record_otherwise(item.id, LISTED_OTHERWISE)
        return True
