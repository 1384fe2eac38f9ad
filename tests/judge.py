"""The independent checker of law 1.

Imports nothing from fascis: it looks at files as anybody can.
"""

from __future__ import annotations

import hashlib
import os
import stat
from pathlib import Path


def contents(root, staged=True):
    """``{place: (kind, sha256 or link target)}`` of everything below, ``.fascis`` left out.

    Without ``staged``, what crossings have not brought to its place yet is not even opened.
    """
    found = {}
    root = os.fsencode(root)
    for folder, folders, files in os.walk(root):
        folders[:] = [f for f in folders if f != b".fascis"]
        if not staged:
            folders[:] = [f for f in folders if not f.startswith(b".fascis-crossing")]
        for name in files:
            path = os.path.join(folder, name)
            place = os.path.relpath(path, root)
            mode = os.lstat(path).st_mode
            if stat.S_ISLNK(mode):
                found[place] = ("link", os.readlink(path))
            elif stat.S_ISREG(mode):
                found[place] = (
                    "file",
                    hashlib.sha256(Path(os.fsdecode(path)).read_bytes()).hexdigest(),
                )
    return found


def one_whole_copy(before, old_parent, new_root):
    """Places of which neither the original nor the arrived copy is whole.

    The original may be set aside, the copy kept as it was.
    """
    origins = {}
    for sibling in Path(old_parent).iterdir():
        if sibling.is_dir() and not sibling.is_symlink():
            for place, content in contents(sibling).items():
                origins.setdefault(place, set()).add(content)
    copies, kept = {}, [{}]
    if Path(new_root, ".fascis/identity.json").exists():
        copies = contents(new_root)
        kept += [
            contents(p) for p in Path(new_root, ".fascis/as-it-was").glob("*")
        ]  # Rewritten files are kept as they were.
    return [
        p
        for p, content in before.items()
        if content not in origins.get(p, set())
        and copies.get(p) != content
        and all(k.get(p) != content for k in kept)
    ]
