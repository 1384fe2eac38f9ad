"""Documents in memory, for the tests of their kinds."""

import io
import os
import shutil
import tempfile
import weakref
from contextlib import contextmanager
from pathlib import Path

from fascis.documents.model import Change
from fascis.documents.registry import kinds
from fascis.documents.text import TextKind

TEXTS = [kind for kind in kinds() if isinstance(kind, TextKind)]


class InMemory:
    """A source whose content is given; its private folder is a real one."""

    def __init__(self, content, link=b""):
        self.content, self.link = content, link
        self.size = len(content)

    def head(self):
        return self.content[: 1 << 16]

    @contextmanager
    def stream(self):
        yield io.BytesIO(self.content)

    def look(self):
        return b"%d 1 1" % self.size

    def private_folder(self):
        folder = tempfile.mkdtemp()
        weakref.finalize(self, shutil.rmtree, folder)
        return Path(folder)

    def private_copy(self):
        copy = self.private_folder() / "catalog"
        copy.write_bytes(self.content)
        return copy

    def link_target(self):
        return self.link


def read(kind, content):
    """All references of a text document."""
    return list(kind.read(io.BytesIO(content)))


def rewritten(kind, content, targets, urls=(), texts=None):
    """A document with some targets replaced, by what stands there."""

    def wanted(_number, reference):
        target = targets.get(reference.locator)
        if target is None:
            return None
        text = (texts or {}).get(reference.locator)
        return Change(target, text, reference.locator in urls)

    source = InMemory(content)
    with kind.open(source) as document:
        new = document.retargeted(wanted)
        if new is None:
            return content
        return new if isinstance(new, bytes) else Path(os.fspath(new)).read_bytes()
