"""Pictures and clips are decoded in a child with limits.

One that cannot be, or kills the child, costs nothing but itself.
"""

import io
import wave
from contextlib import ExitStack

import pytest
from PIL import Image

from fascis.library import decoding
from fascis.library.decoding import decode, may_be_media
from tests.library.making import picture, write


def sound():
    out = io.BytesIO()
    with wave.open(out, "wb") as made:
        made.setnchannels(1)
        made.setsampwidth(2)
        made.setframerate(8000)
        made.writeframes(bytes(range(256)) * 100)
    return out.getvalue()


def shown(tmp_path, *contents):
    with ExitStack() as held:
        files = [
            held.enter_context(open(write(tmp_path / f"{i}", c), "rb"))
            for i, c in enumerate(contents)
        ]
        return decode([f.fileno() for f in files], 64)


def test_pictures_and_sound_become_small_pictures(tmp_path):
    for found in shown(tmp_path, picture("JPEG"), picture("PNG"), picture("TIFF"), sound()):
        assert Image.open(io.BytesIO(found)).width <= 64


def test_what_cannot_be_decoded_costs_only_itself(tmp_path):
    found = shown(
        tmp_path,
        picture("JPEG")[:40],
        b"",
        b"no media at all, only words",
        b"\0\0\0\x18ftypmp42" + bytes(400),
        picture("PNG"),
    )
    assert [f is not None for f in found] == [False, False, False, False, True]


def test_a_picture_that_ends_the_child_takes_only_itself(tmp_path, monkeypatch):
    runs = []
    run = decoding._run

    def dying(files, width, at, most):
        runs.append(len(files))
        if len(runs) == 1:
            return [*run(files[:1], width, at, most), None]  # the child died at the second
        return run(files, width, at, most)

    monkeypatch.setattr(decoding, "_run", dying)
    found = shown(tmp_path, picture("JPEG"), picture("PNG"), picture("TIFF"))
    assert [f is not None for f in found] == [True, False, True] and runs == [3, 1]


def test_a_child_that_thinks_for_ever_is_ended(tmp_path, monkeypatch):
    monkeypatch.setattr(decoding, "SECONDS", 0.0001)
    assert shown(tmp_path, picture("JPEG")) == [None]


def test_a_bomb_of_a_picture_stays_within_its_limits(tmp_path):
    bomb = bytearray(picture("BMP"))
    bomb[18:26] = (60_000).to_bytes(4, "little") * 2
    assert shown(tmp_path, bytes(bomb)) == [None]


@pytest.mark.parametrize("head", [b"random words abc", b"x" * 16, b"", b"\0" * 16])
def test_first_bytes_that_are_of_no_media(head):
    assert not may_be_media(head)
