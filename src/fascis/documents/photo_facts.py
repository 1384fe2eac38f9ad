"""Facts stored in a photo.

Dimensions, capture time, rating and keywords, from EXIF (CIPA DC-008) and XMP (ISO 16684-1). For a
clip or a sound its dimensions and its length. Read in a child process with limits, because a file
may come from anybody. The child gets open files one by one over a socket, never a path; if it dies,
the present photo is lost, and another child continues.
"""

from __future__ import annotations

import json
import os
import re
import resource
import socket
import subprocess
import sys
from collections.abc import Iterable, Iterator
from contextlib import suppress
from typing import Any
from xml.parsers import expat

from msgspec import Struct

_MEMORY, _PATIENCE = 2 << 30, 20.0
_LARGEST_SIDECAR = 1 << 22
_XMP = "http://ns.adobe.com/xap/1.0/"
_DC = "http://purl.org/dc/elements/1.1/"
_RDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
_MOST_KEYWORDS = 200


class Facts(Struct, frozen=True):
    """Known facts about a photo or clip; None, or empty, if missing.

    ``captured_at`` is ISO 8601 without a zone.
    """

    width: int | None = None
    height: int | None = None
    captured_at: str | None = None
    rating: int | None = None
    keywords: tuple[str, ...] = ()
    seconds: float | None = None


def facts_of(photos: Iterable[tuple[int, int | None]], clips: bool = False) -> Iterator[Facts]:
    """The facts of each photo, given as handles of the photo and its open sidecar (or None).

    The sidecar counts before the photo. A photo that cannot be read has no facts.

    Args:
        clips: files that are not pictures may be clips or sounds.
    """
    child: _Child | None = None
    try:
        for photo, sidecar in photos:
            child = child or _Child()
            found = child.ask(photo, sidecar, clips)
            if found is None:  # It died, or takes too long.
                child.close()
                child = None
            yield found or Facts()
    finally:
        if child:
            child.close()


class _Child:
    def __init__(self) -> None:
        mine, its = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with its:
            self._process = subprocess.Popen(
                [sys.executable, "-P", "-m", "fascis.documents.photo_facts", str(its.fileno())],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                pass_fds=[its.fileno()],
            )
        self._socket = mine
        self._socket.settimeout(_PATIENCE)

    def ask(self, photo: int, sidecar: int | None, clips: bool) -> Facts | None:
        """The facts, or None if the child does not answer any more."""
        try:
            socket.send_fds(
                self._socket,
                [b"clip" if clips else b"photo"],
                [photo] if sidecar is None else [photo, sidecar],
            )
            answer = self._socket.recv(1 << 16)
        except OSError:
            return None
        return _parse(answer) if answer else None

    def close(self) -> None:
        """Ends it."""
        self._socket.close()
        self._process.kill()
        self._process.wait()


def _parse(answer: bytes) -> Facts:
    said = json.loads(answer)
    return Facts(
        said["width"],
        said["height"],
        said["captured_at"],
        said["rating"],
        tuple(said["keywords"]),
        said["seconds"],
    )


# -- in the child ----------------------------------------------------------------------------------


def _facts(photo: int, sidecar: int | None, clips: bool) -> dict[str, Any]:
    found: dict[str, Any] = dict.fromkeys(
        ("width", "height", "captured_at", "rating", "seconds")
    ) | {"keywords": []}
    packets: list[bytes] = []
    try:
        _from_picture(photo, found, packets)
    except Exception:
        packets.clear()
        if clips:
            with suppress(Exception):
                _from_clip(photo, found)
    if sidecar is not None:
        os.lseek(sidecar, 0, os.SEEK_SET)
        packets.append(os.read(sidecar, _LARGEST_SIDECAR))
    for packet in packets:
        try:
            _from_xmp(packet, found)
        except (expat.ExpatError, ValueError):
            continue
    return found


def _from_picture(photo: int, found: dict[str, Any], packets: list[bytes]) -> None:
    from PIL import Image

    os.lseek(photo, 0, os.SEEK_SET)
    with open(photo, "rb", closefd=False) as file, Image.open(file) as image:
        found["width"], found["height"] = image.size
        exif = image.getexif()
        if exif.get(0x0112) in (5, 6, 7, 8):  # Turned by a quarter.
            found["width"], found["height"] = found["height"], found["width"]
        taken = exif.get_ifd(0x8769).get(0x9003) or exif.get(0x0132)
        found["captured_at"] = _time(str(taken)) if taken else None
        if isinstance(exif.get(0x4746), int):
            found["rating"] = _rating(str(exif.get(0x4746)))
        packet = image.info.get("xmp") or exif.get(0x02BC)
        if isinstance(packet, bytes):
            packets.append(packet)


def _from_clip(clip: int, found: dict[str, Any]) -> None:
    import av

    os.lseek(clip, 0, os.SEEK_SET)
    with open(clip, "rb", closefd=False) as file, av.open(file) as container:
        stream = (container.streams.video or container.streams.audio)[0]
        if stream.type == "video":
            found["width"], found["height"] = (
                stream.codec_context.width,
                stream.codec_context.height,
            )
        if stream.duration is not None and stream.time_base is not None:
            found["seconds"] = float(stream.duration * stream.time_base)
        elif (whole := getattr(container, "duration", None)) is not None:
            found["seconds"] = whole / 1_000_000


def _time(text: str) -> str | None:
    """An EXIF date, ``YYYY:MM:DD HH:MM:SS``, as ISO 8601."""
    match = re.fullmatch(r"(\d{4}):(\d\d):(\d\d) (\d\d:\d\d:\d\d)", text.strip("\0 "))
    return f"{match[1]}-{match[2]}-{match[3]}T{match[4]}" if match else None


def _rating(text: str) -> int | None:
    try:
        value = round(float(text))
    except ValueError:
        return None
    return value if -1 <= value <= 5 else None


def _from_xmp(packet: bytes, found: dict[str, Any]) -> None:
    """Rating and keywords of an XMP packet; document types, and entities with them, are refused."""
    path: list[str] = []
    keywords: list[str] = []
    text: list[str] = []

    def refuse(*_: object) -> None:
        raise ValueError("a document type")

    def start(name: str, attributes: dict[str, str]) -> None:
        path.append(name)
        text.clear()
        if (said := attributes.get(f"{_XMP} Rating")) is not None:
            found["rating"] = _rating(said)

    def end(name: str) -> None:
        words = "".join(text).strip()
        if name == f"{_XMP} Rating" and words:
            found["rating"] = _rating(words)
        if (
            name == f"{_RDF} li"
            and f"{_DC} subject" in path
            and words
            and len(keywords) < _MOST_KEYWORDS
        ):
            keywords.append(words[:200])
        path.pop()
        text.clear()

    parser = expat.ParserCreate(namespace_separator=" ")
    parser.StartDoctypeDeclHandler = refuse
    parser.StartElementHandler = start
    parser.EndElementHandler = end
    parser.CharacterDataHandler = text.append
    parser.Parse(packet.strip(b"\0 \r\n"), True)
    if keywords:
        found["keywords"] = list(dict.fromkeys(keywords))


def main(fd: int) -> None:
    """The child's work: answers for every photo until no more come."""
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with socket.socket(fileno=fd) as asked:
        while True:
            message, handles, _, _ = socket.recv_fds(asked, 16, 2)
            if not message:
                return
            try:
                answer = _facts(
                    handles[0], handles[1] if len(handles) > 1 else None, message == b"clip"
                )
                asked.send(json.dumps(answer).encode()[: 1 << 16])
            finally:
                for handle in handles:
                    os.close(handle)


if __name__ == "__main__":
    main(int(sys.argv[1]))
