"""How long a timeline of 20,000 clips (43 MB) takes.

Its references read, against ``json.loads`` of the same bytes; rewritten.

``python benchmarks/documents.py [--clips 20000] [--rounds 5]``
"""

from __future__ import annotations

import argparse
import json
import statistics
import time

from fascis.documents.model import rewrite
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


def main() -> None:
    """Measures and tells."""
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
        references = Otio().read(content)
        read = time.perf_counter()
        rewrite(
            Otio(),
            content,
            {r.locator: f"media/weir_{i:05}.mov" for i, r in enumerate(references)},
            references,
        )
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
