"""Kernels are compiled ahead once a machine, by a night that uses all of them."""

import os
import re
import subprocess
import sys
from pathlib import Path
from unittest import mock

from tools.cases import ROOT, FolderCase

from ulvar.simulation import warming

_USED = """
import sys
from pathlib import Path
from ulvar.simulation.warming import warm_kernels
warm_kernels()
import numba
from numba.core.dispatcher import Dispatcher
for name, module in sorted(sys.modules.items()):
    if name.startswith("ulvar.") and "_kernels" in name:
        for function in vars(module).values():
            if isinstance(function, Dispatcher) and function.py_func.__module__ == name:
                print(name, function.py_func.__name__, len(function.signatures))
"""


class Warming(FolderCase):
    def test_once_a_machine_and_version(self) -> None:
        with mock.patch.object(warming.platformdirs, "user_cache_path", lambda name: self.folder / name):
            self.assertFalse(warming.kernels_ready())
            stamp = warming._stamp()
            stamp.parent.mkdir()
            stamp.touch()
            self.assertTrue(warming.kernels_ready())
            self.assertIsNone(warming.start_warming())
            # Another processor, or another state of the source, is not ready.
            with mock.patch.object(warming, "_processor", lambda: "model name: another"):
                self.assertFalse(warming.kernels_ready())
            with mock.patch.object(warming.metadata, "version", lambda name: "99"):
                self.assertFalse(warming.kernels_ready())

    def test_a_night_goes_through_every_kernel(self) -> None:
        environment = {**os.environ, "XDG_CACHE_HOME": str(self.folder), "PYTHONPATH": str(ROOT / "src")}
        done = subprocess.run([sys.executable, "-c", _USED], capture_output=True, text=True, check=True, env=environment)
        used = {tuple(line.split()[:2]): int(line.split()[2]) for line in done.stdout.splitlines()}
        # What other kernels call is compiled within them; here count those that Python calls.
        called = set()
        for path in (ROOT / "src" / "ulvar").rglob("*.py"):
            if not path.name.startswith("_kernels"):
                for module, names in re.findall(r"from (ulvar\.\w+\._kernels\w*) import ([\w, ]+)", path.read_text(encoding="utf-8")):
                    called |= {(module, name.strip()) for name in names.split(",")} & set(used)
        self.assertGreater(len(called), 12)
        self.assertEqual({one for one in called if not used[one]}, set())
        self.assertEqual(len(list((self.folder / "ulvar").glob("kernels-*"))), 1)
        self.assertEqual([p for p in Path(self.folder).iterdir() if p.name != "ulvar"], [])
