"""Films in the background: opened, and measured."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ulvar.engine import Failed, JobContext, StopRequested, StopToken
from ulvar.flows import (
    FilmLook,
    FilmSeries,
    FilmTiming,
    look_at_film,
    measure_film,
    time_occultation,
)
from ulvar.frames import FILM_ENDINGS, Film, find_files, open_film
from ulvar.lightcurves import Occultation
from ulvar.photometry import ApertureOptions, ListedStar


@dataclass(frozen=True)
class OpenedFilm:
    """A film and what a first look tells."""

    film: Film
    look: FilmLook


@dataclass(frozen=True)
class MeasuredFilm:
    """Stars of a film in all frames, and the occultation, or why there is none."""

    series: FilmSeries
    event: Occultation | Failed


def open_and_look(paths: list[str]) -> OpenedFilm:
    """Open a film and take a first look.

    Raises
    ------
    FrameError
        If it cannot be read.
    """
    files = paths if len(paths) == 1 and Path(paths[0]).suffix.lower() in FILM_ENDINGS else find_files(paths)[0]
    film = open_film(files)
    return OpenedFilm(film, look_at_film(film))


def measure_and_time(
    film: Film, look: FilmLook, stars: list[ListedStar], timing: FilmTiming, aperture: ApertureOptions, gain: float | None,
    stop: StopToken,
) -> MeasuredFilm | Failed | None:  # fmt: skip
    """Measure a film and look for an occultation; None when it was stopped."""
    context = JobContext(stop=stop)
    try:
        done = measure_film(film, stars, context, timing=timing, aperture=aperture, look=look, gain_e_per_adu=gain)
    except StopRequested:
        return None
    return done if isinstance(done, Failed) else MeasuredFilm(done, time_occultation(done))
