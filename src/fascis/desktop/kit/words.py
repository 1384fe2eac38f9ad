"""Texts used by several views."""

from __future__ import annotations

from fascis.library.roles import Role
from fascis.words.speech import tr

ROLE_WORDS = {
    Role.ORIGINAL: tr("Footage, sound, stills"),
    Role.PROXY: tr("Proxies"),
    Role.RENDER: tr("Renders"),
    Role.PREVIEW: tr("Previews"),
    Role.SIDECAR: tr("Sidecars"),
    Role.DOCUMENT: tr("Documents"),
    Role.OTHER: tr("Other files"),
}
