"""The mark: strands flowing through a loop of twine."""

from __future__ import annotations

from importlib import resources

from PyQt6.QtGui import QIcon, QPixmap


def mark_icon() -> QIcon:
    """The mark as an icon, drawn from its SVG at several sizes."""
    raw = resources.files("fascis.desktop").joinpath("pictures/org.fascis.Fascis.svg").read_bytes()
    icon = QIcon()
    for side in (22, 28, 48, 128):
        pixmap = QPixmap()
        pixmap.loadFromData(_sized(raw, side), "SVG")
        icon.addPixmap(pixmap)
    return icon


def _sized(raw: bytes, side: int) -> bytes:
    return raw.replace(b'width="128" height="128"', f'width="{side}" height="{side}"'.encode())
