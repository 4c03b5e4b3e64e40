"""What tests share: temporary folders, small made-up files, one small demo night for all processes."""

from __future__ import annotations

import fcntl
import hashlib
import pickle
import shutil
import tempfile
import threading
import unittest
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from functools import cache, wraps
from pathlib import Path
from typing import Any
from unittest import mock

import fitsio
import numpy as np
from tools.folders import made_folder
from tools.held import unnoted

from ulvar import stars
from ulvar.engine import Failed, JobContext
from ulvar.flows import Scored, curve, field, intake, measure, pairs, plate, positions, starfind
from ulvar.flows.starfind import FindTask
from ulvar.frames import ExposureFacts
from ulvar.inspection import PixelLook
from ulvar.lightcurves import JointFit, fit_jointly
from ulvar.simulation import DemoSize, make_demo_night

ROOT = Path(__file__).resolve().parent.parent
SMALL = DemoSize(width=500, height=375, cycles=9, visual=4, bias=6, darks=9, flats=6)


class FolderCase(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self) -> None:
        """Make the folder."""
        super().setUp()
        self.folder = made_folder("ulvar-test-")
        self.addCleanup(shutil.rmtree, self.folder, True)

    def write(self, name: str, data: np.ndarray, **cards: Any) -> str:
        """Write a FITS file with cards; underscores in names become hyphens."""
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        header = [{"name": key.replace("_", "-"), "value": value} for key, value in cards.items()]
        fitsio.write(str(path), data, header=header, clobber=True)
        return str(path)


def small_demo() -> Path:
    """Return the folder of a small demo night, made once for all test processes."""
    place = ROOT / "build" / "test-demo"
    place.mkdir(parents=True, exist_ok=True)
    with (place / ".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        make_demo_night(place, SMALL, JobContext())
    return place


def files_under(folder: Path) -> set[str]:
    """Return all files below a folder, relative, to see that nothing was left behind."""
    return {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()}


def stamps(folder: Path) -> dict[str, tuple[int, int]]:
    """Return size and time of every file, to see that none was touched."""
    return {str(p): (p.stat().st_size, p.stat().st_mtime_ns) for p in folder.rglob("*") if p.is_file()}


@unnoted
def made_once(name: str, make: Callable[[Path], object]) -> Path:
    """Return a folder that the first test process that asks fills by `make`; the others, and later runs of the same code, find it.

    Whoever changes something in it works on a copy.
    """
    code = hashlib.sha256()
    for path in sorted((ROOT / "src").rglob("*.py")):
        status = path.stat()
        code.update(f"{path} {status.st_size} {status.st_mtime_ns}\n".encode())
    place = ROOT / "build" / "test-made"
    folder = place / f"{name}-{code.hexdigest()[:16]}"
    place.mkdir(parents=True, exist_ok=True)
    with (place / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.is_dir():
            for old in place.glob(f"{name}-*"):
                shutil.rmtree(old)
            begun = place / f"{name}-begun"
            # Of one that was broken off.
            shutil.rmtree(begun, ignore_errors=True)
            begun.mkdir()
            make(begun)
            begun.rename(folder)
    return folder


@cache
def _found() -> Path:
    return made_once("found", lambda folder: None)


def _keep(kept: Path, result: object) -> None:
    """Keep what was found, for all processes at once."""
    with tempfile.NamedTemporaryFile(dir=kept.parent, delete=False) as begun:
        pickle.dump(result, begun)
    Path(begun.name).replace(kept)


def _once(name: str, find: Callable[[], Any]) -> Any:
    """Return what is kept under a name, found before if it is not there."""
    kept = _found() / name
    if not kept.is_file():
        _keep(kept, find())
    return pickle.loads(kept.read_bytes())


_find, _look = starfind.stars_item, intake.look_batch
# Items of work that find stars in the pixels they read.
_ITEMS = (
    (measure, "measure_item"), (plate, "plate_item"), (pairs, "pair_item"), (positions, "position_item"), (field, "growth_item"),
)  # fmt: skip
_AS_IT_IS = {name: getattr(module, name) for module, name in _ITEMS}


def _remembered(task: FindTask) -> Scored | Failed | None:
    """Find the stars of an exposure as `stars_item`, or remember them; workers are sent this function by its name."""
    if task.calibration is not None or not Path(task.facts.path).is_file():
        return _find(task)
    told = repr(replace(task, facts=replace(task.facts, path="", mtime_ns=0), table="")).encode()
    key = hashlib.sha256(Path(task.facts.path).read_bytes() + told).hexdigest()
    kept = _found() / f"{key}{'-table' if task.table else ''}"
    if kept.is_file():
        result, table = pickle.loads(kept.read_bytes())
        if task.table:
            Path(task.table).parent.mkdir(parents=True, exist_ok=True)
            Path(task.table).write_bytes(table)
        return replace(result, facts=task.facts)  # type: ignore[no-any-return]
    result = _find(task)
    if isinstance(result, Scored):
        _keep(kept, (result, Path(task.table).read_bytes() if task.table else b""))
    return result


def _looked(exposures: Sequence[ExposureFacts]) -> dict[str, PixelLook]:
    """Look at a few exposures as `look_batch`, or remember what they looked like."""
    if not all(Path(facts.path).is_file() for facts in exposures):
        return _look(exposures)
    key = hashlib.sha256(repr([(Path(facts.path).stat().st_size, facts.cfa) for facts in exposures]).encode())
    for facts in exposures:
        key.update(Path(facts.path).read_bytes())
    paths = [facts.path for facts in exposures]
    looks = _once(
        f"{key.hexdigest()}-looks", lambda: {paths.index(path): look for path, look in _look(exposures).items()}
    )
    return {paths[n]: look for n, look in looks.items()}


class _Pixels(threading.local):
    """Whether this thread may remember the stars of pixels."""

    known = False


_pixels = _Pixels()


def _by_pixels(find: Callable[..., Any]) -> Callable[..., Any]:
    """Return a function that finds stars as another, or remembers those of the same pixels."""

    @wraps(find)
    def run(data: np.ndarray, **given: Any) -> Any:
        if not _pixels.known:
            return find(data, **given)
        mask = given.get("mask")
        told = repr((find.__name__, data.shape, data.dtype, sorted((k, v) for k, v in given.items() if k != "mask")))
        key = hashlib.sha256(data.tobytes() + (b"" if mask is None else mask.tobytes()) + told.encode()).hexdigest()
        return _once(f"{key}-pixels", lambda: find(data, **given))

    run.by_pixels = True  # type: ignore[attr-defined]
    return run


@dataclass(frozen=True)
class _Known:
    """An item of work that remembers the stars of pixels; workers are sent its name."""

    name: str

    def __call__(self, task: Any) -> Any:
        """Do it."""
        for name in ("find_stars", "find_brightest"):
            if not hasattr(find := getattr(stars, name), "by_pixels"):
                setattr(stars, name, _by_pixels(find))
        _pixels.known = True
        try:
            return _AS_IT_IS[self.name](task)
        finally:
            _pixels.known = False


def _fitted(*points: Any, **given: Any) -> JointFit | Failed:
    """Fit as `fit_jointly`, or remember what was fitted to the same points."""
    key = hashlib.sha256(pickle.dumps((points, given))).hexdigest()
    return _once(f"{key}-fit", lambda: fit_jointly(*points, **given))  # type: ignore[no-any-return]


@contextmanager
def remembering() -> Iterator[None]:
    """What is looked at, whose stars are found and what is fitted in here is taken from where some test has found it before.

    What is remembered was found by the same code in a file of the same bytes, in the same pixels or points, with the same options.
    """
    with ExitStack() as patches:
        known = [(module, name, _Known(name)) for module, name in _ITEMS]
        others = (
            (starfind, "stars_item", _remembered),
            (intake, "look_batch", _looked),
            (curve, "fit_jointly", _fitted),
        )
        for module, name, function in (*others, *known):
            patches.enter_context(mock.patch.object(module, name, function))
        yield


def remember_stars(case: unittest.TestCase) -> None:
    """Let a test of what follows looking and star finding remember what they find, and fits."""
    case.enterContext(remembering())
