"""What an arrival on one destination needs, once the destination is opened and proven."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from fascis.crossing.arrival.landing.landing import Landing
from fascis.crossing.journal.copies import Copies
from fascis.crossing.model.seen import Fidelity
from fascis.crossing.places.places import Places
from fascis.files.disk.medium import Medium


class Arriving(Struct, frozen=True):
    """One destination that a library arrives on.

    Attributes:
        medium: the folder that receives the library.
        landing: how it gets to its final path.
        keeps: which properties of a file the destination keeps.
        clock: returns seconds since 1970.
    """

    copies: Copies
    places: Places
    medium: Medium
    landing: Landing
    keeps: Fidelity
    clock: Callable[[], float]
