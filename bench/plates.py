"""Plates solved blindly: fields of every size on a whole sky of stars, and frames that are of no place on it.

Usage: plates.py [--catalogue DIR] [--fields N] [--false N] [--seconds S] [--seed S] [--curve] [--processor]

Star lists are made, not pictures: stars of the catalogue down to some depth with errors of 0.3 px, one in ten missing, three false ones
for every ten, distortion of up to 0.5 % in the corners, any turn and parity. Without a catalogue the sky is made up: half a million
stars, denser along a band. Frames of no place are lists, too, and pictures without a star: of noise, and of noise and hot pixels.
Counts so far are printed after every hundred. With --processor the budget is of the processor's seconds, not of the clock's: for long
runs beside other work.
"""

from __future__ import annotations

import argparse
import math
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from types import SimpleNamespace

import numpy as np

from ulvar.astrometry import (
    ANY_SCALE,
    PlateSolution,
    Sky,
    SolveHints,
    StarCatalogue,
    Wcs,
    WholeSky,
    index_catalogue,
    separation_deg,
    solve_plate,
    write_tiles,
)  # fmt: skip
from ulvar.stars import find_stars

_ERROR_PX, _MISSING, _FALSE = 0.3, 0.1, 0.3
_BENT = 10**-2.3


def made_up_sky(count: int = 500_000, seed: int = 3) -> StarCatalogue:
    """Return stars whose density falls away from a band around the sky, as many of each magnitude as on the real one."""
    rng = np.random.default_rng(seed)
    north, around = np.clip(rng.laplace(0, 0.25, count), -1, 1), rng.uniform(0, 2 * math.pi, count)
    spread = rng.random(count) < 0.4
    north[spread] = rng.uniform(-1, 1, int(spread.sum()))
    flat = np.sqrt(1 - north**2)
    x, y, z = flat * np.cos(around), flat * np.sin(around), north
    tilt = math.radians(62.0)
    y, z = y * math.cos(tilt) - z * math.sin(tilt), y * math.sin(tilt) + z * math.cos(tilt)
    none = np.zeros(count)
    magnitude = 10.0 + np.log10(rng.uniform(1e-5, 1, count)) / 0.5
    return StarCatalogue(
        np.degrees(np.arctan2(y, x)) % 360,
        np.degrees(np.arcsin(np.clip(z, -1, 1))),
        none + 2016.0,
        none,
        none,
        magnitude,
    )


def made_field(
    rng: np.random.Generator, sky: Sky, least: int, most_deg: float
) -> tuple[np.ndarray, np.ndarray, tuple[int, int], Wcs, int]:
    """Return stars, the brightest first, the frame's height and width, its true solution and how many stars of the catalogue it shows."""
    while True:
        width = int(rng.choice([1000, 2000, 4000]))
        height = int(width * rng.choice([0.67, 0.75, 1.0]))
        scale = 10 ** rng.uniform(0, math.log10(most_deg)) / width
        turn, mirror = rng.uniform(0, 2 * math.pi), rng.choice([1, -1])
        cd = np.array([[mirror * math.cos(turn), -math.sin(turn)], [mirror * math.sin(turn), math.cos(turn)]]) * scale
        radius = math.hypot(width, height) / 2
        bent = rng.uniform(-1, 1) * 10 ** rng.uniform(-4, math.log10(_BENT)) / radius**2
        ra, dec = rng.uniform(0, 360), math.degrees(math.asin(rng.uniform(-1, 1)))
        wcs = Wcs(
            ra, dec, (width - 1) / 2, (height - 1) / 2, cd, {(3, 0): bent, (1, 2): bent}, {(2, 1): bent, (0, 3): bent}
        )
        near = sky.cone(ra, dec, 1.2 * math.degrees(math.atan(math.radians(radius * scale))))
        if not len(near):
            continue
        with np.errstate(over="ignore", invalid="ignore"):
            x, y = wcs.pixel(near.ra, near.dec)
        inside = np.isfinite(x) & (x > 0) & (y > 0) & (x < width - 1) & (y < height - 1)
        back = wcs.sky(np.where(inside, x, 0.0), np.where(inside, y, 0.0))
        inside &= separation_deg(*back, near.ra, near.dec) < 1e-3
        shown = int(inside.sum())
        if shown < least:
            continue
        x, y, magnitude = x[inside], y[inside], near.mag[inside]
        depth = np.sort(magnitude)[min(shown - 1, int(rng.uniform(least, max(least + 1, min(shown, 400)))))]
        seen = (magnitude <= depth) & (rng.random(shown) > _MISSING)
        x, y, magnitude = x[seen], y[seen], magnitude[seen]
        extra = int(_FALSE * len(x))
        if not len(x):
            continue
        x = np.append(x + rng.normal(0, _ERROR_PX, len(x)), rng.uniform(0, width, extra))
        y = np.append(y + rng.normal(0, _ERROR_PX, len(y)), rng.uniform(0, height, extra))
        magnitude = np.append(magnitude, rng.choice(magnitude, extra))
        order = np.argsort(magnitude + rng.normal(0, 0.3, len(magnitude)))
        return x[order], y[order], (height, width), wcs, int(seen.sum())


def fields(rng: np.random.Generator, sky: Sky, count: int, seconds: float, least: int, most_deg: float) -> None:
    """Solve fields and print how many, how long it took, how far off they are."""
    took, noise, corner, solved, wrong = [], [], [], 0, 0
    by_count: Counter[int] = Counter()
    by_solved: Counter[int] = Counter()
    for k in range(count):
        if k and k % 100 == 0:
            sys.stdout.write(f"  {solved} of {k} solved, {wrong} wrong\n")
            sys.stdout.flush()
        x, y, shape, wcs, shown = made_field(rng, sky, least, most_deg)
        began = time.perf_counter()
        found = solve_plate(
            x, y, np.full(len(x), 50.0), shape, sky, SolveHints(None, None, 0.0, *ANY_SCALE, 2016.0, seconds)
        )
        took.append(time.perf_counter() - began)
        group = min(64, 4 * (shown // 4))
        by_count[group] += 1
        if not isinstance(found, PlateSolution):
            continue
        height, width = shape
        px, py = np.array([0, (width - 1) / 2, width - 1]), np.array([0, (height - 1) / 2, height - 1])
        off = separation_deg(*found.wcs.sky(px, py), *wcs.sky(px, py)) * 3600 / wcs.scale_arcsec_px
        if off[1] > 3:
            wrong += 1
            continue
        solved += 1
        by_solved[group] += 1
        noise.append(found.rms_arcsec / wcs.scale_arcsec_px / _ERROR_PX)
        corner.append(off.max())
    sys.stdout.write(
        f"{solved} of {count} solved, {wrong} wrong; seconds: median {np.median(took):.2f}, 95 % {np.percentile(took, 95):.2f}, "
        f"most {max(took):.2f}; rms over noise: median {np.median(noise):.2f}, 95 % {np.percentile(noise, 95):.2f}; corners: median "
        f"{np.median(corner):.2f} px, 95 % {np.percentile(corner, 95):.2f} px\n"
    )
    for group in sorted(by_count):
        sys.stdout.write(f"  {group:3d} to {group + 3} stars shown: {by_solved[group]} of {by_count[group]}\n")


def starless_picture(rng: np.random.Generator, shape: tuple[int, int], *, hot: bool) -> tuple[np.ndarray, np.ndarray]:
    """Return what the star finder takes for stars in a picture of noise, with hot pixels or without, the brightest first."""
    data = rng.normal(1000.0, 20.0, shape).astype(np.float32)
    if hot:
        places = rng.integers(0, data.size, int(rng.integers(20, 3000)))
        data.flat[places] += rng.exponential(2000.0, len(places)).astype(np.float32)
    stars = find_stars(data, gain_e_per_adu=1.5).stars
    order = np.argsort(-stars.flux)
    return stars.x[order], stars.y[order]


def false_fields(rng: np.random.Generator, sky: Sky, count: int, seconds: float) -> None:
    """Solve frames that are of no place: stars of one sky turned on another, noise, columns of hot pixels."""
    told: Counter[str] = Counter()
    kinds = ("wrong sky", "noise", "columns", "picture of noise", "picture of hot pixels")
    for k in range(count):
        if k and k % 100 == 0:
            sys.stdout.write(f"  {told.total()} of {k}\n")
            sys.stdout.flush()
        kind = kinds[k % len(kinds)]
        x, y, shape, _, _ = made_field(rng, sky, 12, 40.0)
        if kind.startswith("picture"):
            shape = (400, 600)
            x, y = starless_picture(rng, shape, hot=kind.endswith("hot pixels"))
        if kind == "wrong sky":
            # Sheared by a quarter: the pattern of no sky, as crowded as one.
            x = np.clip(x + 0.25 * y, 0, shape[1] * 1.3) / 1.3
        elif kind == "noise":
            x, y = rng.uniform(0, shape[1], len(x)), rng.uniform(0, shape[0], len(x))
        elif kind == "columns":
            x = rng.choice(rng.uniform(0, shape[1], 6), len(x)) + rng.normal(0, 0.3, len(x))
        found = solve_plate(
            x, y, np.full(len(x), 50.0), shape, sky, SolveHints(None, None, 0.0, *ANY_SCALE, 2016.0, seconds)
        )
        told[kind] += isinstance(found, PlateSolution)
    sys.stdout.write(f"false solutions in {count} frames of no place, {seconds:g} s each: {dict(told)}\n")


def main() -> None:
    """Print what became of the fields."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--catalogue", type=Path)
    parser.add_argument("--fields", type=int, default=200)
    parser.add_argument("--false", type=int, default=100)
    parser.add_argument("--seconds", type=float, default=10.0)
    parser.add_argument("--least", type=int, default=12)
    parser.add_argument("--largest", type=float, default=40.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processor", action="store_true")
    given = parser.parse_args()
    if given.processor:
        from ulvar.astrometry import search, solver

        search.time = solver.time = SimpleNamespace(monotonic=time.process_time)  # type: ignore[attr-defined]
    rng = np.random.default_rng(given.seed)
    with tempfile.TemporaryDirectory(prefix="ulvar-bench-") as held:
        place = given.catalogue or Path(held)
        if given.catalogue is None:
            write_tiles([made_up_sky()], place)
        whole = WholeSky.of(str(place))
        began = time.perf_counter()
        stars, patterns = index_catalogue(str(place), threads=2)
        indexed = time.perf_counter() - began
        began = time.perf_counter()
        sky = whole.sky()
        opened = time.perf_counter() - began
        sys.stdout.write(
            f"{patterns} patterns of {stars} stars: indexed in {indexed:.0f} s, opened in {1000 * opened:.0f} ms\n"
        )
        # All stars are at hand: what reading tiles takes is no matter here.
        from ulvar.astrometry import load_catalogue

        stars_of = load_catalogue(place)
        sky.cone = stars_of.cone  # type: ignore[method-assign]
        if given.fields:
            fields(rng, sky, given.fields, given.seconds, given.least, given.largest)
        if given.false:
            false_fields(rng, sky, given.false, given.seconds)


if __name__ == "__main__":
    main()
