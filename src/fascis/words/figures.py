"""Figures, dates and lists by the person's locale.

Sizes are in decimal units, as on drive boxes; number and unit stay on one line. Without a locale
(``C``), numbers have thin groups and times are of 24 hours.
"""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from datetime import datetime
from functools import cache
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from babel import Locale

NBSP = "\u00a0"
_UNITS = ("bytes", "kB", "MB", "GB", "TB", "PB")
# The same in the locales' data.
_NAMES = ("byte", "kilobyte", "megabyte", "gigabyte", "terabyte", "petabyte")
# Names of an unset locale.
_NONE = ("", "C", "POSIX")


@cache
def _locale(category: str) -> Locale | None:
    """The locale of the environment for a category; None if none is set, or it is unknown.

    ``LC_ALL`` comes before the category, and that before ``LANG``.
    """
    names = (os.environ.get(name, "") for name in ("LC_ALL", category, "LANG"))
    name = next(filter(None, names), "").partition(".")[0].partition("@")[0]
    if name in _NONE:
        return None
    # Imported only if a locale is set: otherwise every command would start later.
    from babel import Locale, UnknownLocaleError

    try:
        return Locale.parse(name)
    except (UnknownLocaleError, ValueError):
        return None


def _decimal(value: float, form: str) -> str:
    """A number by a pattern such as ``#,##0.0``."""
    locale = _locale("LC_NUMERIC")
    if locale is not None:
        from babel.numbers import format_decimal

        return format_decimal(value, form, locale)
    places = len(form.partition(".")[2])
    return f"{value:,.{places}f}".replace(",", NBSP)


@cache
def _unit_form(step: int, several: bool) -> str:
    """The locale's form of a size: ``{0} MB``, ``{0} Mo``."""
    plain = f"{{0}} {_UNITS[step]}" if step or several else "{0} byte"
    locale = _locale("LC_NUMERIC")
    if locale is None:
        return plain
    from babel.units import format_unit

    # For bytes the whole word, as on a receipt; 2 and 1 give the plural and singular forms.
    length: Literal["long", "short"] = "short" if step else "long"
    told = format_unit(2 if several else 1, f"digital-{_NAMES[step]}", length, "0", locale=locale)
    return told.replace("2" if several else "1", "{0}").replace("\u202f", " ")


def _with_unit(text: str, step: int, several: bool = True) -> str:
    return _unit_form(step, several).format(text).replace(" ", NBSP)


def exact(count: int) -> str:
    """The exact bytes: ``691 340 bytes``."""
    return _with_unit(number(count), 0, count != 1)


def size(count: int | float) -> str:
    """Bytes as on drive boxes: ``311.3 GB``; three significant figures, four from 100 on."""
    value, unit = float(count), 0
    while abs(value) >= 999.95 and unit < len(_UNITS) - 1:
        value, unit = value / 1000, unit + 1
    if unit == 0:
        return _with_unit(str(int(count)), 0, count != 1)
    text = _decimal(value, "#,##0.0" if value >= 10 else "#,##0.00")
    return _with_unit(text, unit)


def number(count: int) -> str:
    """A count in groups of three: ``4 822``."""
    return _decimal(count, "#,##0")


def percent(fraction: float) -> str:
    """A fraction in whole percent: ``85%``."""
    locale = _locale("LC_NUMERIC")
    if locale is not None:
        from babel.numbers import format_percent

        return format_percent(fraction, "#,##0%" if locale.language == "en" else None, locale)
    return f"{fraction:.0%}"


def duration(seconds: float) -> str:
    """``40 s``, ``12 min``, ``3 h 05 min``."""
    if seconds < 90:
        return f"{max(0, round(seconds))}{NBSP}s"
    minutes = round(seconds / 60)
    if minutes < 60:
        return f"{minutes}{NBSP}min"
    return f"{minutes // 60}{NBSP}h{NBSP}{minutes % 60:02d}{NBSP}min"


def listed(names: Sequence[str], last: Literal["and", "or"] = "and") -> str:
    """``A``, ``A and B``, ``A, B and C``."""
    locale = _locale("LC_MESSAGES")
    if locale is not None:
        from babel.lists import format_list

        return format_list(list(names), "standard" if last == "and" else "or", locale)
    if len(names) < 2:
        return "".join(names)
    return f"{', '.join(names[:-1])} {last} {names[-1]}"


def _local(at: float) -> datetime | None:
    """Local time of seconds since 1970; None for a year that calendars do not have."""
    try:
        return datetime.fromtimestamp(at)
    except (OverflowError, ValueError, OSError, TypeError):
        return None


def _date(at: float, plain: str, date: str, time: str = "") -> str:
    """A local date, a time of day, or both, of seconds since 1970.

    Args:
        plain: a ``strftime`` format, used if no locale is set.
        date: a skeleton of the locale, or empty.
        time: ``short`` or ``medium``, or empty.
    """
    local = _local(at)
    if local is None:
        return f"{at} s since 1970"  # for programs
    locale = _locale("LC_TIME")
    if locale is None:
        return local.strftime(plain)
    from babel.dates import format_skeleton, format_time, get_datetime_format

    day = format_skeleton(date, local, locale=locale) if date else ""
    hour = format_time(local, time, locale=locale) if time else ""
    if not (day and hour):
        return day or hour
    both = str(get_datetime_format("medium", locale))
    return both.replace("{1}", day).replace("{0}", hour).replace("'", "")


def clock(at: float) -> str:
    """A time of day, of seconds since 1970: ``22:14``."""
    return _date(at, "%H:%M", "", "short")


def day(at: float) -> str:
    """A date, of seconds since 1970: ``28 Nov 2026``."""
    return _date(at, "%d %b %Y", "yMMMd")


def month(at: float) -> str:
    """The month of a date, of seconds since 1970: ``Nov 2026``."""
    return _date(at, "%b %Y", "yMMM")


def moment(at: float) -> str:
    """A date with the time of day, of seconds since 1970: ``28 Nov 2026, 22:14``."""
    return _date(at, "%d %b %Y, %H:%M", "yMMMd", "short")


def moment_to_the_second(at: float) -> str:
    """The same to the second, to distinguish two files: ``28 Nov 2026, 22:14:05``."""
    return _date(at, "%d %b %Y, %H:%M:%S", "yMMMd", "medium")


def ready_at(seconds: float) -> str:
    """The time of day in some seconds, with its weekday if that is not today."""
    at = time.time() + seconds
    if time.localtime(at)[:3] == time.localtime()[:3]:
        return clock(at)
    return f"{_date(at, '%a', 'E')}{NBSP}{clock(at)}"
