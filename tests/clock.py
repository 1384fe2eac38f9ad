"""Tests that watch the clock.

What took too long may have been the machine's moment: such a test, and no other, is run again
(``--only-rerun`` in ``pyproject.toml``). What always takes too long still fails.
"""

from __future__ import annotations

import time


class TookTooLong(AssertionError):
    """More time than allowed."""


def less(seconds: float, most: float, what: str = "this") -> None:
    """Fails unless less than ``most`` seconds were taken."""
    if seconds >= most:
        raise TookTooLong(f"{what} took {seconds:.2f} s, wanted less than {most:g}")


def within(begun: float, most: float, what: str = "this") -> None:
    """Fails unless ``begun``, of the monotonic clock, is less than ``most`` seconds ago."""
    less(time.monotonic() - begun, most, what)


def fast(speed: float, least: float) -> None:
    """Fails unless a measured speed is more than ``least``."""
    if speed <= least:
        raise TookTooLong(f"{speed:.2f}, wanted more than {least:g}")
