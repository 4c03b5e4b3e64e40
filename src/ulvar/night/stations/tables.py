"""Tables that stations read back: each is looked over before its numbers are used."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import Protocol

from ulvar.engine import JobContext
from ulvar.flows import Series
from ulvar.flows.starfind import read_stars
from ulvar.frames import FrameError
from ulvar.inspection import notice
from ulvar.night.checking import refuse_silent_change
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.shared import StationResult, finish, series_path, star_table_path
from ulvar.photometry import SeriesTable, StarListError, read_series
from ulvar.stars import StarTable


class _Runner(Protocol):
    """A station's work on a series, by default the current one."""

    def __call__(self, night: Night, context: JobContext, series: Series | None = None, /) -> StationResult: ...


def star_table(night: Night, score: Product) -> StarTable:
    """Return the stars that were found when an exposure was scored.

    Raises
    ------
    FrameError
        If their table is gone, damaged, or not the one that was written.
    """
    path = star_table_path(night, score)
    refuse_silent_change(night, path)
    stars = read_stars(path)
    if len(stars) != score.values.get("stars", len(stars)):
        raise FrameError(str(path), f"it lists {len(stars)} stars, of {score.values['stars']} that were found")
    return stars


def series_table(night: Night, series: Series) -> SeriesTable:
    """Return the measurements of a series.

    Raises
    ------
    FrameError
        If their table is gone, damaged, or not the one that was written.
    """
    path = series_path(night, series)
    refuse_silent_change(night, path)
    try:
        return read_series(path)
    except StarListError as error:
        raise FrameError(str(path), str(error).removeprefix(f"{path}").lstrip(":, ")) from None


def naming_damage(station: str) -> Callable[[_Runner], _Runner]:
    """Return a decorator of a station's work on a series: a product that cannot be used ends it in a finding with its name."""

    def decorated(work: _Runner) -> _Runner:
        @wraps(work)
        def run(night: Night, context: JobContext, series: Series | None = None, /) -> StationResult:
            try:
                return work(night, context, series)
            except FrameError as error:
                name, chosen = Path(error.path).name, series or night.current_series()
                told = f"{name}: {error.reason}. It is made anew by the station before, or by: ulvar check {night.folder} --again"
                kept = [f for f in night.findings(station, chosen.key if chosen else "") if f.code != "damaged"]
                finding = notice("damaged", "A product is damaged", told, station=station)
                result = StationResult(station, f"{name} cannot be used", problem=f"{name}: {error.reason}")
                return finish(night, result, [*kept, finding], chosen)

        return run

    return decorated
