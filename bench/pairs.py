"""Pairs of stars measured: separations and angles of made-up pairs from 0.8 to 30 FWHM against the truth, and their errors.

Usage: pairs.py [--pairs N] [--seed S] [--no-gain]

Half of the pairs stand in a field whose stars tell the profile, half are alone in their frame. The profile is that of two Gaussians,
elongated in a third of the fields; the fainter star has up to a tenth of the light of the other.
"""

from __future__ import annotations

import argparse
import math
import time

import numpy as np

from ulvar.engine import Failed
from ulvar.simulation import Psf, recorded_fwhm, star_field
from ulvar.stars import find_stars, measure_pair

_BINS = ((0.8, 1.2), (1.2, 2.0), (2.0, 4.0), (4.0, 10.0), (10.0, 30.0))


def one_pair(
    rng: np.random.Generator, *, field: bool, gain: float | None
) -> tuple[float, tuple[float, ...] | str, float]:
    """Return separation [FWHM], deviations of separation, angle and difference over their errors (or why not), seconds."""
    psf = Psf(rng.uniform(1.0, 2.2))
    fwhm = recorded_fwhm(psf)
    trail = tuple(rng.uniform(-0.4, 0.4, 2) * fwhm) if rng.random() < 1 / 3 else (0.0, 0.0)
    apart, angle = fwhm * math.exp(rng.uniform(math.log(0.8), math.log(30))), rng.uniform(0, 2 * math.pi)
    side = max(220 if field else 90, int(apart) + 80)
    middle = side / 2 + rng.uniform(-0.5, 0.5, 2)
    half = apart / 2 * np.array([math.cos(angle), math.sin(angle)])
    places = np.array([middle - half, middle + half])
    bright = 10 ** rng.uniform(4.3, 5.5)
    flux = np.array([bright, bright * 10 ** rng.uniform(-1, 0)])
    if field:
        others = rng.uniform(0, side, (45, 2))
        others = others[np.linalg.norm(others[:, None] - places[None], axis=2).min(axis=1) > 3 * fwhm]
        places, flux = np.vstack([places, others]), np.r_[flux, 10 ** rng.uniform(3, 5.3, len(others))]
    image = star_field(
        rng,
        width=side,
        height=side,
        x=places[:, 0],
        y=places[:, 1],
        flux_e=flux,
        psf=psf,
        gain_e_per_adu=1.5,
        trail_px=trail,
    )
    found = find_stars(image, gain_e_per_adu=gain) if field else None
    # As people click.
    named = places[:2] + rng.normal(0, 0.2 * fwhm, (2, 2))
    began = time.perf_counter()
    fit = measure_pair(
        image, tuple(named[0]), tuple(named[1]), fwhm_px=found.fwhm_px if found else fwhm, gain_e_per_adu=gain,
        stars=found.stars if found else None,
    )  # fmt: skip
    took = time.perf_counter() - began
    if isinstance(fit, Failed):
        return apart / fwhm, fit.reason, took
    (s, s_error), (a, a_error), (d, d_error) = fit.separation_px, fit.angle_deg, fit.difference_mag
    turned = (a - math.degrees(angle) + 180) % 360 - 180
    truth = -2.5 * math.log10(flux[1] / flux[0])
    return apart / fwhm, ((s - apart) / s_error, turned / a_error, (d - truth) / d_error, s_error), took


def main() -> None:
    """Print what came of all pairs, by separation."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--pairs", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--no-gain", action="store_true")
    given = parser.parse_args()
    rng = np.random.default_rng(given.seed)
    for field in (True, False):
        results = [one_pair(rng, field=field, gain=None if given.no_gain else 1.5) for _ in range(given.pairs // 2)]
        measured = [(apart, *told) for apart, told, _ in results if not isinstance(told, str)]
        table = np.array(measured)
        print(f"{'in a field' if field else 'alone'}: {len(measured)} of {len(results)} measured, "
              f"{1000 * np.median([t for _, _, t in results]):.0f} ms each")  # fmt: skip
        print(
            "  FWHM apart  pairs   separation: mean, std of deviation/error   angle: mean, std   difference: mean, std   error px"
        )
        for low, high in (*_BINS, (0.8, 30.0)):
            part = table[(table[:, 0] >= low) & (table[:, 0] < high)]
            if len(part) > 2:
                m, s = part[:, 1:4].mean(axis=0), part[:, 1:4].std(axis=0)
                print(
                    f"  {low:4.1f}-{high:<5.1f} {len(part):6d}   {m[0]:+.2f} {s[0]:.2f}   {m[1]:+.2f} {s[1]:.2f}   "
                    f"{m[2]:+.2f} {s[2]:.2f}   {np.median(part[:, 4]):.4f}"
                )
        for apart, told, _ in results:
            if isinstance(told, str):
                print(f"  not measured at {apart:.2f} FWHM: {told}")


if __name__ == "__main__":
    main()
