"""``fascis report``."""

import json

from tests.commands.test_commands import fascis


def test_a_report_is_saved_once_and_says_so(bench, tmp_path):
    path = tmp_path / "a report.json"
    status, said, err = fascis(bench, "report", path, "--json")
    assert status == 0 and said["report"] == str(path) and "Nothing was sent" in err
    told = json.loads(path.read_text())
    assert told["format"] == 1 and told["names"] is True
    assert any(r["where"] == "commands.app" for r in told["log"])
    status, said, err = fascis(bench, "report", path, "--json")
    assert status != 0 and json.loads(path.read_text()) == told


def test_without_names_the_words_of_the_command_are_not_in_it(bench, tmp_path):
    path = tmp_path / "heron.json"
    status, said, _ = fascis(bench, "report", path, "--without-names", "--json")
    assert status == 0 and said["names"] is False
    assert "heron" not in path.read_text()
