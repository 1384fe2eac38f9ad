"""Behaviour that did not change: the JSON of every command on made worlds, beside what it was."""

import json

import pytest

from tests.recorded.recording import FOLDER, SEEDS, recorded


@pytest.mark.parametrize("seed", SEEDS)
def test_the_commands_say_what_they_said(tmp_path, seed):
    said = json.loads(json.dumps(recorded(seed, tmp_path)))
    was = json.loads((FOLDER / f"{seed}.json").read_text())
    for now, before in zip(said, was, strict=True):
        assert without_what_is_new(now, before) == before


# Additions of later slices, and their values where nothing of that kind was done.
NEW = {
    "followers": [],
    "led": False,
    "list_mismatch": [],
    "list_missing": [],
    "list_missing_files": 0,
    "trusted": False,
    "verified_at": None,
}


def without_what_is_new(now, before):
    if isinstance(now, dict) and isinstance(before, dict):
        return {
            key: without_what_is_new(value, before.get(key))
            for key, value in now.items()
            if key in before or key not in NEW or value != NEW[key]
        }
    if isinstance(now, list) and isinstance(before, list) and len(now) == len(before):
        return [without_what_is_new(n, b) for n, b in zip(now, before, strict=True)]
    return now
