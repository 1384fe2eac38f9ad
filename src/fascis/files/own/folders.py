"""The person's own folders (XDG Base Directory Specification)."""

from __future__ import annotations

from pathlib import Path

import platformdirs

_NAME = "fascis"


def data_folder() -> Path:
    """For the register of libraries and drives."""
    return Path(platformdirs.user_data_dir(_NAME))


def state_folder() -> Path:
    """For journals and the log."""
    return Path(platformdirs.user_state_dir(_NAME))


def config_folder() -> Path:
    """For settings."""
    return Path(platformdirs.user_config_dir(_NAME))


def cache_folder() -> Path:
    """For private copies that can be deleted."""
    return Path(platformdirs.user_cache_dir(_NAME))
