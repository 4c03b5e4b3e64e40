"""Fast series: a few stars in thousands of short frames, timed frame by frame."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from ulvar.engine import BoolArray, F32Array, F64Array, Failed, JobContext, counted
from ulvar.frames import STAMPS, Film, FrameError, MaskBit, burnt_words, mark, robust_spread, write_png
from ulvar.inspection import Finding, notice
from ulvar.lightcurves import Occultation, fit_occultation, jd_from_utc
from ulvar.photometry import ApertureOptions, ListedStar, SeriesRow, Tracked, Tracker, tracked_flags

# Frames of the picture that stars are marked in, and those that words are looked for in.
_MEAN_OF, _WORDS_IN = 64, 48
BLANK = "blank sky"
# Longer than this many steps is a gap; stamps that scatter by more than this share of a step were not made by the camera.
_GAP, _JITTER = 1.5, 0.3
# Frames on either side that tell whether a late stamp is followed by others.
_BESIDE = 15
# A tracking star that is measured in fewer of the frames than this is left out of the transparency.
_OFTEN = 0.5
# Frames compared for repetitions are the same in each of this many pixels, or to the last one.
_EVERY = 16


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


def film_words(film: Film) -> BoolArray | None:
    """Return which pixels lie under words that were burnt in, shape (height, width); None where there are none."""
    if film.full_adu is None:
        return None
    picked = np.unique(np.linspace(0, film.count - 1, _WORDS_IN).astype(int))
    if film.kind == "AVI":
        # Far frames of it are reached by decoding all before.
        picked = picked[picked < 10 * _WORDS_IN]
    frames = np.stack([film.read(int(k), int(k) + 1)[0] for k in picked]) if film.kind != "AVI" else _avi_sample(film)
    words = burnt_words(frames, film.full_adu)
    return words if words.any() else None


def _avi_sample(film: Film) -> np.ndarray:
    frames = film.read(0, min(film.count, 10 * _WORDS_IN))
    return frames[:: max(1, len(frames) // _WORDS_IN)]


def film_picture(film: Film, words: BoolArray | None = None) -> F32Array:
    """Return the mean of the first frames, which stars are marked in; NaN under words."""
    frames = film.read(0, min(film.count, _MEAN_OF))
    picture = frames.mean(axis=0, dtype=np.float64).astype(np.float32)
    if words is not None:
        picture[words] = np.nan
    return picture


def write_film_picture(path: Path, picture: F32Array) -> None:
    """Write the mean of a film's first frames as PNG, atomically, first row at the top as recorders show it; one that is there is replaced."""
    there = picture[np.isfinite(picture)]
    low, high = (float(v) for v in np.percentile(there, (20, 99.8)))
    grey = np.clip((np.nan_to_num(picture, nan=low) - low) / max(high - low, 1e-6), 0, 1)
    # Written pictures begin at the bottom.
    write_png(path, (255 * np.sqrt(grey)).astype(np.uint8)[::-1])


@dataclass(frozen=True)
class FilmLook:
    """What is known of a film before it is measured: mean of its first frames, words in it, width of its stars."""

    picture: F32Array
    words: BoolArray | None
    fwhm_px: float
    places: F64Array = field(default_factory=lambda: np.empty((0, 2)))


def look_at_film(film: Film) -> FilmLook:
    """Look at a film's first frames, and for burnt-in words all over it."""
    from ulvar.stars import find_stars

    words = film_words(film)
    picture = film_picture(film, words)
    mask = None if words is None else np.where(words, np.uint16(MaskBit.NO_DATA), np.uint16(0))
    found = find_stars(picture, mask=mask)
    fwhm = found.fwhm_px if math.isfinite(found.fwhm_px) and found.fwhm_px > 0 else 3.0
    return FilmLook(picture, words, fwhm, np.column_stack([found.stars.x, found.stars.y]))


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


def film_rows(series: FilmSeries) -> list[SeriesRow]:
    """Return the series table's rows, frame after frame.

    Without a known time `jd_utc` counts days since the first frame from 0.
    """
    result, rows = series.tracked.result, []
    n = len(series.stars)
    terms = result.terms
    for star_number, star in enumerate(series.stars):
        seconds = series.when(star_number)
        moments = (
            [datetime.fromtimestamp(0, UTC) + timedelta(seconds=float(s)) for s in seconds]
            if series.times.dated
            else None
        )
        jd = jd_from_utc(moments) if moments else seconds / 86400
        for k in range(len(seconds)):
            i = k * n + star_number
            rows.append(
                SeriesRow(
                    file=series.film.label(k), time_utc_mid=moments[k] if moments else None, jd_utc=float(jd[k]),
                    bjd_tdb=math.nan, name=star.name, role=star.role, x=float(series.tracked.x[k, star_number]),
                    y=float(series.tracked.y[k, star_number]), flux=float(result.flux[i]),
                    flux_error=float(result.flux_error[i]), sky=float(result.sky[i]), sky_error=float(result.sky_error[i]),
                    peak=float(result.peak[i]), fwhm_px=series.fwhm_px, airmass=math.nan,
                    flags=int(series.flags[k, star_number]), radius_px=series.radius_px, inner_px=series.inner_px,
                    outer_px=series.outer_px, noise_source=float(terms.source[i]), noise_sky=float(terms.sky[i]),
                    noise_read=float(terms.read[i]), noise_level=float(terms.level[i]), aperture=series.radius_px,
                )
            )  # fmt: skip
    rows.sort(key=lambda row: row.jd_utc)
    return rows


def time_occultation(
    series: FilmSeries, target: str | None = None, *, longest_s: float | None = None
) -> Occultation | Failed:
    """Time the occultation of a target; times are on the scale of the series' times [s]."""
    names = [star.name for star in series.stars if star.role == "target"]
    star = series.place(target or names[0])
    return fit_occultation(series.when(star), series.light(star), series.times.exposure_s, longest_s=longest_s)


def film_findings(series: FilmSeries) -> list[Finding]:
    """Return what is wrong with a film's times, frames and stars."""
    found = [notice("film_note", "About the film", note) for note in series.film.notes]
    times, count = series.times, len(series.doubled)
    if times.missing:
        lost = sum(n for _, n in times.missing)
        where = ", ".join(str(k) for k, _ in times.missing[:6]) + (" ..." if len(times.missing) > 6 else "")
        found.append(
            notice(
                "frames_missing", "Frames are missing",
                f"By their times {counted(lost, 'frame')} of {count + lost} were not recorded, in "
                f"{counted(len(times.missing), 'gap')} before frame {where}; the other times stay right.",
                evidence={"gaps": [list(gap) for gap in times.missing]},
            )
        )  # fmt: skip
    if times.still:
        found.append(
            notice(
                "frames_still", "Times stand still or run backwards",
                f"{counted(len(times.still), 'frame')} of {count} are stamped as the one before or earlier, the first is frame "
                f"{times.still[0]}: these times are wrong by a frame or more.",
            )
        )  # fmt: skip
    if times.jitter_s > _JITTER * times.step_s:
        found.append(
            notice(
                "frames_jitter", "Times scatter",
                f"The times of single frames scatter by {1000 * times.jitter_s:.3g} ms about even steps of "
                f"{1000 * times.step_s:.4g} ms: they were stamped by a computer, not by the camera.",
            )
        )  # fmt: skip
    repeated = int(series.doubled.sum())
    if repeated:
        runs = np.diff(np.flatnonzero(~series.doubled), append=count)
        even = np.median(runs) > 1
        found.append(
            notice(
                "frames_doubled", "Frames repeat the one before",
                f"{counted(repeated, 'frame')} of {count} are the same as the one before to the last pixel, the first is frame "
                f"{int(np.flatnonzero(series.doubled)[0])}; they count once."
                + (
                    f" Mostly {int(np.median(runs))} are alike: the camera adds up so many, and the exposure is that much longer "
                    "than a frame." if even else ""
                ),
            )
        )  # fmt: skip
    if not times.dated:
        found.append(
            notice(
                "frames_undated", "No frame has a time",
                "Times count from the first frame: give the time of the first (UTC) to date the event.",
            )
        )  # fmt: skip
    held = int(series.tracked.held.sum())
    if held:
        found.append(
            notice(
                "tracking_lost", "The tracking star was not seen",
                f"In {held} of {count} frames no tracking star stands out of the noise; the apertures stayed where they were.",
            )
        )  # fmt: skip
    return found
