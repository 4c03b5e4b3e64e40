"""Fast series: a few stars in thousands of short frames, timed frame by frame."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ulvar.engine import BoolArray, F64Array, Failed, JobContext
from ulvar.flows.film_look import FilmLook, look_at_film
from ulvar.flows.film_times import FilmTimes, FilmTiming, film_times
from ulvar.frames import Film, FrameError, MaskBit, mark
from ulvar.lightcurves import Occultation, fit_occultation
from ulvar.photometry import ApertureOptions, ListedStar, Tracked, Tracker, tracked_flags

BLANK = "blank sky"
# A tracking star that is measured in fewer of the frames than this is left out of the transparency.
_OFTEN = 0.5
# Frames compared for repetitions are the same in each of this many rows, or to the last one.
_EVERY = 16


@dataclass(frozen=True)
class FilmSeries:
    """Stars measured in a film.

    Attributes
    ----------
    film : Film
    stars : tuple of ListedStar
        As they were measured: targets, tracking stars (comparisons), and blank sky (a check).
    times : FilmTimes
    tracked : Tracked
    flags : int64 array, shape (frames, stars)
    doubled : bool array, shape (frames,)
        Frames that repeat the one before.
    radius_px, inner_px, outer_px, fwhm_px : float
    row_s : float
        From one row to the next of a rolling shutter.
    """

    film: Film
    stars: tuple[ListedStar, ...]
    times: FilmTimes
    tracked: Tracked
    flags: np.ndarray
    doubled: BoolArray
    radius_px: float
    inner_px: float
    outer_px: float
    fwhm_px: float
    row_s: float = 0.0

    def place(self, name: str) -> int:
        """Return the number of a star."""
        return [star.name for star in self.stars].index(name)

    def column(self, values: F64Array) -> F64Array:
        """Return one of the result's arrays as shape (frames, stars)."""
        return values.reshape(len(self.doubled), len(self.stars))

    def when(self, star: int) -> F64Array:
        """Return when a star's row was exposed, on the scale of the times [s], shape (frames,)."""
        return self.times.mid + self.row_s * self.tracked.y[:, star]

    def light(self, star: int) -> F64Array:
        """Return a star's light over the transparency that the tracking stars tell, shape (frames,); NaN where it does not count.

        Transparency is the light of the tracking stars smoothed over a second: their own flicker in single frames is not the target's.
        """
        flux = self.column(self.tracked.result.flux).copy()
        flux[self.flags != 0] = np.nan
        there = np.isfinite(flux).mean(axis=0)
        # One that is full or at the edge half of the time tells nothing of the air.
        leads = [
            k for k, other in enumerate(self.stars) if other.role == "comparison" and k != star and there[k] > _OFTEN
        ]
        if not leads:
            return flux[:, star]
        lead = flux[:, leads].sum(axis=1)
        smooth = _smoothed(lead, max(1, round(1.0 / self.times.step_s)))
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(flux[:, star] * np.nanmedian(smooth) / smooth)


def _smoothed(values: F64Array, size: int) -> F64Array:
    """Return the running mean over `size` frames of what is finite."""
    kernel = np.ones(min(size | 1, len(values) - 1 | 1))
    there = np.isfinite(values)
    total = np.convolve(np.where(there, values, 0.0), kernel, "same")
    count = np.convolve(there.astype(float), kernel, "same")
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.where(count > 0, total / count, math.nan))


def measure_film(
    film: Film,
    stars: Sequence[ListedStar],
    context: JobContext,
    *,
    timing: FilmTiming | None = None,
    aperture: ApertureOptions | None = None,
    look: FilmLook | None = None,
    gain_e_per_adu: float | None = None,
    read_noise_e: float | None = None,
) -> FilmSeries | Failed:
    """Measure stars in all frames of a film.

    Parameters
    ----------
    film : Film
    stars : sequence of ListedStar
        By pixel of the first frames' mean [0-based]: targets, where the light is looked for even when there is none, and at least one
        tracking star (role comparison). Blank sky is added, where no star is.
    context : JobContext
    timing : FilmTiming, optional
    aperture : ApertureOptions, optional
    look : FilmLook, optional
    gain_e_per_adu, read_noise_e : float, optional

    Returns
    -------
    FilmSeries, or Failed with the reason.
    """
    aperture = aperture or ApertureOptions()
    if any(star.x is None or star.y is None for star in stars):
        return Failed("stars of a film are given by x, y in the mean of its first frames", film.path)
    if not any(star.role == "target" for star in stars):
        return Failed("there is no target among the stars", film.path)
    if not any(star.role == "comparison" for star in stars):
        return Failed("there is no tracking star: a star with the role comparison", film.path)
    try:
        times = film_times(film, timing or FilmTiming())
        look = look or look_at_film(film)
    except FrameError as error:
        # Why times are missing may stand there, such as that the file was cut short.
        return Failed(" ".join([*film.notes, error.reason]), error.path)
    outside = [s for s in stars if not (0 <= (s.x or 0) < film.width and 0 <= (s.y or 0) < film.height)]
    if outside:
        return Failed(f"{outside[0].name} is not in the frames of {film.width} x {film.height} px", film.path)
    radius, inner, outer = aperture.radii(look.fwhm_px)
    placed = [_placed(star, look) for star in stars]
    if not any(star.name == BLANK for star in placed):
        blank = _blank_place(look, placed, radius, outer)
        if blank is not None:
            placed.append(blank)
    mask = None
    if look.words is not None:
        mask = np.zeros(look.words.shape, dtype=np.uint16)
        mark(mask, look.words, MaskBit.NO_DATA)
    leads = [star.role == "comparison" for star in placed]
    tracker = Tracker(
        [star.x or 0.0 for star in placed], [star.y or 0.0 for star in placed], leads, fwhm_px=look.fwhm_px,
        radius_px=radius, inner_px=inner, outer_px=outer, mask=mask, full_adu=film.full_adu,
    )  # fmt: skip
    doubled = np.zeros(film.count, dtype=bool)
    before: np.ndarray | None = None
    try:
        for start, block in film.blocks():
            context.stop.check()
            context.progress(start, film.count, "Measuring frames")
            for k, frame in enumerate(block, start):
                doubled[k] = before is not None and _same(before, frame, look.words)
                tracker.step(frame)
                before = frame
    except FrameError as error:
        return Failed(error.reason, error.path)
    context.progress(film.count, film.count, "Measuring frames")
    tracked = tracker.finish(gain_e_per_adu, read_noise_e)
    return FilmSeries(
        film, tuple(placed), times, tracked, tracked_flags(tracked, leads, doubled), doubled, radius, inner, outer,
        look.fwhm_px, 1e-6 * (timing.row_us if timing else 0.0),
    )  # fmt: skip


def _same(before: np.ndarray, frame: np.ndarray, words: BoolArray | None) -> bool:
    """Whether a frame repeats the one before; a running clock burnt in does not count."""
    if words is not None:
        if not np.array_equal(before[::_EVERY][~words[::_EVERY]], frame[::_EVERY][~words[::_EVERY]]):
            return False
        return bool(np.array_equal(before[~words], frame[~words]))
    return bool(np.array_equal(before[::_EVERY], frame[::_EVERY]) and np.array_equal(before, frame))


def _placed(star: ListedStar, look: FilmLook) -> ListedStar:
    """Return a star at the middle of the light that was marked; where no star was found it stays."""
    assert star.x is not None and star.y is not None
    if len(look.places):
        away = np.hypot(look.places[:, 0] - star.x, look.places[:, 1] - star.y)
        nearest = int(np.argmin(away))
        if away[nearest] < max(look.fwhm_px, 2.0):
            return replace(star, x=float(look.places[nearest, 0]), y=float(look.places[nearest, 1]))
    return star


def _blank_place(look: FilmLook, stars: Sequence[ListedStar], radius: float, outer: float) -> ListedStar | None:
    """Return the place nearest to the target whose annulus holds no star and whose aperture the least light."""
    height, width = look.picture.shape
    target = next(star for star in stars if star.role == "target")
    others = np.concatenate([look.places, [(star.x or 0.0, star.y or 0.0) for star in stars]])
    step = max(2.0, radius)
    ys, xs = np.meshgrid(np.arange(outer, height - outer, step), np.arange(outer, width - outer, step), indexing="ij")
    x, y = xs.ravel(), ys.ravel()
    if not len(x):
        return None
    nearest = np.min(np.hypot(x[:, None] - others[:, 0], y[:, None] - others[:, 1]), axis=1)
    free = nearest > outer + radius
    if not free.any():
        # In a full frame it has to do that no star is in the aperture itself.
        free = nearest > 2 * radius + look.fwhm_px
    if look.words is not None:
        free &= ~look.words[y.astype(int), x.astype(int)]
    if not free.any():
        return None
    away = np.hypot(x - (target.x or 0.0), y - (target.y or 0.0))
    best = int(np.argmin(np.where(free, away, np.inf)))
    return ListedStar(BLANK, "check", x=float(x[best]), y=float(y[best]))


def time_occultation(
    series: FilmSeries, target: str | None = None, *, longest_s: float | None = None
) -> Occultation | Failed:
    """Time the occultation of a target; times are on the scale of the series' times [s]."""
    names = [star.name for star in series.stars if star.role == "target"]
    star = series.place(target or names[0])
    return fit_occultation(series.when(star), series.light(star), series.times.exposure_s, longest_s=longest_s)
