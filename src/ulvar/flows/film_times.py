"""When the frames of a film were taken: by the file, or by what the user says."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from ulvar.engine import F64Array
from ulvar.frames import STAMPS, Film, FrameError, robust_spread

# Longer than this many steps is a gap.
_GAP = 1.5
# Frames on either side that tell whether a late stamp is followed by others.
_BESIDE = 15


@dataclass(frozen=True)
class FilmTiming:
    """What the user says of a film's times.

    Attributes
    ----------
    first : datetime, optional
        Of the first frame, UTC: with `rate` it stands for all that the file says.
    rate : float, optional
        Frames in a second.
    stamp : str, optional
        What of an exposure the times are of, one of `STAMPS`; ``start`` unless the file or the user says otherwise.
    exposure_s : float, optional
        Of a frame; the step from frame to frame unless the file or the user says otherwise.
    offset_s : float
        Added to all times: a delay of the camera that is known [s].
    row_us : float
        From one row to the next of a rolling shutter [microseconds].
    """

    first: datetime | None = None
    rate: float | None = None
    stamp: str | None = None
    exposure_s: float | None = None
    offset_s: float = 0.0
    row_us: float = 0.0

    def __post_init__(self) -> None:
        if self.stamp is not None and self.stamp not in STAMPS:
            raise ValueError(f"'{self.stamp}' is no part of an exposure; there are {', '.join(STAMPS)}")
        if self.rate is not None and not 0 < self.rate < 1e6:
            raise ValueError("the rate is above 0 frames in a second")
        if self.exposure_s is not None and not self.exposure_s > 0:
            raise ValueError("the exposure is above 0 s")


@dataclass(frozen=True)
class FilmTimes:
    """Times of a film's frames.

    Attributes
    ----------
    mid : float64 array, shape (frames,)
        Middle of each exposure, seconds since 1970-01-01 UTC, or since the first frame where no time is known.
    dated : bool
        Whether the times are UTC.
    exposure_s, step_s : float
    missing : tuple of (int, int)
        Frame, and how many are missing before it.
    still : tuple of int
        Frames whose stamp is that of the one before, or earlier.
    jitter_s : float
        Scatter of the stamps about even steps.
    """

    mid: F64Array
    dated: bool
    exposure_s: float
    step_s: float
    missing: tuple[tuple[int, int], ...] = ()
    still: tuple[int, ...] = ()
    jitter_s: float = 0.0


def film_times(film: Film, told: FilmTiming) -> FilmTimes:
    """Return the times of a film's frames.

    Raises
    ------
    FrameError
        If neither the file nor the user tells how fast the frames followed each other.
    """
    times, rate = np.array(film.times, dtype=np.float64), told.rate or film.rate
    stamped = bool(len(times)) and bool(np.isfinite(times).all()) and film.count > 1 and told.rate is None
    missing: list[tuple[int, int]] = []
    still: list[int] = []
    jitter = 0.0
    if stamped:
        steps = np.diff(times)
        step = round(float(np.median(steps)), 7)
        if step <= 0:
            raise FrameError(film.path, "all its frames have the same time: give the rate, and the time of the first")
        if told.first is not None:
            times += told.first.timestamp() - times[0]
        missing, still = _gaps(times, step)
        jitter = _jitter(times)
    else:
        if not rate or not math.isfinite(rate):
            raise FrameError(film.path, "nothing tells how fast its frames followed each other: give the rate")
        step = 1 / rate
        begin = told.first.timestamp() if told.first is not None else float(times[0]) if len(times) else math.nan
        times = np.asarray((begin if math.isfinite(begin) else 0.0) + step * np.arange(film.count), dtype=np.float64)
    dated = told.first is not None or bool(len(film.times) and math.isfinite(film.times[0]))
    exposure = told.exposure_s or (film.exposure_s if film.exposure_s > 0 else step)
    stamp = told.stamp or film.stamp or "start"
    shift = {"start": exposure / 2, "middle": 0.0, "end": -exposure / 2}[stamp]
    return FilmTimes(
        times + shift + told.offset_s, dated, exposure, step, tuple(missing), tuple(still), jitter
    )  # fmt: skip


def _gaps(times: F64Array, step: float) -> tuple[list[tuple[int, int]], list[int]]:
    """Return after which frames some are missing, and frames whose stamp stands still.

    A frame that is stamped late is followed by frames at their times; after missing ones all are late.
    """
    missing = []
    steps = np.diff(times)
    for k in np.flatnonzero(steps > _GAP * step):
        first, last = max(0, int(k) + 1 - _BESIDE), min(len(times), int(k) + 1 + _BESIDE)
        number = np.arange(first, last)
        ideal = times[first:last] - step * number
        late = float(np.median(ideal[number > k]) - np.median(ideal[number <= k]))
        if round(late / step) >= 1:
            missing.append((int(k) + 1, round(late / step)))
    return missing, [int(k) + 1 for k in np.flatnonzero(steps <= 0)]


def _jitter(times: F64Array) -> float:
    """Return the scatter of single stamps about even steps [s]."""
    # The second difference of independent errors has six times their variance; gaps are few.
    second = np.diff(times, 2)
    return robust_spread(second, about=0.0) / math.sqrt(6) if len(second) > 3 else 0.0
