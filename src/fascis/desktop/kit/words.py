"""Words that several views use."""

from __future__ import annotations

from fascis.library.roles import Role
from fascis.words.speech import tr

ROLE_WORDS = {
    Role.ORIGINAL: tr("Footage, sound, stills"),
    Role.PROXY: "Proxies",
    Role.RENDER: "Renders",
    Role.PREVIEW: "Previews",
    Role.SIDECAR: "Sidecars",
    Role.DOCUMENT: "Documents",
    Role.OTHER: tr("Other files"),
}
