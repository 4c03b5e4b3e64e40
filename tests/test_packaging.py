"""What packages hold, and where a user's own programs get what they need."""

import configparser
import importlib.util
import subprocess
import sys
import zipfile
from pathlib import Path
from types import ModuleType
from unittest import mock
from xml.etree import ElementTree

from tools.cases import ROOT, FolderCase, files_under

from ulvar import __version__


def packaging() -> ModuleType:
    """Return the script as a module."""
    spec = importlib.util.spec_from_file_location("ulvar_packaging", ROOT / "packaging" / "packaging.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


class Packages(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.script = packaging()

    def test_the_wheel_holds_every_file_of_the_source(self) -> None:
        with mock.patch.object(self.script, "DIST", self.folder), mock.patch.object(self.script, "say"):
            made = self.script.wheel()
        source = {
            str(p.relative_to(ROOT / "src")) for p in (ROOT / "src" / "ulvar").rglob("*")
            if p.is_file() and "__pycache__" not in p.parts
        }  # fmt: skip
        with zipfile.ZipFile(made) as wheel:
            held = set(wheel.namelist())
        self.assertEqual(source - held, set())
        shared = {name.partition("/data/share/")[2] for name in held if "/data/share/" in name}
        self.assertEqual({Path(name).name for name in shared}, set(self.script.SHARED))

    def test_what_desktops_read(self) -> None:
        entry = configparser.ConfigParser(interpolation=None)
        entry.optionxform = str  # type: ignore[assignment,method-assign]
        entry.read(ROOT / "data" / "ulvar.desktop")
        body = entry["Desktop Entry"]
        self.assertEqual((body["Exec"], body["Icon"], body["Terminal"]), ("ulvar open %f", "ulvar", "false"))
        types = ElementTree.parse(ROOT / "data" / "ulvar-mime.xml").getroot()
        named = {node.get("type") for node in types if node.tag.endswith("mime-type")}
        # What the types file introduces, the entry opens.
        self.assertEqual(named - set(body["MimeType"].split(";")), set())
        for name in ("ulvar.svg", "ulvar.metainfo.xml"):
            ElementTree.parse(ROOT / "data" / name)
        self.assertEqual(self.script.version(), __version__)

    def test_into_a_users_programs_and_out_again(self) -> None:
        home = self.folder / "a home"
        (home / "nights").mkdir(parents=True)
        (home / "nights" / "mine").touch()
        ran = []

        def run(*words: object, **given: object) -> None:
            ran.append([str(w) for w in words])
            if "venv" in ran[-1]:
                python = Path(ran[-1][-1]) / "bin" / "python"
                python.parent.mkdir(parents=True)
                python.write_text('#!/bin/sh\necho "$@"\n')
                python.chmod(0o755)

        wheel = self.folder / "x.whl"
        quiet = mock.patch.multiple(self.script, run=run, wheel=lambda: wheel, say=mock.DEFAULT, _told_desktop=mock.DEFAULT)
        with quiet, mock.patch.dict("os.environ", {"XDG_DATA_HOME": ""}):
            self.script.install(home)
            first = files_under(home)
            self.script.install(home)
            self.assertEqual(files_under(home), first)
        self.assertEqual(
            first,
            {
                "nights/mine", ".local/bin/ulvar", ".local/share/ulvar/program/bin/python", ".local/share/applications/ulvar.desktop",
                ".local/share/icons/hicolor/scalable/apps/ulvar.svg", ".local/share/metainfo/ulvar.metainfo.xml",
                ".local/share/mime/packages/ulvar.xml",
            },
        )  # fmt: skip
        installs = [words for words in ran if "install" in words]
        self.assertTrue(all(str(wheel) in words and str(ROOT / "requirements.lock") in words for words in installs))
        said = subprocess.run([home / ".local" / "bin" / "ulvar", "sort", "a b"], capture_output=True, text=True, check=True)
        self.assertEqual(said.stdout, "-m ulvar sort a b\n")
        entry = (home / ".local" / "share" / "applications" / "ulvar.desktop").read_text()
        self.assertIn(f'Exec="{home}/.local/bin/ulvar" open %f', entry)
        with (
            mock.patch.multiple(self.script, say=mock.DEFAULT, _told_desktop=mock.DEFAULT),
            mock.patch.dict("os.environ", {"XDG_DATA_HOME": ""}),
        ):
            self.script.uninstall(home)
        self.assertEqual(files_under(home), {"nights/mine"})

    def test_an_install_that_fails_leaves_the_old_one(self) -> None:
        # Everything lies in this test's own folder, wherever the suite's data are.
        place = mock.patch.dict("os.environ", {"XDG_DATA_HOME": ""})
        place.start()
        self.addCleanup(place.stop)
        program, command, _ = self.script.places(self.folder)
        (program / "bin").mkdir(parents=True)
        (program / "bin" / "python").write_text("old")

        def run(*words: object, **given: object) -> None:
            if "install" in words:
                raise subprocess.CalledProcessError(1, "pip")

        quiet = mock.patch.multiple(self.script, run=run, wheel=lambda: Path("x.whl"), say=mock.DEFAULT)
        with quiet, self.assertRaises(subprocess.CalledProcessError):
            self.script.install(self.folder)
        self.assertEqual((program / "bin" / "python").read_text(), "old")
        self.assertFalse(command.exists())

    def test_words(self) -> None:
        done = subprocess.run(
            [sys.executable, ROOT / "packaging" / "packaging.py", "nothing"], capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 2)
        self.assertIn("install", done.stderr)
