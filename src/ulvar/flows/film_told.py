"""What came of a film: rows of the series table, an occultation in words, findings."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta

import numpy as np

from ulvar.engine import counted, true_minus
from ulvar.flows.fast import FilmSeries
from ulvar.inspection import Finding, notice
from ulvar.lightcurves import Occultation, jd_from_utc
from ulvar.photometry import SeriesRow

# Stamps that scatter by more than this share of a step were not made by the camera.
_JITTER = 0.3


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


def occultation_words(event: Occultation, *, dated: bool) -> list[str]:
    """Return what came of an occultation in words: its times, and what was left of the light."""
    share, error = event.low / event.level, event.low_error / event.level
    return [
        f"The light went at {frame_time(event.out_s, dated=dated)} ± {event.out_error_s:.4f} s, and came at "
        f"{frame_time(event.back_s, dated=dated)} ± {event.back_error_s:.4f} s: after {event.duration_s:.4f} ± "
        f"{event.duration_error_s:.4f} s.",
        f"{_signed(100 * share)} ± {100 * error:.1f} % of the light was left. Depth over error {event.snr:.1f}; noise alone makes such a dip "
        + ("hardly ever." if event.chance < 1e-9 else f"in {event.chance:.1g} of such series."),
    ]


def _signed(value: float) -> str:
    return true_minus(f"{value:.1f}")


def frame_time(seconds: float, *, dated: bool) -> str:
    """Return a time of a frame: UTC to a tenth of a millisecond, or seconds since the first frame."""
    if not dated:
        return f"{seconds:.4f} s"
    return (datetime.fromtimestamp(0, UTC) + timedelta(seconds=seconds)).strftime("%Y-%m-%dT%H:%M:%S.%f")[:-2]


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
