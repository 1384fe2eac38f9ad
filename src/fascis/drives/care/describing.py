"""A drive in words: what it is, what its file system can store, and what to know about it.

Pure.
"""

from __future__ import annotations

import time

from fascis.drives.care.character import Character
from fascis.drives.model import Drive
from fascis.drives.rules import LAST_CODE, Fold, Rules
from fascis.words.figures import NBSP, listed, moment, size
from fascis.words.speech import tr, trn

_LAST = {0x7F: tr("z, without accents"), 0xFFFF: tr("those of the basic plane, without pictures")}
_TRANSPORTS = {
    "nvme": "NVMe",
    "usb": "USB",
    "sata": "SATA",
    "sas": "SAS",
    "network": tr("network"),
    "mmc": tr("card"),
}


def transport_words(drive: Drive) -> str:
    """Its connection: ``USB 10 Gb/s``."""
    name = _TRANSPORTS.get(drive.transport, "")
    if drive.link_mbit >= 1000:
        return tr(
            "{name} {link_mbit}{nbsp}Gb/s",
            name=name,
            link_mbit=f"{drive.link_mbit / 1000:g}",
            nbsp=NBSP,
        )
    return (
        tr("{name} {link_mbit}{nbsp}Mb/s", name=name, link_mbit=drive.link_mbit, nbsp=NBSP)
        if drive.link_mbit
        else name
    )


def file_system_words(drive: Drive) -> str:
    """The name of the file system for people."""
    return drive.rules.name if drive.rules.known else drive.filesystem


def built_words(drive: Drive) -> str:
    """Rotating or solid state, if the drive itself reports it.

    The kernel calls every virtual disk rotating.
    """
    if drive.takes_turns:
        return tr("spinning disk")
    if drive.transport in ("nvme", "usb", "sata", "sas") and not drive.rotational:
        return tr("solid state")
    return ""


def speed_words(speed: tuple[float, float, float] | None) -> str:
    """``612 MB/s measured``, for writing."""
    return tr("{speed}{nbsp}MB/s measured", speed=f"{speed[0]:.0f}", nbsp=NBSP) if speed else ""


def state_words(drive: Drive, seen_at: float | None = None) -> str:
    """Why a drive cannot be used now, or empty."""
    if drive.silent:
        return tr("does not answer")
    if not drive.mounted:
        return tr("not mounted")
    if not drive.connected:
        if seen_at:
            return tr("last seen {when}", when=moment(seen_at))
        return tr("away")
    return ""


def flags(drive: Drive, character: Character | None = None) -> list[str]:
    """What a person should know before using it, the worst first."""
    found = []
    if drive.ambiguous:
        found.append(
            tr(
                "Shares its identity (UUID) with another drive that is connected, as a "
                "cloned disk does."
            )
        )
    elif drive.twin_of:
        found.append(
            tr(
                "Another drive with the same identity (UUID) is connected, a clone of "
                "it; this is the one that is known."
            )
        )
    if drive.errors:
        found.append(
            trn(
                "The kernel has counted {n} fault of its file system. Have it checked.",
                "The kernel has counted {n} faults of its file system. Have it checked.",
                drive.errors,
            )
        )
    if drive.connected and drive.read_only:
        found.append(tr("It can only be read."))
    if character and character.backup:
        found.append(tr("It seems to be a backup disk: {backup}.", backup=character.backup))
    if drive.system or (character and character.system):
        found.append(tr("It is a system disk."))
    if drive.nearly_full:
        found.append(
            tr(
                "It is nearly full: {size} of {size_2} are free.",
                size=size(drive.free),
                size_2=size(drive.capacity),
            )
        )
    return found


def rules_in_words(rules: Rules) -> list[str]:
    """What a file system can store, one sentence each."""
    found = []
    if rules.largest_file is not None and rules.largest_file < 1 << 40:
        found.append(tr("No file over {size}.", size=size(rules.largest_file)))
    found.append(_names(rules))
    if rules.largest_code < LAST_CODE:
        found.append(
            tr(
                "Letters only up to {get}, by the way it is mounted.",
                get=_LAST.get(rules.largest_code, chr(rules.largest_code)),
            )
        )
    found.append(
        {
            Fold.NONE: tr("A.jpg and a.jpg are two files."),
            Fold.UPPER: tr("A.jpg and a.jpg are one name."),
            Fold.FULL: tr("A.jpg and a.jpg are one name, and so are two ways to write é."),
        }[rules.folds]
    )
    kept = {
        tr("links"): rules.links,
        tr("permissions"): rules.modes,
        tr("extended attributes"): rules.attributes,
        tr("holes"): rules.holes,
    }
    lost = [name for name, keeps in kept.items() if not keeps]
    found.append(
        tr("Keeps {these}.", these=listed([n for n, k in kept.items() if k]))
        if len(lost) < len(kept)
        else ""
    )
    if lost:
        found.append(tr("Keeps no {these}.", these=listed(lost, "or")))
    found.append(_times(rules))
    return [f for f in found if f]


def _names(rules: Rules) -> str:
    words = []
    if rules.reserved:
        words.append(tr("without any of {characters}", characters='" * : < > ? \\ |'))
    if rules.trailing:
        words.append(tr("not ending in a dot or a space"))
    if rules.devices:
        words.append(tr("not aux, con, nul and their like"))
    if rules.utf16_names:
        most = trn("{n} character", "{n} characters", 255)
    else:
        most = trn("{n} byte", "{n} bytes", 255)
    if not words:
        return tr("Names of up to {most}.", most=most)
    return tr("Names of up to {most}; {limits}.", most=most, limits=", ".join(words))


def _times(rules: Rules) -> str:
    step = rules.granularity_ns
    if step < 10**9:
        return ""
    if rules.earliest and rules.latest:
        return trn(
            "Dates in steps of {n} second, from {first} to {last}.",
            "Dates in steps of {n} seconds, from {first} to {last}.",
            step // 10**9,
            first=_year(rules.earliest),
            last=_year(rules.latest),
        )
    return trn("Dates in steps of {n} second.", "Dates in steps of {n} seconds.", step // 10**9)


def _year(seconds: int) -> int:
    return time.gmtime(seconds).tm_year


def rules_known_by(drive: Drive) -> str:
    """Where the rules come from: tested, certain, or assumed."""
    if drive.rules.asked:
        return tr("The drive was tested.")
    if drive.rules.certain:
        return ""
    if not drive.rules.known:
        return tr(
            "The file system is not known here; the strictest rules are assumed "
            "until the drive is tested when a crossing starts."
        )
    return tr("Assumed by its file system; the drive is tested when a crossing starts.")
