"""How thorough the walks are: samples spread over everything by default, all of it when asked.

``FASCIS_STRIDE=1`` walks every crash point and every step; ``FASCIS_MOMENTS``, ``FASCIS_KILLS``,
``FASCIS_WORLDS``, ``FASCIS_LEARNED`` and ``FASCIS_FUZZ`` (seconds) say how many moments of power
loss, kills of the real program, generated worlds, documents of unknown make in twenties, and how
much of each mutation there are.
"""

import os

STRIDE = int(os.environ.get("FASCIS_STRIDE", "30"))
EVERY = STRIDE == 1
MOMENTS = int(os.environ.get("FASCIS_MOMENTS", "4"))
KILLS = int(os.environ.get("FASCIS_KILLS", "3"))
WORLDS = int(os.environ.get("FASCIS_WORLDS", "24"))
LEARNED = int(os.environ.get("FASCIS_LEARNED", "2"))
FUZZ_SECONDS = float(os.environ.get("FASCIS_FUZZ", "0.3"))


def spread(count, most):
    """Points of a walk from its first to its last: every one, or so many of them."""
    return range(0, count, 1 if EVERY else max(1, count // most))
