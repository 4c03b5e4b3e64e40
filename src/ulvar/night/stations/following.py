"""Following a night while it is taken: each new exposure is calibrated, scored, solved, measured, and joins the light curve."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

from ulvar.engine import JobContext, StopRequested, counted
from ulvar.flows import Arrivals, Series
from ulvar.frames import ExposureFacts, Role, file_of
from ulvar.night.project import Night
from ulvar.night.stations.calibrate import run_calibrate
from ulvar.night.stations.combine import run_score
from ulvar.night.stations.intake import run_intake
from ulvar.night.stations.masters import run_masters
from ulvar.night.stations.measure import run_curve, run_measure
from ulvar.night.stations.plate import run_plate
from ulvar.night.stations.shared import StationResult

# The folder is looked into so often, and a wish to stop so often [s].
_EVERY_S, _GLANCE_S = 1.0, 0.1
_CALIBRATION = (Role.BIAS, Role.DARK, Role.FLAT, Role.DARK_FLAT)


def run_follow(
    night: Night,
    context: JobContext,
    told: Callable[[StationResult | None], object] = lambda result: None,
    *,
    every_s: float = _EVERY_S,
    over: Callable[[int, float], bool] = lambda taken, idle_s: False,
) -> StationResult:
    """Take up exposures of the night's folder as they arrive, until a stop is asked for.

    What is there already is brought up to date first. Stations do only what is new: products of before are kept.

    Parameters
    ----------
    night : Night
    context : JobContext
    told : callable
        Given the result of each station, and None when all are done for the time being.
    every_s : float
        The folder is looked into so often [s].
    over : callable
        Told how many exposures were taken up, and how long nothing came [s]; true ends it.
    """
    folder = next((path for path in night.raw_paths if path.is_dir()), None)
    if folder is None:
        return StationResult(
            "curve", "nothing to follow", problem="The night is of single files: there is no folder to follow."
        )
    arrivals = Arrivals(folder, night.folder)
    taken = failed = 0
    last = time.monotonic()
    try:
        taken = _bring_up(night, context, None, told)
        _know(arrivals, night)
        while not context.stop.stopping:
            came, lost = arrivals.poll()
            failed += len(lost)
            if came:
                taken += _bring_up(night, context, came, told)
                _know(arrivals, night)
            if came or lost:
                last = time.monotonic()
            if over(taken, time.monotonic() - last):
                break
            context.progress(0, 0, f"Following {folder.name}: {_stands(night)}. Esc ends it.")
            _wait(context, every_s)
    except StopRequested:
        # A stop is the usual end; a station that was at work goes on from there the next time.
        pass
    return StationResult("curve", f"Followed {folder.name}: {_stands(night)}", taken, failed)


def _know(arrivals: Arrivals, night: Night) -> None:
    """Let the files of the night not arrive again; what could not be read may only not be complete yet."""
    arrivals.know(file_of(facts.path) for facts in night.exposures)


def _wait(context: JobContext, seconds: float) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end and not context.stop.stopping:
        time.sleep(_GLANCE_S)


def _bring_up(
    night: Night,
    context: JobContext,
    came: list[ExposureFacts] | None,
    told: Callable[[StationResult | None], object],
) -> int:
    """Run the stations for what came (None: for all that is there); returns how many lights that was."""
    told(run_intake(night, context))
    frames = {f.path for f in came} if came is not None else None
    roles = {f.role for f in night.exposures if frames is None or f.path in frames}
    if roles & set(_CALIBRATION):
        told(run_masters(night, context))
    if night.products_of("calibrated"):
        told(run_calibrate(night, context))
    touched = [one for one in night.series() if frames is None or frames & set(one.files)]
    for series in touched:
        for result in _of_series(night, context, series):
            told(result)
    told(None)
    lights = [f for f in night.lights() if frames is None or f.path in frames]
    return len(lights)


def _of_series(night: Night, context: JobContext, series: Series) -> Iterator[StationResult]:
    """Run what a series needs up to its light curve, yielding what each station did; without a target it ends with the scores."""
    # On another reference all would lie otherwise, and be measured anew.
    yield run_score(night, context, series, anew=False)
    if night.settings.plate.catalogue:
        yield run_plate(night, context, series)
    if any(star.role == "target" for star in night.stars(series)):
        measured = run_measure(night, context, series)
        yield measured
        if not measured.problem:
            yield run_curve(night, context, series)


def _stands(night: Night) -> str:
    """Return how the light curve of the current series stands, in words."""
    series = night.current_series()
    if series is None:
        return "no light yet"
    words = counted(len(series.files), "exposure")
    product = night.products_of("curve", series.key).get(series.key)
    if product is None:
        return f"{words}, no light curve yet"
    points, rms = product.values.get("points", 0), product.values.get("rms")
    scatter = f", scatter {1000 * float(rms):.1f} mmag" if rms is not None else ""
    return f"{words}, {counted(int(points), 'point')} of {product.values.get('target', 'the target')}{scatter}"
