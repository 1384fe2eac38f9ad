"""Counts operations in the window's thread that may have to wait.

SQLite, files, folders, programs.

Real calls are counted, wherever in the core they are made; those that a test makes itself are not.
"""

import builtins
import io
import os
import sqlite3
import subprocess
import sys
import threading
from pathlib import Path

import fascis.desktop

_DESKTOP = str(Path(fascis.desktop.__file__).parent)
_CALLS = [
    "access",
    "chmod",
    "close",
    "fdatasync",
    "fsync",
    "fstat",
    "fstatvfs",
    "getxattr",
    "link",
    "listdir",
    "listxattr",
    "lstat",
    "mkdir",
    "open",
    "read",
    "readlink",
    "readv",
    "rename",
    "replace",
    "rmdir",
    "scandir",
    "stat",
    "statvfs",
    "symlink",
    "truncate",
    "unlink",
    "utime",
    "write",
]
_STATEMENTS = ["execute", "executemany", "executescript", "commit", "rollback", "cursor"]


class Touches(list):
    """The operations, each with the lines of window and core that led to it."""

    def note(self, what):
        """Notes a call, if it is made in this thread and on behalf of the window."""
        if threading.current_thread() is not threading.main_thread():
            return
        frame, lines = sys._getframe(2), []
        while frame:
            name = frame.f_code.co_filename
            if "importlib" in name or name.endswith(("linecache.py", "traceback.py")):
                return
            if f"{os.sep}fascis{os.sep}" in name and f"{os.sep}tests{os.sep}" not in name:
                lines.append(f"{name.partition('fascis' + os.sep)[2]}:{frame.f_lineno}")
            if name.startswith(_DESKTOP):
                self.append((what, tuple(lines[:6])))
                return
            frame = frame.f_back


def count_touches(monkeypatch):
    """Wraps everything that may wait; returns the list that fills."""
    touches = Touches()

    def wrapped(real, name):
        def call(*arguments, **more):
            touches.note(name)
            return real(*arguments, **more)

        return call

    for name in _CALLS:
        monkeypatch.setattr(os, name, wrapped(getattr(os, name), f"os.{name}"))
    for owner in (builtins, io):
        monkeypatch.setattr(owner, "open", wrapped(open, "open"))
    monkeypatch.setattr(subprocess, "Popen", _noted(subprocess.Popen, touches))
    connect = sqlite3.connect

    class Counting(sqlite3.Connection):
        """A connection that reports every statement."""

    for name in _STATEMENTS:
        setattr(Counting, name, _method(getattr(sqlite3.Connection, name), name, touches))

    def connected(*arguments, **more):
        touches.note("sqlite3.connect")
        more.setdefault("factory", Counting)
        return connect(*arguments, **more)

    monkeypatch.setattr(sqlite3, "connect", connected)
    return touches


def _method(real, name, touches):
    def call(self, *arguments, **more):
        touches.note(f"sqlite3 {name} {arguments[0][:60] if arguments else ''}")
        return real(self, *arguments, **more)

    return call


def _noted(real, touches):
    class Popen(real):
        """A program that is started."""

        def __init__(self, *arguments, **more):
            touches.note("program")
            super().__init__(*arguments, **more)

    return Popen
