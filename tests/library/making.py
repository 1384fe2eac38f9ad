"""Small libraries for tests: timelines by hand, files of a few bytes."""

import json


def write(path, content=b"made"):
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content)
    return path


def timeline(*targets):
    """A timeline with one clip for each target."""
    clips = [
        {
            "OTIO_SCHEMA": "Clip.2",
            "name": f"clip {i}",
            "media_references": {"DEFAULT_MEDIA": {"OTIO_SCHEMA": "ExternalReference.1", "target_url": t}},
        }
        for i, t in enumerate(targets)
    ]
    track = {"OTIO_SCHEMA": "Track.1", "children": clips, "kind": "Video"}
    return json.dumps(
        {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [track]}}, ensure_ascii=False
    ).encode()
