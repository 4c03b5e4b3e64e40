"""Damaged inputs: each is made from a seed, laid beside good files, and given to one to three commands."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import fitsio
import numpy as np

from storm import mutate
from storm.base import LIGHTS
from storm.call import Call, call, warmed
from storm.marks import halves
from ulvar.frames import FrameError, read_plane

_STARS = ["--stars", "stars.csv", "--aperture", "5"]
# What light frames go through; BAD is the damaged file's name in the command.
_LIGHT_COMMANDS = [
    ["sort", "raw"],
    ["stars", "BAD", "raw/light2.fits", "--table", "made"],
    ["calibrate", "BAD", "raw/light2.fits", "--masters", "masters", "--out", "made", "--partial"],
    [
        "calibrate",
        "BAD",
        "raw/light2.fits",
        "--masters",
        "masters",
        "--out",
        "made",
        "--partial",
        "--repair",
        "--cosmic",
    ],
    ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits"],
    ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits", "--align", "none", "--together"],
    ["solve", "BAD", "--catalogue", "catalogue.csv", "--out", "made"],
    ["measure", "BAD", "raw/light2.fits", *_STARS, "--out", "made/series.csv"],
    ["shooting", "raw"],
]
_CALIBRATION_COMMANDS = [
    ["sort", "raw"], ["masters", "raw", "--out", "made"], ["masters", "raw", "--out", "made", "--method", "median"],
    ["camera", "raw"], ["shooting", "raw"],
]  # fmt: skip
_MASTER_COMMANDS = [
    ["sort", "masters"], ["calibrate", "raw/light2.fits", "--masters", "masters", "--out", "made", "--partial"],
    ["library", "add", "BAD", "--library", "made/library"], ["shooting", "raw", "--masters", "masters"],
]  # fmt: skip
_SOLVED_COMMANDS = [
    ["stack", "solved", "--out", "made/stack.fits", "--align", "sky"], ["measure", "solved", *_STARS, "--out", "made/series.csv"],
    ["solve", "solved", "--catalogue", "catalogue.csv", "--out", "made"], ["stars", "solved", "--table", "made"],
    ["stack", "solved", "--out", "made/stack.tif", "--depth", "32"],
]  # fmt: skip
_OTHER_COMMANDS = [
    ["sort", "more"], ["stars", "BAD", "--table", "made"], ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits"],
    ["measure", "BAD", *_STARS, "--out", "made/series.csv"], ["calibrate", "BAD", "--masters", "masters", "--out", "made", "--partial"],
]  # fmt: skip
_RUN = [["run", "recipe.toml", "--night", "night"], ["run", "recipe.toml", "--night", "raw"]]


@dataclass(frozen=True)
class Kind:
    """One kind of input: which files are damaged, how, and what is tried on them."""

    name: str
    weight: int
    files: tuple[str, ...]
    mutators: tuple[mutate.Mutator, ...]
    commands: list[list[str]]


_FITS = tuple(mutate.FITS)
KINDS = [
    Kind("light", 34, tuple(f"raw/{n}" for n in (LIGHTS[0], LIGHTS[2])), _FITS, _LIGHT_COMMANDS),
    Kind("calibration frame", 16, ("raw/bias1.fits.fz", "raw/dark2.fits.fz", "raw/flat1.fits.fz"), _FITS, _CALIBRATION_COMMANDS),
    Kind("master", 12, ("masters/bias.fits", "masters/dark.fits", "masters/flat.fits"), _FITS, _MASTER_COMMANDS),
    Kind("solved", 8, ("solved/light1-cal.fits",), _FITS, _SOLVED_COMMANDS),
    Kind("TIFF", 6, ("more/light.tif", "more/packed.tif"), (mutate.binary,), _OTHER_COMMANDS),
    Kind("camera raw", 3, ("more/light.dng",), (mutate.binary,), _OTHER_COMMANDS),
    Kind("packed", 4, ("more/light.fits.gz",), (mutate.packed, mutate.packed, mutate.bomb), _OTHER_COMMANDS),
    Kind("cube", 2, ("more/cube.fits",), _FITS, _OTHER_COMMANDS),
    Kind("star list", 4, ("stars.csv",), (mutate.table,), [["measure", "solved", "--stars", "BAD", "--aperture", "5", "--out", "made/s.csv"]]),
    Kind("catalogue", 3, ("catalogue.csv",), (mutate.table,), [
        ["catalogue", "import", "BAD", "--out", "made/tiles"], ["solve", "calibrated/light1-cal.fits", "--catalogue", "BAD", "--out", "made"],
    ]),
    Kind("series table", 4, ("series.csv",), (mutate.table,), [
        ["curve", "BAD", "--out", "made/curve.csv"], ["curve", "BAD", "--out", "made/curve.csv", "--model", "eclipse"],
        ["curve", "BAD", "--out", "made/curve.csv", "--detrend", "airmass"],
    ]),
    Kind("recipe", 4, ("recipe.toml",), (mutate.recipe,), _RUN),
    Kind("night file", 2, ("night/night.sqlite",), (mutate.binary,), _RUN[:1]),
]  # fmt: skip

# Kinds that are tried when they are asked for: which command a seed gives depends on the list above, and the seeds of all faults
# found so far are kept.
_COLOUR = ["--fact", "cfa=RGGB"]
LATER = [
    Kind("stacking", 1, (f"raw/{LIGHTS[0]}", f"raw/{LIGHTS[2]}"), _FITS, [
        ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits", "--align", "mosaic", "--feather", "9"],
        ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits", "--scale", "2", "--drop", "0.7", "--kernel", "bicubic", "--clamp"],
        ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.tif", "--scale", "0.5", "--turn", "20", "--kernel", "nearest"],
        ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits", *_COLOUR, "--colours", "malvar", "--drop", "1"],
        ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits", "--north-up", "--part", "[11:90,21:100]"],
        ["planes", "BAD", "--out", "made/planes", *_COLOUR], ["planes", "BAD", "--out", "made/planes", *_COLOUR, "--method", "malvar"],
        ["watch", "raw", "--out", "made/watched", "--idle", "0.2", "--every", "0.05"],
    ]),
    Kind("raw to stack", 1, (f"raw/{LIGHTS[0]}", f"raw/{LIGHTS[2]}"), _FITS, [
        ["stack", "raw", "--masters", "masters", "--out", "made/stack.fits"],
        ["stack", "raw", "--masters", "masters", "--out", "made/stack.fits", *_COLOUR, "--colours", "half", "--partial"],
    ]),
    # Without --partial a master that does not fit any more would be told as what is missing, not by its name.
    Kind("masters on the way", 1, ("masters/bias.fits", "masters/dark.fits", "masters/flat.fits"), _FITS, [
        ["stack", "raw", "--masters", "masters", "--out", "made/stack.fits", "--partial", "--drop", "0.9", "--normalise", "local"],
    ]),
    Kind("own TIFF", 1, ("more/own.tif",), (mutate.binary,), [
        ["sort", "more"], ["stars", "BAD", "--table", "made"], ["stack", "BAD", "raw/light2.fits", "--out", "made/stack.fits"],
    ]),
]  # fmt: skip


@dataclass
class Count:
    """What a campaign saw."""

    inputs: int = 0
    calls: int = 0
    sentences: int = 0
    seconds: float = 0.0
    longest: float = 0.0
    most_memory: int = 0
    faults: dict[str, int] = field(default_factory=dict)

    def add(self, done: Call, faults: list[str]) -> None:
        """Count a call."""
        self.calls += 1
        self.seconds += done.seconds
        self.longest = max(self.longest, done.seconds)
        self.most_memory = max(self.most_memory, done.grown)
        self.sentences += done.code in (1, 2, 3) and not faults
        for fault in faults:
            self.faults[fault] = self.faults.get(fault, 0) + 1


def _masters_named(base: Path, work: Path) -> None:
    """Give masters names that are known before they are made."""
    for path in sorted((base / "masters").iterdir()):
        for word in ("dark-flat", "bias", "dark", "flat"):
            if f"master-{word}-" in path.name:
                os.link(path, work / "masters" / f"{word}.fits")
                break


def laid_out(base: Path, work: Path) -> None:
    """Lay the good files of the base night out for one input; links, so that nothing is copied."""
    shutil.rmtree(work, ignore_errors=True)
    for folder in ("raw", "masters", "solved", "calibrated", "more", "night"):
        (work / folder).mkdir(parents=True)
    _masters_named(base, work)
    for folder in ("raw", "solved", "calibrated", "more"):
        for path in (base / folder).iterdir():
            os.link(path, work / folder / path.name)
    for name in ("stars.csv", "catalogue.csv", "series.csv", "recipe.toml"):
        os.link(base / name, work / name)
    # A store is written to by whoever opens it.
    shutil.copytree(base / "night", work / "night", dirs_exist_ok=True)


def _stamps(work: Path, but: Path) -> dict[str, tuple[int, int]]:
    places = [work / f for f in ("raw", "masters", "solved", "calibrated", "more")]
    return {
        str(p): (p.stat().st_size, p.stat().st_mtime_ns)
        for place in places
        for p in place.iterdir()
        if p != but and p.suffix != ".wcs"
    }


def _product_faults(work: Path, base: Path, words: list[str]) -> list[str]:
    """Return what is wrong with what a command has made."""
    found = set()
    if halves(work):
        found.add("half-file")
    for path in (work / "made").rglob("*"):
        if path.suffix == ".fits" and path.is_file():
            try:
                if not np.isfinite(read_plane(str(path))).any():
                    found.add("empty product")
            except FrameError:
                found.add("unreadable product")
    good = work / "made" / "light2-cal.fits"
    if words[0] == "calibrate" and "raw/light2.fits" in words and "--repair" not in words and good.exists():
        reference = base / "calibrated" / "light2-cal.fits"
        # Masters have other names here; pixels may not differ.
        if (work / "masters").stat().st_mtime_ns and _pixels(good) != _pixels(reference):
            found.add("differs")
    table = work / "made" / "light2.stars.csv"
    if (
        words[0] == "stars"
        and table.exists()
        and table.read_bytes() != (base / "tables" / "light2.stars.csv").read_bytes()
    ):
        found.add("differs")
    return sorted(found)


def _pixels(path: Path) -> bytes:
    with fitsio.FITS(str(path)) as handle:
        return np.asarray(handle[0].read()).tobytes()


# A recipe that says something else is followed; a catalogue of another sky matches no exposure.
_NAMED_OTHERWISE = ("night file", "recipe", "catalogue")


def _nameless(done: Call, name: str) -> bool:
    # A fit that finds too few points names its product, as does a master that lacks what to subtract.
    if done.words[0] == "curve" or (done.words[0] == "masters" and "--json" not in done.words):
        return False
    return done.code in (1, 3) and name not in done.out + done.err and json.dumps(name)[1:-1] not in done.out


@dataclass(frozen=True)
class Input:
    """One damaged file: which, from which seed, and what it is tried with."""

    kind: Kind
    file: str
    data: bytes
    commands: list[list[str]]


def made(seed: int, base: Path, only: str = "") -> Input:
    """Return the damaged input of a seed."""
    rng = random.Random(seed)
    kinds = [k for k in [*KINDS, *LATER] if k.name == only] if only else KINDS
    kind = rng.choices(kinds, [k.weight for k in kinds])[0]
    file = rng.choice(kind.files)
    good = base / file
    if file.startswith("masters/"):
        word = Path(file).stem
        good = next(
            p for p in sorted((base / "masters").iterdir()) if re.match(rf"master-{word}-\d|master-{word}-V", p.name)
        )
    data = rng.choice(kind.mutators)(good.read_bytes(), rng)
    # What is short already is not made shorter.
    if rng.random() < 0.1 and len(data) > 400:
        data = rng.choice(kind.mutators)(data, rng)
    return Input(kind, file, data, rng.sample(kind.commands, min(len(kind.commands), rng.choice([1, 2, 2, 3]))))


def warm(base: Path, work: Path) -> None:
    """Run every command on good files in this process, so that those forked from it have every kernel."""
    laid_out(base, work)
    for kind in [*KINDS, *LATER]:
        for words in kind.commands:
            shutil.rmtree(work / "made", ignore_errors=True)
            warmed([[kind.files[0] if w == "BAD" else w for w in words]], work)


def one(
    seed: int, base: Path, work: Path, count: Count, tell: Callable[[Input, Call, list[str]], None], only: str = "", calls: int = 3
) -> None:  # fmt: skip
    """Try one input with at most so many commands."""
    given = made(seed, base, only)
    laid_out(base, work)
    bad = work / given.file
    bad.unlink()
    bad.write_bytes(given.data)
    count.inputs += 1
    before = _stamps(work, bad)
    for n, words in enumerate(given.commands[:calls]):
        named = [given.file if w == "BAD" else w for w in words]
        if n % 2 == 0:
            named.append("--json")
        shutil.rmtree(work / "made", ignore_errors=True)
        done = call(named, work)
        faults = done.faults()
        if _nameless(done, bad.name) and given.kind.name not in _NAMED_OTHERWISE:
            faults.append("nameless")
        if bad.read_bytes() != given.data and given.kind.name != "night file":
            faults.append("input changed")
        if _stamps(work, bad) != before:
            faults.append("others changed")
        touches = given.file.startswith("masters/")
        faults += [f for f in _product_faults(work, base, named) if not (f == "differs" and touches)]
        count.add(done, faults)
        if faults:
            tell(given, done, faults)
