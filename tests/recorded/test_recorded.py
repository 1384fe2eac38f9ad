"""Behaviour that did not change: the JSON of every command on made worlds, beside what it was."""

import json

import pytest

from tests.recorded.recording import FOLDER, SEEDS, recorded


@pytest.mark.parametrize("seed", SEEDS)
def test_the_commands_say_what_they_said(tmp_path, seed):
    said = json.loads(json.dumps(recorded(seed, tmp_path)))
    was = json.loads((FOLDER / f"{seed}.json").read_text())
    for now, before in zip(said, was, strict=True):
        assert now == before
