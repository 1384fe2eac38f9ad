"""Builds the package as pyproject.toml says, with its catalogs of translations compiled."""

import sys
from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py

sys.path.insert(0, str(Path(__file__).parent / "scripts"))

from catalogs import compile_all


class WithCatalogs(build_py):
    """What setuptools does, after the catalogs are compiled."""

    def run(self) -> None:
        """Builds."""
        compile_all()
        super().run()


setup(cmdclass={"build_py": WithCatalogs})
