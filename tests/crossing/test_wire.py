"""What parent and helper say to each other comes whole, or is told as an end."""

import socket

import pytest

from fascis.crossing.copying import wire


@pytest.fixture
def ends():
    one, other = socket.socketpair()
    with one, other, one.makefile("wb") as sending, other.makefile("rb") as receiving:
        yield one, sending, receiving


def test_values_come_one_after_the_other_as_they_were_sent(ends):
    _, sending, receiving = ends
    values = [("copy", b"root", [(1, b"\xff", None, 2**62)] * 300), ("rows", []), ()]
    for value in values:
        wire.send(sending, value)
    assert [wire.receive(receiving) for _ in values] == values


@pytest.mark.parametrize("cut", [0, 2, 9])
def test_an_end_between_two_values_or_within_one_is_an_end(ends, cut):
    one, sending, receiving = ends
    wire.send(sending, ("rows", [(1, 2, 3)]))
    assert wire.receive(receiving) == ("rows", [(1, 2, 3)])
    one.sendall((20).to_bytes(4, "little") + bytes(5) if cut == 9 else bytes(cut))
    one.shutdown(socket.SHUT_WR)
    with pytest.raises(EOFError):
        wire.receive(receiving)
