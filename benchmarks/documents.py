"""How long a timeline of 20,000 clips (43 MB) takes.

Its references read, against ``json.loads`` of the same bytes; rewritten.

``python benchmarks/documents.py [--clips 20000] [--rounds 5]``
"""

from __future__ import annotations

import argparse
import io
import json
import statistics
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from fascis.documents.model import Change
from fascis.documents.otio import Otio


def timeline(clips: int) -> bytes:
    """A timeline of so many clips, each with a reference, markers and notes as editors have."""
    notes = {
        f"note {i}": {"x": i * 1.5, "text": "the breach, seen from the north bank", "on": True}
        for i in range(9)
    }
    made = [
        {
            "OTIO_SCHEMA": "Clip.2",
            "metadata": notes,
            "name": f"clip {n}",
            "source_range": {
                "OTIO_SCHEMA": "TimeRange.1",
                "duration": {"OTIO_SCHEMA": "RationalTime.1", "rate": 24.0, "value": 48.0},
                "start_time": {"OTIO_SCHEMA": "RationalTime.1", "rate": 24.0, "value": float(n)},
            },
            "media_references": {
                "DEFAULT_MEDIA": {
                    "OTIO_SCHEMA": "ExternalReference.1",
                    "metadata": {},
                    "target_url": f"file:///home/mara/Footage/Day%2001/weir_{n:05}.mov",
                }
            },
        }
        for n in range(clips)
    ]
    track = {"OTIO_SCHEMA": "Track.1", "children": made}
    tree = {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [track]}}
    return json.dumps(tree, indent=4).encode()


class Content:
    """Bytes as a source."""

    def __init__(self, content: bytes) -> None:
        self.content, self.size = content, len(content)
        self._folder = tempfile.TemporaryDirectory()

    @contextmanager
    def stream(self) -> Iterator[BinaryIO]:
        """The bytes from the first on."""
        yield io.BytesIO(self.content)

    def private_folder(self) -> Path:
        """A folder of its own."""
        return Path(self._folder.name)


def main() -> None:
    """Measures and prints the results."""
    words = argparse.ArgumentParser()
    words.add_argument("--clips", type=int, default=20_000)
    words.add_argument("--rounds", type=int, default=5)
    given = words.parse_args()
    content = timeline(given.clips)
    ratios, rewriting = [], []
    for _ in range(given.rounds):
        begun = time.perf_counter()
        json.loads(content)
        loaded = time.perf_counter()
        with Otio().open(Content(content)) as document:
            references = list(document.references())
            read = time.perf_counter()
            document.retargeted(lambda n, _: Change(f"media/weir_{n:05}.mov"))
        ratios.append((read - loaded) / (loaded - begun))
        rewriting.append(time.perf_counter() - read)
        print(
            f"json {loaded - begun:.2f} s, references {read - loaded:.2f} s, rewritten "
            f"{rewriting[-1]:.2f} s"
        )
    print(
        f"{len(content) / 1e6:.0f} MB, {len(references)} references: "
        f"{statistics.median(ratios):.2f} times json.loads;"
    )
    print(f"rewritten, and read once more to be sure, in {statistics.median(rewriting):.2f} s")


if __name__ == "__main__":
    main()
