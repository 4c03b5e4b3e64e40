"""Measuring on the sky, at Plate: a pair of stars and moving bodies in every exposure of a series."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime
from typing import Any

import numpy as np

from ulvar.astrometry import Separation
from ulvar.engine import JobContext, counted
from ulvar.flows import (
    Outcome,
    PairRow,
    PositionRow,
    Series,
    measure_pairs,
    measure_positions,
    read_bodies,
    told_off,
    with_residuals,
)
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.known import what_is_known
from ulvar.night.stations.shared import StationResult, no_series, number_of
from ulvar.night.stations.tables import naming_damage
from ulvar.night.working import one_at_a_time
from ulvar.photometry import StarListError
from ulvar.stars import PairFit, StarFit

PAIR, BODY = "pair_row", "body_row"


@one_at_a_time
@naming_damage("plate")
def run_pair(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Measure the pair of stars that the user named in every exposure of a series."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "plate")
    pair = night.settings.plate.pair
    if pair is None:
        problem = "no pair: draw a line from star to star with the distance tool"
        return StationResult("plate", problem, problem=problem)
    known = what_is_known(night, series)
    rows, outcomes = measure_pairs(
        list(known.ready.facts.values()), (pair.first.listed, pair.second.listed), context, reference=known.reference,
        **known.by_path(),
    )  # fmt: skip
    raw_by_name, of = known.raw_by_name, pair.model_dump(mode="json")
    products = [Product(PAIR, raw_by_name[row.file], "", {**pair_values(row), "of": of}) for row in rows]
    night.store_products(PAIR, products, series=series.key, clear=True)
    return _told(["the pair"], len(outcomes), outcomes, len(rows))


def _told(whats: Sequence[str], exposures: int, outcomes: list[Outcome], done: int) -> StationResult:
    """Return what came of measuring in each exposure, in words; of several things how many of their places were."""
    what, were, place = whats[0], "was", f"in {done} of {counted(exposures, 'exposure')}"
    if len(whats) > 1:
        what, were = f"{len(whats)} moving bodies", "were"
        place = f"at {done} of {len(outcomes)} places in {counted(exposures, 'exposure')}"
    bad = [o for o in outcomes if not o.ok]
    text = f"{what} measured {place}" + (f"; {bad[0].reason}" if bad else "")
    problem = (
        "" if done else f"{what} {were} not measured: {bad[0].reason}" if bad else "there is no exposure to measure"
    )
    return StationResult("plate", text, done, len(bad), problem)


@one_at_a_time
@naming_damage("plate")
def run_bodies(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Measure the moving bodies of the night's table in every solved exposure of a series."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "plate")
    settings = night.settings.plate
    if not settings.bodies:
        problem = "no moving bodies: choose their table at the right"
        return StationResult("plate", problem, problem=problem)
    known = what_is_known(night, series)
    exposures = list(known.ready.facts.values())
    try:
        bodies = read_bodies(settings.bodies, exposures)
    except StarListError as error:
        return StationResult("plate", str(error), problem=str(error))
    told = {k: v for k, v in known.by_path().items() if k != "transforms"}
    raw_by_name = known.raw_by_name
    products: list[Product] = []
    outcomes: list[Outcome] = []
    for body in bodies:
        rows, of_body = measure_positions(exposures, body, context, radius_arcsec=settings.body_radius_arcsec, **told)
        outcomes += of_body
        # One exposure shows several bodies: each has a row of its own.
        products += [
            Product(BODY, f"{raw_by_name[row.file]}\n{body.name}", "", {**body_values(row), "of": settings.bodies})
            for row in rows
        ]
    night.store_products(BODY, products, series=series.key, clear=True)
    return _told([body.name for body in bodies], len(exposures), outcomes, len(products))


# ---- rows as they are stored


def pair_values(row: PairRow) -> dict[str, Any]:
    """Return a row of the pair as plain values."""
    fit, sky = row.fit, row.sky
    return {
        "file": row.file, "time": _time_text(row.time_utc_mid), "x": fit.x.tolist(), "y": fit.y.tolist(), "flux": fit.flux.tolist(),
        "covariance": fit.covariance.tolist(), "chi2": fit.chi2, "fwhm_px": fit.fwhm_px, "saturated": fit.saturated,
        "own_profile": fit.own_profile, "sky": None if sky is None else asdict(sky),
    }  # fmt: skip


def pair_again(values: dict[str, Any]) -> PairRow:
    """Return the row of `pair_values`."""
    x, y, flux, covariance = (np.array(values[name], dtype=np.float64) for name in ("x", "y", "flux", "covariance"))
    fit = PairFit(
        x, y, flux, covariance, number_of(values["chi2"]), number_of(values["fwhm_px"]), bool(values["saturated"]),
        bool(values["own_profile"]),
    )  # fmt: skip
    sky = values["sky"]
    separation = None if sky is None else Separation(**{name: number_of(value) for name, value in sky.items()})
    return PairRow(str(values["file"]), _time_of(values["time"]), fit, separation)


def pair_rows(night: Night, series: Series) -> dict[str, PairRow]:
    """Return raw path to the pair there, in the order of time; those that stand off are marked, exposures left out since left away."""
    pair = night.settings.plate.pair
    # Rows of another pair than the one that is named now come back with it.
    found = _kept(night, PAIR, series, None if pair is None else pair.model_dump(mode="json"))
    rows = [(raw, pair_again(values)) for raw, values in found.items()]
    rows.sort(key=lambda one: (_seconds(one[1].time_utc_mid), one[0]))
    return dict(zip([raw for raw, _ in rows], told_off([row for _, row in rows])))


def body_values(row: PositionRow) -> dict[str, Any]:
    """Return a row of a body as plain values."""
    fit = row.fit
    return {
        "file": row.file, "name": row.name, "time": _time_text(row.time_utc_mid), "ra": row.ra, "dec": row.dec,
        "error": list(row.error), "off": list(row.off), "x": fit.x, "y": fit.y, "flux": fit.flux,
        "covariance": fit.covariance.tolist(), "chi2": fit.chi2, "fwhm_px": fit.fwhm_px, "saturated": fit.saturated,
        "own_profile": fit.own_profile,
    }  # fmt: skip


def body_again(values: dict[str, Any]) -> PositionRow:
    """Return the row of `body_values`."""
    when = _time_of(values["time"])
    assert when is not None
    x, y, flux, chi2, fwhm = (number_of(values[name]) for name in ("x", "y", "flux", "chi2", "fwhm_px"))
    covariance = np.array(values["covariance"], dtype=np.float64)
    fit = StarFit(x, y, flux, covariance, chi2, fwhm, bool(values["saturated"]), bool(values["own_profile"]))
    (error_ra, error_dec), (off_ra, off_dec) = ([number_of(v) for v in values[name]] for name in ("error", "off"))
    return PositionRow(
        str(values["file"]), str(values["name"]), when, fit, number_of(values["ra"]), number_of(values["dec"]),
        (error_ra, error_dec), (off_ra, off_dec),
    )  # fmt: skip


def body_rows(night: Night, series: Series) -> dict[str, dict[str, PositionRow]]:
    """Return name of each body to raw path to its place there, in the order of time, with what is left from a smooth way."""
    each: dict[str, list[tuple[str, PositionRow]]] = {}
    for source, values in _kept(night, BODY, series, night.settings.plate.bodies).items():
        row = body_again(values)
        each.setdefault(row.name, []).append((source.partition("\n")[0], row))
    result = {}
    for name, rows in each.items():
        rows.sort(key=lambda one: (one[1].time_utc_mid, one[0]))
        marked, _ = with_residuals([row for _, row in rows])
        result[name] = dict(zip([raw for raw, _ in rows], marked))
    return result


def _kept(night: Night, kind: str, series: Series, of: object) -> dict[str, dict[str, Any]]:
    gone = night.left_out
    found = night.products_of(kind, series.key).items()
    return {
        source: product.values
        for source, product in found
        if product.values.get("of") == of and source.partition("\n")[0] not in gone
    }


def _time_text(when: datetime | None) -> str | None:
    return None if when is None else when.isoformat()


def _time_of(text: str | None) -> datetime | None:
    return None if text is None else datetime.fromisoformat(text)


def _seconds(when: datetime | None) -> float:
    return float("inf") if when is None else when.timestamp()
