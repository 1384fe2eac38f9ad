"""Worlds.

Libraries, projects, catalogs, loose media and unknown documents that refer to each other; and what
a person does to them.
"""

from __future__ import annotations

import json
import os
from pathlib import Path
from urllib.parse import quote

from tests.conftest import Bench
from tests.library.making import catalog_at, write

NAMES = (
    "weir.mov", "take one.mov", "take%20one.mov", "take+one.mov", "Weir.mov", "salmon.wav",
    "heron.jpg", "héron.jpg", "he\u0301ron.jpg",
    "100%.mov", "a#b.mov", "crest?.mov",
)  # fmt: skip
FOLDERS = ("media", "media/Day 01", "media/Day%2001", "stills", "sound")


class World:
    """One world, from a random source: the same seed gives the same world."""

    def __init__(self, root, random):
        self.random = random
        self.bench = Bench(root)
        self.inside = self.bench.drives / "inside"
        self.bench.add_drive("heron", random.choice(("ext4", "ext4", "exfat")))
        self.bench.add_drive("otter")
        self.bench.again()
        self.mounts = {
            f"uuid-{n}": str(self.bench.drives / n) for n in ("inside", "heron", "otter")
        }
        self.library = self.bench.library
        self.media = []
        self._made = 0
        self._fill()

    def _content(self):
        self._made += 1
        return f"content {self._made} ".encode() * self.random.randint(1, 600)

    def _media(self, folder, count):
        for name in self.random.sample(NAMES, count):
            path = folder / name
            if not path.exists():
                twin = self.media and self.random.random() < 0.1
                content = self.random.choice(self.media).read_bytes() if twin else self._content()
                self.media.append(write(path, content))

    def _fill(self):
        r, lib = self.random, self.library
        self._media(lib / "media", 2)
        for folder in r.sample(FOLDERS, r.randint(1, 3)):
            self._media(lib / folder, r.randint(1, 4))
        if r.random() < 0.5:
            self._media(self.inside / "Loose", r.randint(1, 3))
        if r.random() < 0.4:
            self._media(self.bench.drives / "otter/Footage", r.randint(1, 3))
        if r.random() < 0.4:
            self._media(lib / "proxies", r.randint(1, 2))
        if r.random() < 0.3:
            jpg = next((m for m in self.media if m.suffix == ".jpg" and lib in m.parents), None)
            if jpg:
                write(jpg.with_suffix(".xmp"), b"<x/>")
        if r.random() < 0.3:
            first = r.choice(self.media)
            if self.inside in first.parents and not (lib / "second name.mov").exists():
                os.link(first, lib / "second name.mov")
        for n in range(r.randint(1, 3)):
            where = r.choice((f"projects/P{n}", f"projects/P{n}", ""))
            self._document(lib / where / f"cut {n}{r.choice(('.otio', '.m3u8', '.xspf', '.edl'))}")
            if r.random() < 0.4 and where:
                self.media.append(write(lib / where / "own.mov", self._content()))
        if r.random() < 0.3:
            self._document(self.inside / "Beside" / f"other{r.choice(('.otio', '.m3u8', '.xspf'))}")
        if r.random() < 0.3:
            self._document(self.inside / "Second" / "second.otio")
        if r.random() < 0.25:
            self._catalog(r.choice((lib, self.inside)) / "Bell.fascat")
        if r.random() < 0.2:
            named = r.choice(self.media)
            write(
                lib / "project.thing",
                json.dumps({"folder": str(named.parent), "clip": named.name}).encode(),
            )
        if r.random() < 0.2:
            link = lib / "latest.mov"
            link.symlink_to(os.path.relpath(r.choice(self.media), lib))

    def _document(self, path):
        """A document with some references, written in various ways; some lead nowhere."""
        path.parent.mkdir(parents=True, exist_ok=True)
        chosen = [self.random.choice(self.media) for _ in range(self.random.randint(1, 4))]
        texts = [self._said(path, m, path.suffix == ".xspf") for m in chosen]
        if self.random.random() < 0.3:
            texts.append(
                self.random.choice(
                    (
                        "gone.mov",
                        "media/gone%20too.mov",
                        str(self.library / "media/lost.mov"),
                        "weir.MOV",
                    )
                )
            )
        path.write_bytes(document(path.suffix, texts))

    def _said(self, document, media, uri):
        r = self.random
        relative = os.path.relpath(media, document.parent)
        encoded = quote(relative)
        if uri:
            return r.choice((encoded, "file://" + quote(str(media))))
        ways = [relative, str(media), encoded, "file://" + quote(str(media))]
        if document.suffix == ".m3u8" and relative.startswith("#"):
            ways.remove(relative)
        return r.choice(ways)

    def _catalog(self, path):
        jpgs = [m for m in self.media if m.suffix == ".jpg" and self.inside in m.parents]
        if not jpgs:
            return
        folders = sorted({m.parent for m in jpgs})
        catalog_at(
            path,
            [("uuid-inside", str(self.library.relative_to(self.inside))), ("uuid-inside", "")],
            [
                (n, 1, str(f.relative_to(self.library)))
                if self.library in f.parents
                else (n, 2, str(f.relative_to(self.inside)))
                for n, f in enumerate(folders, 1)
            ],
            [(folders.index(m.parent) + 1, m.name) for m in jpgs],
        )


def document(suffix, targets):
    """The bytes of a document with some targets."""
    if suffix == ".otio":
        clips = [
            {
                "OTIO_SCHEMA": "Clip.2",
                "media_reference": {"OTIO_SCHEMA": "ExternalReference.1", "target_url": t},
            }
            for t in targets
        ]
        return json.dumps(
            {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": clips}}
        ).encode()
    if suffix == ".m3u8":
        return "".join(f"#EXTINF:1,\n{t}\n" for t in targets).encode()
    if suffix == ".edl":
        events = (
            f"{n:03}  AX       V     C        00:00:00:00 00:00:01:00 00:00:00:00 00:00:01:00\n* "
            f"SOURCE FILE: {t}\n"
            for n, t in enumerate(targets, 1)
        )
        return ("TITLE: cut\n" + "".join(events)).encode()
    tracks = "".join(
        f"<track><location>{t.replace('&', '&amp;')}</location></track>" for t in targets
    )
    return (
        '<playlist xmlns="http://xspf.org/ns/0/" '
        f'version="1"><trackList>{tracks}</trackList></playlist>'
    ).encode()


def copy_of(path, library, target):
    """Where the copy of a library's file would be, called as it is here."""
    return Path(target) / path.relative_to(library)
