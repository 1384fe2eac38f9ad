"""A drive in words: what it is, what its file system can hold, what speaks for it and against it.

Pure.
"""

from __future__ import annotations

import time

from fascis.drives.care.character import Character
from fascis.drives.model import Drive
from fascis.drives.rules import LAST_CODE, Fold, Rules
from fascis.words.figures import NBSP, counted, size

_LAST = {0x7F: "z, without accents", 0xFFFF: "those of the basic plane, without pictures"}
_TRANSPORTS = {
    "nvme": "NVMe",
    "usb": "USB",
    "sata": "SATA",
    "sas": "SAS",
    "network": "network",
    "mmc": "card",
}


def transport_words(drive: Drive) -> str:
    """How it is connected: ``USB 10 Gb/s``."""
    name = _TRANSPORTS.get(drive.transport, "")
    if drive.link_mbit >= 1000:
        return f"{name} {drive.link_mbit / 1000:g}{NBSP}Gb/s"
    return f"{name} {drive.link_mbit}{NBSP}Mb/s" if drive.link_mbit else name


def file_system_words(drive: Drive) -> str:
    """The file system as a person knows it."""
    return drive.rules.name if drive.rules.known else drive.filesystem


def built_words(drive: Drive) -> str:
    """Spinning or solid state, as far as the drive itself says so.

    The kernel calls every virtual disk spinning.
    """
    if drive.takes_turns:
        return "spinning disk"
    if drive.transport in ("nvme", "usb", "sata", "sas") and not drive.rotational:
        return "solid state"
    return ""


def speed_words(speed: tuple[float, float, float] | None) -> str:
    """``612 MB/s measured``, of writing."""
    return f"{speed[0]:.0f}{NBSP}MB/s measured" if speed else ""


def state_words(drive: Drive, seen_at: float | None = None) -> str:
    """Why a drive cannot be used now, or nothing."""
    if drive.silent:
        return "does not answer"
    if not drive.mounted:
        return "not mounted"
    if not drive.connected:
        if seen_at:
            return f"last seen {time.strftime('%d %b, %H:%M', time.localtime(seen_at))}"
        return "away"
    return ""


def flags(drive: Drive, character: Character | None = None) -> list[str]:
    """What a person should know before trusting it with anything, the worst first."""
    found = []
    if drive.ambiguous:
        found.append(
            "Shares its identity (UUID) with another drive that is connected, as a cloned disk "
            "does."
        )
    elif drive.twin_of:
        found.append(
            "Another drive with the same identity (UUID) is connected, a clone of it; this is the "
            "one that is known."
        )
    if drive.errors:
        found.append(
            f"The kernel has counted {counted(drive.errors, 'fault')} of its file system. Have it "
            "checked."
        )
    if drive.connected and drive.read_only:
        found.append("It can only be read.")
    if character and character.backup:
        found.append(f"It seems to be a backup disk: {character.backup}.")
    if drive.system or (character and character.system):
        found.append("It is a system disk.")
    if drive.nearly_full:
        found.append(f"It is nearly full: {size(drive.free)} of {size(drive.capacity)} are free.")
    return found


def rules_in_words(rules: Rules) -> list[str]:
    """What a file system can hold, a sentence each."""
    found = []
    if rules.largest_file is not None and rules.largest_file < 1 << 40:
        found.append(f"No file over {size(rules.largest_file)}.")
    found.append(
        f"Names of up to 255{NBSP}{'characters' if rules.utf16_names else 'bytes'}"
        + _names(rules)
        + "."
    )
    if rules.largest_code < LAST_CODE:
        found.append(
            f"Letters only up to {_LAST.get(rules.largest_code, chr(rules.largest_code))}, by the "
            "way it is mounted."
        )
    found.append(
        {
            Fold.NONE: "A.jpg and a.jpg are two files.",
            Fold.UPPER: "A.jpg and a.jpg are one name.",
            Fold.FULL: "A.jpg and a.jpg are one name, and so are two ways to write é.",
        }[rules.folds]
    )
    kept = {
        "links": rules.links,
        "permissions": rules.modes,
        "extended attributes": rules.attributes,
        "holes": rules.holes,
    }
    lost = [name for name, keeps in kept.items() if not keeps]
    found.append(
        "Keeps " + _and([n for n, k in kept.items() if k]) + "." if len(lost) < len(kept) else ""
    )
    if lost:
        found.append(f"Keeps no {_and(lost, 'or')}.")
    found.append(_times(rules))
    return [f for f in found if f]


def _names(rules: Rules) -> str:
    words = []
    if rules.reserved:
        words.append('without any of " * : < > ? \\ |')
    if rules.trailing:
        words.append("not ending in a dot or a space")
    if rules.devices:
        words.append("not aux, con, nul and their like")
    return "; " + ", ".join(words) if words else ""


def _times(rules: Rules) -> str:
    step = rules.granularity_ns
    if step < 10**9:
        return ""
    if rules.earliest and rules.latest:
        years = f", from {_year(rules.earliest)} to {_year(rules.latest)}"
    else:
        years = ""
    return f"Dates in steps of {counted(step // 10**9, 'second')}{years}."


def _year(seconds: int) -> int:
    return time.gmtime(seconds).tm_year


def _and(words: list[str], last: str = "and") -> str:
    return f" {last} ".join(filter(None, (", ".join(words[:-1]), *words[-1:])))


def rules_known_by(drive: Drive) -> str:
    """Where the rules are from: asked, certain, or assumed."""
    if drive.rules.asked:
        return "The drive itself was asked."
    if drive.rules.certain:
        return ""
    if not drive.rules.known:
        return (
            "The file system is not known here; the narrowest rules are assumed until the drive is "
            "asked when a crossing starts."
        )
    return "Assumed by its file system; the drive itself is asked when a crossing starts."
