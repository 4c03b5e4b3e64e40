"""Puts Ulvar into a user's own programs, and makes packages of it.

Usage: packaging.py install [--home DIR] | uninstall [--home DIR] | wheel | deb

``install`` makes a virtual environment of its own below the user's data folder with the locked dependencies, and puts the
command, the desktop entry, the icon and the file types where desktops look for them. ``wheel`` and ``deb`` write into
``build/dist``; the Debian package brings everything but Python itself and the system libraries that Qt needs.
"""

from __future__ import annotations

import argparse
import compileall
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
DIST = ROOT / "build" / "dist"

# What goes into a desktop's folders: file of data/, and its place below ``share``.
SHARED = {
    "ulvar.desktop": "applications/ulvar.desktop",
    "ulvar.svg": "icons/hicolor/scalable/apps/ulvar.svg",
    "ulvar.metainfo.xml": "metainfo/ulvar.metainfo.xml",
    "ulvar-mime.xml": "mime/packages/ulvar.xml",
}
# Where Debian's package has its programs: wheels belong to one version of Python, so that nothing is shared.
_PLACE = "opt/ulvar/lib"
_DEPENDS = (
    "libgl1", "libegl1", "libglib2.0-0", "libfontconfig1", "libfreetype6", "libdbus-1-3", "libxkbcommon0", "libxkbcommon-x11-0",
    "libxcb-cursor0", "libxcb-icccm4", "libxcb-image0", "libxcb-keysyms1", "libxcb-randr0", "libxcb-render-util0", "libxcb-shape0",
    "libxcb-sync1", "libxcb-xfixes0", "libxcb-xinerama0", "libxcb-xkb1", "libx11-xcb1", "shared-mime-info",
)  # fmt: skip


def version() -> str:
    """Return the version that is packaged."""
    text = (ROOT / "src" / "ulvar" / "__init__.py").read_text(encoding="utf-8")
    found = re.search(r'__version__ = "([^"]+)"', text)
    assert found is not None
    return found.group(1)


def say(text: str) -> None:
    """Tell the person at the terminal."""
    print(text, file=sys.stderr, flush=True)


def run(*words: str | Path, **given: object) -> None:
    """Run a program that has to succeed."""
    subprocess.run([str(w) for w in words], check=True, **given)  # type: ignore[call-overload]


def wheel() -> Path:
    """Write the wheel; returns its path."""
    DIST.mkdir(parents=True, exist_ok=True)
    # Modules that are no more would come back from an earlier build.
    shutil.rmtree(ROOT / "build" / "lib", ignore_errors=True)
    run(
        sys.executable, "-m", "pip", "wheel", "--quiet", "--disable-pip-version-check", "--no-deps", "--no-build-isolation",
        "--wheel-dir", DIST, ROOT,
    )  # fmt: skip
    made = sorted(DIST.glob(f"ulvar-{version()}-*.whl"))[-1]
    say(f"{made.name}: {made.stat().st_size / 1e6:.1f} MB")
    return made


def put_shared(share: Path) -> list[Path]:
    """Copy what desktops look for below a ``share`` folder; returns the files."""
    made = []
    for name, place in SHARED.items():
        target = share / place
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(ROOT / "data" / name, target)
        made.append(target)
    return made


def _told_desktop(share: Path) -> None:
    """Let the desktop look again, where it has the programs for it."""
    for words in (("update-desktop-database", share / "applications"), ("update-mime-database", share / "mime")):
        if shutil.which(words[0]):
            subprocess.run([str(w) for w in words], check=False, capture_output=True)


def places(home: Path) -> tuple[Path, Path, Path]:
    """Return (environment, command, share) of a user."""
    share = Path(os.environ["XDG_DATA_HOME"]) if os.environ.get("XDG_DATA_HOME") else home / ".local" / "share"
    return share / "ulvar" / "program", home / ".local" / "bin" / "ulvar", share


def install(home: Path) -> None:
    """Put Ulvar into a user's own programs; an older one there is replaced when the new one works."""
    program, command, share = places(home)
    made = wheel()
    fresh = program.with_name("program-new")
    shutil.rmtree(fresh, ignore_errors=True)
    say(f"Installing into {program} (a few minutes the first time) ...")
    base = Path(sys.base_prefix) / "bin" / f"python{sys.version_info.major}.{sys.version_info.minor}"
    run(base if base.exists() else sys.executable, "-m", "venv", fresh)
    pip = (fresh / "bin" / "python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check")
    # What only developers need is in the lock as well: it says which versions, the wheel says which libraries.
    run(*pip, "--constraint", ROOT / "requirements.lock", made)
    run(fresh / "bin" / "python", "-m", "ulvar", "--version", stdout=subprocess.DEVNULL)
    shutil.rmtree(program, ignore_errors=True)
    fresh.rename(program)
    command.parent.mkdir(parents=True, exist_ok=True)
    script = f'#!/bin/sh\nexec "{program}/bin/python" -m ulvar "$@"\n'
    new = command.with_name(".ulvar-new")
    new.write_text(script, encoding="utf-8")
    new.chmod(0o755)
    new.replace(command)
    entry = put_shared(share)[0]
    # A desktop's search path need not have the user's own folder.
    text = entry.read_text(encoding="utf-8").replace("Exec=ulvar ", f'Exec="{command}" ')
    entry.write_text(text, encoding="utf-8")
    _told_desktop(share)
    say(f"Ulvar {version()} is there: {command}")
    if str(command.parent) not in os.environ.get("PATH", "").split(":"):
        say(f"{command.parent} is not in your PATH: call it by its whole name, or add it.")


def uninstall(home: Path) -> None:
    """Take away what `install` has put; nights, libraries and settings stay."""
    program, command, share = places(home)
    shutil.rmtree(program, ignore_errors=True)
    for path in (command, *(share / place for place in SHARED.values())):
        path.unlink(missing_ok=True)
    _told_desktop(share)
    say("Ulvar is taken out of your programs. Nights, libraries and settings are where they were.")


_CONTROL = """Package: ulvar
Version: {version}
Architecture: amd64
Maintainer: The Ulvar developers <ulvar@localhost>
Installed-Size: {size}
Depends: python3 (>= {python}), python3 (<< {next}), {libraries}
Section: science
Priority: optional
Description: from a night of raw telescope exposures to a light curve
 Ulvar sorts a night of exposures, builds master bias, dark and flat frames,
 calibrates, aligns and stacks, solves the plate, and measures stars into light
 curves with honest errors. Raw files are never changed.
"""
_COMMAND = """#!/bin/sh
# Its libraries belong to it alone; what other programs have installed does not meet them.
PYTHONPATH=/{place} PYTHONNOUSERSITE=1 exec /usr/bin/python{python} -m ulvar "$@"
"""


def deb() -> Path:
    """Write the Debian package; returns its path."""
    made = wheel()
    major, minor = sys.version_info[:2]
    tree = ROOT / "build" / "deb"
    shutil.rmtree(tree, ignore_errors=True)
    lib = tree / _PLACE
    lib.mkdir(parents=True)
    say("Collecting the locked dependencies ...")
    pip = (
        sys.executable,
        "-m",
        "pip",
        "install",
        "--quiet",
        "--disable-pip-version-check",
        "--no-compile",
        "--target",
        lib,
    )
    run(*pip, "--constraint", ROOT / "requirements.lock", made)
    for spare in ("bin", "share"):
        shutil.rmtree(lib / spare, ignore_errors=True)
    # Tests of libraries are a fifth of them, and nobody runs them here.
    for tests in [p for p in lib.rglob("tests") if p.is_dir()]:
        shutil.rmtree(tests)
    compileall.compile_dir(lib, quiet=2, stripdir=str(tree), workers=0)
    command = tree / "usr" / "bin" / "ulvar"
    command.parent.mkdir(parents=True)
    command.write_text(_COMMAND.format(place=_PLACE, python=f"{major}.{minor}"), encoding="utf-8")
    command.chmod(0o755)
    put_shared(tree / "usr" / "share")
    size = sum(p.stat().st_size for p in tree.rglob("*") if p.is_file() and not p.is_symlink())
    control = tree / "DEBIAN" / "control"
    control.parent.mkdir()
    control.write_text(
        _CONTROL.format(
            version=version(), size=size // 1024, python=f"{major}.{minor}", next=f"{major}.{minor + 1}", libraries=", ".join(_DEPENDS)
        ),
        encoding="utf-8",
    )  # fmt: skip
    target = DIST / f"ulvar_{version()}_amd64.deb"
    say("Packing ...")
    run("dpkg-deb", "--root-owner-group", "-Zzstd", "-z9", "--build", tree, target, stdout=subprocess.DEVNULL)
    shutil.rmtree(tree)
    say(f"{target.name}: {target.stat().st_size / 1e6:.0f} MB, {size / 1e6:.0f} MB when installed")
    return target


def main(words: Sequence[str] | None = None) -> int:
    """Do what was asked."""
    parser = argparse.ArgumentParser(
        prog="./run install|uninstall|package", description="Put Ulvar into programs, or into packages."
    )
    parser.add_argument("what", choices=["install", "uninstall", "wheel", "deb", "package"])
    parser.add_argument("--home", type=Path, default=Path.home(), help="Another home folder.")
    given = parser.parse_args(words)
    if given.what == "install":
        install(given.home.resolve())
    elif given.what == "uninstall":
        uninstall(given.home.resolve())
    elif given.what == "wheel":
        wheel()
    elif shutil.which("dpkg-deb") is None:
        wheel()
        say("There is no dpkg-deb here: no Debian package was made.")
    else:
        deb()
    return 0


if __name__ == "__main__":
    sys.exit(main())
