"""File systems in images, each with an identity of its own."""

import secrets
import subprocess
import time


def make_file_system(command, image):
    """Runs the maker of a file system on an image.

    Of those made at the same moment, NTFS ones are given one serial number: they would be clones.
    """
    words = [str(word) for word in (*command, image)]
    subprocess.run(words, check=True, capture_output=True)
    if words[0] == "mkfs.ntfs":
        serial = f"--new-serial={secrets.token_hex(8)}"
        subprocess.run(["ntfslabel", "-q", serial, str(image)], check=True, capture_output=True)


def unmount(where):
    """Unmounts a folder."""
    for _ in range(100):  # a window of another test may be looking at all drives just now
        done = subprocess.run(["umount", str(where)], capture_output=True)
        if done.returncode == 0:
            return
        time.sleep(0.1)
    raise AssertionError(done.stderr)
