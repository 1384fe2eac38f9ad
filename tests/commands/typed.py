"""Types several commands into one program that starts in a language.

``python -m tests.commands.typed`` gets the commands as JSON, a list of words each, and prints each
one's status, output and words. It is a program of its own because sentences take their language
at start.
"""

import io
import json
import os
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

from fascis.commands.app import main

ROOT = Path(__file__).parents[2]


def typed(bench, language, *commands):
    """Status, output and words of each command, typed by a person who speaks the language."""
    said = subprocess.run(
        [sys.executable, "-m", __name__, json.dumps([[str(w) for w in c] for c in commands])],
        cwd=ROOT,
        env={**os.environ, "FASCIS_STAND_INS": str(bench.drives), "LC_ALL": language,
             "COLUMNS": "100"},
        capture_output=True,
        check=True,
    )  # fmt: skip
    return json.loads(said.stdout)


def type_one(words):
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        try:
            main(words)
        except SystemExit as ended:
            return ended.code, out.getvalue(), err.getvalue()
    raise AssertionError("a command ends with a status")


if __name__ == "__main__":
    print(json.dumps([type_one(words) for words in json.loads(sys.argv[1])]))
