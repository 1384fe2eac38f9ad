"""Programs of Fascis's own as forks of the test: what importing them again would cost is spared."""

from __future__ import annotations

import importlib
import os
import signal
import sys
import traceback


class Forked:
    """What ``subprocess.Popen`` is for ``python -m MODULE``, with a pipe to it and one from it."""

    def __init__(self, words: list[str], **_pipes: object) -> None:
        ordered, orders = os.pipe()
        said, saying = os.pipe()
        self._pid = os.fork()
        if not self._pid:
            # Its own ends alone: where this test's stay open, nobody sees that the other ended.
            os.close(orders)
            os.close(said)
            _become(words[-1], ordered, saying)
        os.close(ordered)
        os.close(saying)
        self.stdin, self.stdout = open(orders, "wb"), open(said, "rb")

    def kill(self) -> None:
        os.kill(self._pid, signal.SIGKILL)

    def wait(self) -> None:
        os.waitpid(self._pid, 0)


def _become(module: str, ordered: int, saying: int) -> None:
    """Runs a module's ``main``; never returns."""
    try:
        sys.stdin, sys.stdout = open(ordered), open(saying, "w")
        importlib.import_module(module).main()
        sys.stdout.flush()
        os._exit(0)
    except BaseException:
        traceback.print_exc(file=sys.__stderr__)
        os._exit(1)
