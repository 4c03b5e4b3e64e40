"""A command imports what it needs and no more: what `--help` or `sort` wait for, nobody gets back."""

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path

import numpy as np

from tests.cli.support import Command

# Runs one command and tells which modules it has loaded.
_PROBE = """
import json, sys
sys.argv = ["ulvar", *sys.argv[1:]]
from ulvar.cli.main import main
try:
    main()
except SystemExit as end:
    code = end.code
sys.stdout.write("\\n" + json.dumps([code, sorted(sys.modules)]))
"""
# Shows the window without a night and ends.
_WINDOW = """
import json, linecache, os, sys
from ulvar.desktop.app import make_application
app = make_application()
read = set(linecache.cache)
from ulvar.desktop.shell.window import MainWindow
window = MainWindow()
window.show()
app.processEvents()
print(json.dumps([window.isVisible(), sorted(sys.modules), sorted(set(linecache.cache) - read)]), flush=True)
os._exit(0)
"""
_COMPILERS = {"numba", "llvmlite"}
_ROOMS = {f"ulvar.{room}" for room in ("frames", "combine", "stars", "night", "simulation", "desktop")}


def run(*arguments: object) -> tuple[int, str, set[str]]:
    """Return exit code, what was said, and the modules of a command in a process of its own."""
    done = subprocess.run([sys.executable, "-c", _PROBE, *map(str, arguments)], capture_output=True, text=True, check=True)
    told, _, last = done.stdout.rpartition("\n")
    code, modules = json.loads(last)
    return code or 0, told + done.stderr, set(modules)


class Start(Command):
    def test_help_and_wrong_usage_load_no_room(self) -> None:
        for given, code in ((["--help"], 0), (["--version"], 0), (["no-such-command"], 2), (["--no-such-option"], 2)):
            with self.subTest(given):
                ended, told, modules = run(*given)
                self.assertEqual(ended, code)
                heavy = _COMPILERS | _ROOMS | {"numpy", "scipy", "cv2", "PySide6", "pyarrow"}
                self.assertEqual(heavy & modules, set())
                if given == ["no-such-command"]:
                    self.assertIn("No such command", told)
                    self.assertNotIn("pydantic", modules)

    def test_sorting_compiles_nothing_and_leaves_the_later_stations_alone(self) -> None:
        for i in range(3):
            cards = {"IMAGETYP": "Light", "EXPTIME": 30.0, "FILTER": "V", "OBJECT": "West Field"}
            self.write(f"lights/im{i}.fits", np.full((30, 40), 400, dtype=np.uint16), **cards)
        _, said, modules = run("sort", self.folder / "lights")
        self.assertIn("3 exposures", said)
        self.assertIn("ulvar.frames.readers", modules)
        unneeded = {"scipy", "pyarrow", "PySide6", "rawpy", "exifread", "erfa", "rich.progress"}
        self.assertEqual((_COMPILERS | unneeded) & modules, set())
        rooms = {m for m in modules if m.startswith(("ulvar.lightcurves.", "ulvar.simulation", "ulvar.desktop"))}
        self.assertEqual(rooms, set())

    def test_nights_of_ones_own_load_nothing_that_makes_one(self) -> None:
        code, _, modules = run("check", self.folder)
        self.assertEqual((code, {m for m in modules if m.startswith(("ulvar.simulation", "PySide6"))}), (2, set()))

    def test_the_window_is_shown_before_anything_that_computes_is_loaded(self) -> None:
        home = {"XDG_CONFIG_HOME": str(self.folder), "QT_QPA_PLATFORM": "offscreen"}
        done = subprocess.run([sys.executable, "-c", _WINDOW], capture_output=True, text=True, check=True, env={**os.environ, **home})
        visible, modules, read = json.loads(done.stdout)
        self.assertTrue(visible)
        unneeded = _COMPILERS | {"scipy", "pyarrow", "rawpy", "typer", "ulvar.stars.search", "ulvar.simulation.render"}
        self.assertEqual(unneeded & set(modules), set())
        # No more than dataclasses ask for: the sources of what is imported are neither read nor kept.
        self.assertLess(len(read), 5, read)
        self.assertGreater(len(modules), 400)

    def test_a_command_is_found_helped_and_named_in_its_usage(self) -> None:
        _, told, _ = self.ulvar("--help")
        listed = [line.split()[1] for line in told.splitlines() if line.startswith("│ ") and line[2].isalpha()]
        for name in ("sort", "masters", "calibrate", "stack", "solve", "curve", "catalogue", "library", "open"):
            with self.subTest(name):
                self.assertIn(name, listed)
                code, text, _ = self.ulvar(name, "--help")
                self.assertEqual(code, 0)
                self.assertIn(f"ulvar {name}", text)
        self.assertIn("ulvar catalogue import", self.ulvar("catalogue", "import", "--help")[1])


class Faces(unittest.TestCase):
    def test_each_room_gives_what_its_stub_names(self) -> None:
        import importlib

        import ulvar

        stubs = sorted(Path(ulvar.__file__).parent.glob("*/__init__.pyi"))
        self.assertGreater(len(stubs), 12)
        for stub in stubs:
            room = importlib.import_module(f"ulvar.{stub.parent.name}")
            names = [line.rpartition(" ")[2] for line in stub.read_text().splitlines() if line.startswith("from ")]
            self.assertEqual(sorted(names), sorted(room.__all__))
            for name in names:
                with self.subTest(f"{room.__name__}.{name}"):
                    self.assertIsNotNone(getattr(room, name))
