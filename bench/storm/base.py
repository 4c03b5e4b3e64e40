"""The undisturbed night that the storm damages: small, of several formats, with a product of every command."""

from __future__ import annotations

import gzip
import hashlib
import shutil
from pathlib import Path

import fitsio
import numpy as np
import tifffile
from bench.made_files import write_dng

import ulvar
from storm.call import call
from ulvar.engine import JobContext
from ulvar.night import Night, run_station
from ulvar.night.recipe import record_step
from ulvar.photometry import read_star_list
from ulvar.simulation import DemoSize, make_demo_night

# Commands that work on the lights of one filter do it in this process up to three of them.
LIGHTS = ("light1.fits", "light2.fits", "light3.fits.fz")


def _need(words: list[str], folder: Path) -> None:
    # Of a fresh tree every routine is compiled first.
    done = call(words, folder, patience_s=300)
    if done.code != 0 or done.faults():
        raise RuntimeError(
            f"the undisturbed night fails: ulvar {' '.join(words)}: exit {done.code}\n{done.out}\n{done.err}"
        )


def _night(base: Path) -> None:
    """Make a night with stars and a recipe of the first station with every setting in it."""
    night = Night.create(base / "night", [base / "raw"])
    run_station(night, JobContext(), "intake")
    night.set_stars(read_star_list(base / "stars.csv"))
    record_step(night, "intake")
    night.close()
    shutil.copy(base / "night" / "recipe.toml", base / "recipe.toml")


def _code() -> str:
    """Return a sum of the program's own code: what another one made is no undisturbed night of this one."""
    root = Path(ulvar.__file__).parent
    total = hashlib.sha256()
    for path in sorted([*root.rglob("*.py"), *root.rglob("*.sql"), Path(__file__)]):
        total.update(path.read_bytes())
    return total.hexdigest()


def make_base(place: Path) -> Path:
    """Make the night below a folder, unless this code made it there before."""
    base, code = place / "base", _code()
    done = base / "done"
    if done.exists() and done.read_text() == code:
        return base
    shutil.rmtree(base, ignore_errors=True)
    demo = place / "demo"
    make_demo_night(demo, DemoSize(width=300, height=225, cycles=2, visual=3, bias=3, darks=4, flats=3), JobContext())
    raw = base / "raw"
    raw.mkdir(parents=True)
    lights = sorted((demo / "raw" / "lights" / "V").iterdir())
    for source, name in zip(lights, LIGHTS):
        if name.endswith(".fz"):
            with fitsio.FITS(str(source)) as handle:
                pixels, header = handle[0].read(), handle[0].read_header()
            fitsio.write(str(raw / name), pixels, header=header, compress="RICE", clobber=True)
        else:
            shutil.copy(source, raw / name)
    for kind, folder in (("bias", "bias"), ("dark", "darks"), ("flat", "flats/V"), ("dflat", "dark flats/V")):
        names = sorted(p for p in (demo / "raw" / folder).iterdir() if "-180-" in p.name or kind != "dark")
        for i, source in enumerate(names[:3]):
            shutil.copy(source, raw / f"{kind}{i + 1}{''.join(source.suffixes)}")
    more = base / "more"
    more.mkdir()
    with fitsio.FITS(str(raw / LIGHTS[0])) as handle:
        pixels = np.asarray(handle[0].read())
    tifffile.imwrite(more / "light.tif", pixels.astype(np.uint16))
    tifffile.imwrite(more / "packed.tif", pixels.astype(np.float32), compression="zlib", tile=(64, 64))
    write_dng(more / "light.dng", pixels[:224, :300].astype(np.uint16) // 4)
    (more / "light.fits.gz").write_bytes(gzip.compress((raw / LIGHTS[0]).read_bytes(), 1))
    fitsio.write(str(more / "cube.fits"), np.stack([pixels, pixels, pixels]), clobber=True)
    lines = (demo / "catalogue.csv").read_text().split("\n")
    (base / "catalogue.csv").write_text("\n".join(lines[:1500]) + "\n")
    shutil.copy(demo / "stars.csv", base / "stars.csv")
    _need(["masters", "raw", "--out", "masters"], base)
    _need(
        ["calibrate", *(f"raw/{n}" for n in LIGHTS[:2]), "--masters", "masters", "--out", "calibrated", "--partial"],
        base,
    )
    _need(["stars", *(f"raw/{n}" for n in LIGHTS[:2]), "--table", "tables"], base)
    _need(["solve", "calibrated", "--catalogue", "catalogue.csv", "--out", "solved"], base)
    _need(["measure", "solved", "--stars", "stars.csv", "--out", "series.csv", "--aperture", "5"], base)
    _need(["stack", "solved", "--out", "stack.fits"], base)
    _need(["stack", "solved", "--out", "more/own.tif"], base)
    _need(["curve", "series.csv", "--out", "curve.csv"], base)
    _night(base)
    done.write_text(code)
    return base
