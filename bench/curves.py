"""Light curves: eclipses, transits and pulsations with red noise, clouds and gaps against what was put in; searches and plots timed.

Usage: curves.py [--count N] [--seed S] [--only injected|speed]

Of each kind N curves are made: 110 to 260 points, half of them with noise that lasts a tenth of the event, a quarter with a gap, a quarter with a
cloud that makes points noisier (and their errors with them), all with a trend in airmass that is fitted along.
"""

from __future__ import annotations

import argparse
import math
import os
import time as clock

import numpy as np
from plain_noise import likelihood

from ulvar.engine import Failed
from ulvar.lightcurves import (
    EclipseShape,
    SineShape,
    TransitShape,
    correlated_noise,
    eclipse_template,
    find_period,
    fit_jointly,
    fold_about,
    transit_dimming,
)
from ulvar.lightcurves.eclipse import TemplateShape
from ulvar.lightcurves.rednoise import noise_like

_START = 2461448.0


def _red(rng: np.random.Generator, n: int, length: float) -> np.ndarray:
    kernel = np.exp(-np.arange(6 * math.ceil(length)) / length)
    made = np.convolve(rng.normal(0, 1, n + len(kernel)), kernel)[len(kernel) : len(kernel) + n]
    return np.asarray(made / made.std())


def _points(rng: np.random.Generator, k: int, span: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return times, errors and noise of one curve."""
    n = int(rng.integers(110, 260))
    time = _START + np.sort(rng.uniform(0, span, n))
    if k % 4 == 1:
        hole = _START + rng.uniform(0.15, 0.75) * span
        time = time[(time < hole) | (time > hole + 0.1 * span)]
    error = np.full(len(time), rng.uniform(0.0015, 0.005))
    if k % 4 == 2:
        cloud = _START + rng.uniform(0, 0.8) * span
        error[(time > cloud) & (time < cloud + 0.15 * span)] *= 3
    noise = rng.normal(0, error)
    if k % 2:
        noise += 0.6 * float(np.median(error)) * _red(rng, len(time), len(time) / 25)
    return time, error, noise


def _eclipse(rng: np.random.Generator, k: int):  # type: ignore[no-untyped-def]
    time, error, noise = _points(rng, k, 0.3)
    shape = TemplateShape(
        _START + rng.uniform(0.12, 0.18),
        rng.uniform(0.06, 0.1),
        rng.uniform(0.6, 1.4),
        rng.uniform(0, 0.6),
        rng.uniform(0.2, 0.8),
    )
    depth = float(eclipse_template(np.array([shape.mid]), shape)[0])
    truth = {"mid": shape.mid, "depth_mag": depth, "duration_d": 2 * shape.half_length}
    return time, error, noise + eclipse_template(time, shape), EclipseShape(), truth


def _transit(rng: np.random.Generator, k: int):  # type: ignore[no-untyped-def]
    time, error, noise = _points(rng, k, 0.22)
    mid, duration, ratio, impact = (
        _START + rng.uniform(0.09, 0.13),
        rng.uniform(0.08, 0.12),
        rng.uniform(0.09, 0.15),
        rng.uniform(0, 0.7),
    )
    law = (0.4, 0.25)
    depth = float(transit_dimming(np.array([mid]), mid, duration, ratio, impact, law)[0])
    truth = {"mid": mid, "depth_mag": depth, "duration_d": duration}
    return time, error, noise + transit_dimming(time, mid, duration, ratio, impact, law), TransitShape(law), truth


def _pulsation(rng: np.random.Generator, k: int):  # type: ignore[no-untyped-def]
    time, error, noise = _points(rng, k, 0.3)
    period, size, phase = rng.uniform(0.05, 0.12), rng.uniform(0.02, 0.1), rng.uniform(0, 1)
    angle = 2 * math.pi * ((time - _START) / period + phase)
    truth = {"period_d": period, "semi_amplitude_mag": size}
    return time, error, noise + size * np.sin(angle) + 0.2 * size * np.sin(2 * angle + 1), SineShape(2), truth


def _injected(count: int, seed: int) -> None:
    for name, make in (("eclipses", _eclipse), ("transits", _transit), ("pulsations", _pulsation)):
        rng = np.random.default_rng(seed)
        pulls: dict[str, list[float]] = {}
        folded, failed, began = [], 0, clock.perf_counter()
        for k in range(count):
            time, error, magnitude, shape, truth = make(rng, k)
            airmass = 1 + 3 * (time - _START) ** 2
            magnitude = 12 + magnitude + 0.02 * airmass
            fit = fit_jointly(time, magnitude, error, shape, trends={"airmass": airmass})
            if isinstance(fit, Failed):
                failed += 1
                continue
            for what, true in truth.items():
                pulls.setdefault(what, []).append((fit.values[what] - true) / fit.errors[what])
            if "mid" in truth and fit.values["depth_mag"] > 12 * fit.rms_mag:
                flat = fit.values["third_contact"] - fit.values["second_contact"]
                timed = fold_about(
                    time, magnitude - fit.trend_mag, fit.at, fit.noise_like(time, error, 100), near=fit.values["mid"],
                    duration_d=fit.values["duration_d"], flat_d=flat if math.isfinite(flat) else 0.0,
                )  # fmt: skip
                if not isinstance(timed, Failed):
                    folded.append((timed.time - truth["mid"]) / timed.error)
        print(
            f"{name}: {count - failed} of {count} fitted, {1000 * (clock.perf_counter() - began) / count:.0f} ms each",
            flush=True,
        )
        if folded:
            pulls["mid by folding"] = folded
        for what, values in pulls.items():
            a = np.array(values)
            red = np.abs(a[1::2] if len(a) == count else a) < 1
            print(
                f"  {what:20} {len(a):4} curves, {100 * np.mean(np.abs(a) < 1):4.0f} % within their error ({100 * red.mean():.0f} % with red noise), "
                f"{100 * np.mean(np.abs(a) < 2):.0f} % within two, median {np.median(a):+.2f} of it"
            )


def _speed() -> None:
    rng = np.random.default_rng(1)
    n, count = 5000, 100_000
    t = np.sort(rng.uniform(0, 30, n))
    y = 12 + 0.02 * np.sin(2 * math.pi * t / 0.3137) + rng.normal(0, 0.01, n)
    span = float(np.ptp(t))
    high = 0.2 + (count - 1) / (12 * span)
    for method in ("sine", "phase", "box"):
        find_period(t[:200], y[:200], np.full(200, 0.01), shortest_d=0.1, longest_d=1, method=method)
        began = clock.perf_counter()
        found = find_period(t, y, np.full(n, 0.01), shortest_d=1 / high, longest_d=5.0, method=method)
        assert not isinstance(found, Failed)
        print(
            f"{len(found.frequencies)} frequencies of {n} points by {method}: {clock.perf_counter() - began:.2f} s with its window and chances",
            flush=True,
        )
    began = clock.perf_counter()
    some = np.linspace(0.2, high, count)[::500]
    angles = 2 * math.pi * np.outer(some, t)
    np.hypot((np.cos(angles) * (y - y.mean())).sum(axis=1), (np.sin(angles) * (y - y.mean())).sum(axis=1))
    print(f"plain sums of cosines and sines by NumPy: {500 * (clock.perf_counter() - began):.1f} s")
    for n in (100, 250, 500):
        t, sigma = np.sort(rng.uniform(0, 0.3, n)), np.full(n, 0.003)
        slopes = np.column_stack([np.ones(n), *(np.sin(k * t) for k in range(20, 25))])
        left = noise_like(t, sigma, [(1.0, 1.0, 0.02, 1.0)], 1)[0]
        began = clock.perf_counter()
        correlated_noise(t, left, slopes, sigma)
        ours = clock.perf_counter() - began
        began = clock.perf_counter()
        for length in np.geomspace(0.002, 0.075, 8):
            for share in np.geomspace(0.02, 12, 10):
                likelihood(t, left, slopes, sigma, share, length)
        plain = clock.perf_counter() - began
        print(
            f"what {n} points say of their noise: {ours:.3f} s, by the covariance of all of them {plain / ours:.0f} times as long"
        )
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtGui import QPixmap
    from PySide6.QtWidgets import QApplication

    from ulvar.desktop.parts.plots import Points
    from ulvar.desktop.parts.theme import THEMES
    from ulvar.desktop.parts.zoomed import ZoomPlot

    application = QApplication.instance() or QApplication([])
    plot = ZoomPlot(THEMES["dark"], x_label="d", y_label="mag", y_down=True)
    plot.resize(900, 400)
    x = np.sort(rng.uniform(0, 10, 100_000))
    plot.series = [
        Points(
            x,
            12 + rng.normal(0, 0.01, len(x)),
            np.full(len(x), 0.01),
            ["kept"] * len(x),
            [str(k) for k in range(len(x))],
        )
    ]
    plot.home = (0.0, 10.0)
    plot.show_range(None)
    canvas = QPixmap(900, 400)
    plot.render(canvas)
    began = clock.perf_counter()
    for k in range(60):
        plot.show_range((0.05 * k, 0.05 * k + 3))
        plot.render(canvas)
    print(f"a plot of 100,000 points moved: {60 / (clock.perf_counter() - began):.0f} frames a second")
    assert application is not None


def main() -> None:
    """Print what comes of it."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", choices=("injected", "speed"))
    given = parser.parse_args()
    if given.only != "injected":
        _speed()
    if given.only != "speed":
        _injected(given.count, given.seed)


if __name__ == "__main__":
    main()
