"""Figures in words: decimal units, number and unit never broken apart."""

from __future__ import annotations

NBSP = "\u00a0"
_UNITS = ("bytes", "kB", "MB", "GB", "TB", "PB")


def size(count: int | float) -> str:
    """Bytes as on drive boxes: ``311.3 GB``; three significant figures, four from 100 on."""
    value, unit = float(count), 0
    while abs(value) >= 999.95 and unit < len(_UNITS) - 1:
        value, unit = value / 1000, unit + 1
    if unit == 0:
        return f"{int(count)}{NBSP}{'byte' if count == 1 else 'bytes'}"
    text = f"{value:.1f}" if value >= 10 else f"{value:.2f}"
    return f"{text}{NBSP}{_UNITS[unit]}"


def number(count: int) -> str:
    """A count with thin groups: ``4 822``."""
    return f"{count:,}".replace(",", NBSP)


def counted(count: int, one: str, many: str | None = None) -> str:
    """``1 file``, ``4 822 files``."""
    return f"{number(count)}{NBSP}{one if count == 1 else many or one + 's'}"


def duration(seconds: float) -> str:
    """``40 s``, ``12 min``, ``3 h 05 min``."""
    if seconds < 90:
        return f"{max(0, round(seconds))}{NBSP}s"
    minutes = round(seconds / 60)
    if minutes < 60:
        return f"{minutes}{NBSP}min"
    return f"{minutes // 60}{NBSP}h{NBSP}{minutes % 60:02d}{NBSP}min"
