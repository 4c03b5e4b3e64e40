"""Pairs of made-up star lists with truth: any rotation, mirror, scale, overlap, share of detections that are no stars."""

import math
from dataclasses import dataclass

import numpy as np

from ulvar.engine import Failed
from ulvar.registration import match_stars

WIDTH, HEIGHT = 1500.0, 1000.0
# A fit that is off by more anywhere among the common stars is wrong [px].
_RIGHT_PX = 2.0


@dataclass(frozen=True)
class Trial:
    """Two lists, brightest first, of exposures of one sky.

    Attributes
    ----------
    source, target : float64 arrays, shape (n, 2) and (m, 2)
        Detected places [px].
    source_snr, target_snr : float64 arrays
    common : float64 array, shape (k, 4)
        True places in source and target of the stars that both lists hold [px].
    scale, overlap, spurious : float
        Target pixels a source pixel; how far the fields lie over each other; share of detections that are none.
    """

    source: np.ndarray
    target: np.ndarray
    source_snr: np.ndarray
    target_snr: np.ndarray
    common: np.ndarray
    scale: float
    overlap: float
    spurious: float


def make_trial(seed: int) -> Trial:
    """Return a pair: scale 0.5 to 2, overlap 25 to 100 %, up to 60 % spurious, 6 to 500 stars a field, noise to 0.3 px."""
    rng = np.random.default_rng(seed)
    size = np.array([WIDTH, HEIGHT])
    scale, angle, mirror = (
        math.exp(rng.uniform(math.log(0.5), math.log(2))), rng.uniform(0, 2 * math.pi), rng.random() < 0.5,
    )  # fmt: skip
    overlap, spurious, stars, noise = (
        rng.uniform(0.25, 1), rng.uniform(0, 0.6), 10 ** rng.uniform(0.8, 2.7), rng.uniform(0.03, 0.3),
    )  # fmt: skip
    linear = scale * np.array([[math.cos(angle), -math.sin(angle)], [math.sin(angle), math.cos(angle)]])
    if mirror:
        linear = linear @ np.diag([-1, 1])
    count = rng.poisson(16 * stars)
    sky = rng.uniform(-1.5, 2.5, (count, 2)) * size
    # Numbers of stars grow with magnitude as the brightness of an exponential law falls.
    brightness = rng.exponential(1.0, count)
    away = rng.uniform(0, 2 * math.pi)
    shift = size / 2 + (1 - overlap) * HEIGHT * np.array([math.cos(away), math.sin(away)]) - linear @ (size / 2)
    places = {"target": sky, "source": (sky - shift) @ np.linalg.inv(linear).T}
    found, lists = {}, {}
    for name, place in places.items():
        seen = np.flatnonzero(((place >= 0) & (place < size)).all(axis=1))
        # Some stars are missed.
        seen = seen[rng.random(len(seen)) < 0.92]
        none = int(len(seen) * spurious / (1 - spurious))
        where = np.concatenate(
            [place[seen] + rng.normal(0, noise, (len(seen), 2)), rng.uniform(0, 1, (none, 2)) * size]
        )
        light = np.concatenate([brightness[seen] + rng.normal(0, 0.1, len(seen)), rng.exponential(1.0, none)])
        order = np.argsort(-light)
        found[name] = seen
        lists[name] = where[order], 20 * 10 ** (0.4 * light[order])
    both = np.intersect1d(found["source"], found["target"])
    common = np.column_stack([places["source"][both], places["target"][both]])
    return Trial(
        lists["source"][0], lists["target"][0], lists["source"][1], lists["target"][1], common, scale, overlap, spurious
    )


def outcome(trial: Trial) -> str:
    """Match a pair; returns ``right``, ``refused`` or ``wrong``."""
    match = match_stars(trial.source, trial.target, source_snr=trial.source_snr, target_snr=trial.target_snr)
    if isinstance(match, Failed):
        return "refused"
    if len(trial.common) < 3:
        return "wrong"
    x, y = match(trial.common[:, 0], trial.common[:, 1])
    miss = np.hypot(x - trial.common[:, 2], y - trial.common[:, 3])
    return "right" if miss.max() < _RIGHT_PX else "wrong"
