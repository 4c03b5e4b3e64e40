"""The house: no Qt in the core, the public names exist, doctests hold."""

from __future__ import annotations

import doctest
import importlib
import pkgutil
import subprocess
import sys
import unittest

import ulvar

CORE = (
    "engine", "frames", "combine", "stars", "calibration", "registration", "stacking", "astrometry", "photometry",
    "lightcurves", "inspection", "flows", "night", "simulation",
)  # fmt: skip


class House(unittest.TestCase):
    """Walls that hold."""

    def test_core_loads_no_qt(self) -> None:
        code = "import sys; " + "; ".join(f"import ulvar.{room}" for room in CORE) + "; import ulvar.cli.main; "
        code += "print([m for m in sys.modules if 'PySide' in m or 'shiboken' in m])"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "[]")

    def test_public_names_exist(self) -> None:
        for room in CORE:
            module = importlib.import_module(f"ulvar.{room}")
            self.assertTrue(module.__doc__)
            for name in module.__all__:
                self.assertTrue(hasattr(module, name), f"{room}.{name}")

    def test_doctests(self) -> None:
        tried = 0
        for info in pkgutil.walk_packages(ulvar.__path__, "ulvar."):
            if ".desktop" in info.name or info.name.endswith("__main__"):
                continue
            result = doctest.testmod(importlib.import_module(info.name))
            self.assertEqual(result.failed, 0, info.name)
            tried += result.attempted
        self.assertGreater(tried, 4)
