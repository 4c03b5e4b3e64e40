"""Before and beside measuring, at Measure: apertures tried, comparison stars judged, the whole field searched for what varies."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import CatalogueError
from ulvar.engine import JobContext, counted
from ulvar.flows import (
    MeasureOptions,
    Series,
    catalogue_tells,
    measure_field,
    measure_growths,
    typical_exposures,
    write_field,
)
from ulvar.night.products import Product
from ulvar.night.project import Night
from ulvar.night.stations.known import SeriesKnown, what_is_known
from ulvar.night.stations.shared import StationResult, no_series, number_of, series_file
from ulvar.night.stations.tables import naming_damage
from ulvar.night.working import one_at_a_time
from ulvar.photometry import (
    ApertureProposal,
    Candidate,
    FieldSearch,
    FieldStar,
    Growth,
    Look,
    NoiseModel,
    SeriesTable,
    Verdict,
    judge_candidates,
    judge_field,
    propose_aperture,
)

GROWTH, FIELD = "growth", "field"
# Star tables of so many exposures are looked through for candidates: the sharpest, the first and last, and others between.
_MOST_LOOKS = 80


@one_at_a_time
@naming_damage("measure")
def run_growth(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Try apertures on the target in the best, a typical and the worst seeing of a series."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "measure")
    targets = [star for star in night.stars(series) if star.role == "target"]
    if not targets:
        problem = "no target: click it in the picture, or give its place on the sky"
        return StationResult("measure", problem, problem=problem)
    known = what_is_known(night, series)
    by_path = known.by_path()
    chosen = typical_exposures({p: w for p, w in by_path["fwhm"].items() if known.raw_of[p] not in night.left_out})
    facts = {f.path: f for f in known.ready.facts.values()}
    growths, outcomes = measure_growths(
        [facts[path] for path in chosen], targets[:1], context, reference=known.reference, **by_path
    )
    bad = [o for o in outcomes if not o.ok]
    raw_by_name = known.raw_by_name
    products = [Product(GROWTH, raw_by_name[g.file], "", growth_values(g)) for g in growths]
    night.store_products(GROWTH, products, series=series.key, clear=True)
    if not growths:
        problem = f"no aperture was tried: {bad[0].reason}" if bad else "score the exposures first"
        return StationResult("measure", problem, failed=len(bad), problem=problem)
    proposal = propose_aperture(growths)
    text = f"{proposal.radius_fwhm:g} FWHM is proposed, tried in {counted(len(growths), 'exposure')}"
    return StationResult("measure", text, len(growths), len(bad))


def growth_values(growth: Growth) -> dict[str, Any]:
    """Return what a growth curve holds as plain values."""
    return {name: v.tolist() if isinstance(v, np.ndarray) else v for name, v in vars(growth).items()}


def growths_of(night: Night, series: Series) -> dict[str, Growth]:
    """Return raw path to the growth of light there, the sharpest exposure first."""
    found = {}
    for raw, product in night.products_of(GROWTH, series.key).items():
        v = product.values
        arrays = {name: np.array([number_of(x) for x in v[name]]) for name in ("radius_px", "share", "snr")}
        neighbour = v["neighbour_px"]
        found[raw] = Growth(
            str(v["file"]), number_of(v["fwhm_px"]), neighbour_px=np.inf if neighbour is None else float(neighbour), **arrays,
        )  # fmt: skip
    return dict(sorted(found.items(), key=lambda one: one[1].fwhm_px))


def proposal_of(growths: Mapping[str, Growth]) -> ApertureProposal | None:
    """Return the aperture that growth curves speak for."""
    return propose_aperture(list(growths.values())) if growths else None


@one_at_a_time
@naming_damage("measure")
def run_field(night: Night, context: JobContext, series: Series | None = None) -> StationResult:
    """Measure every star of the field in every exposure of a series, and name those that vary."""
    series = series or night.current_series()
    if series is None:
        return no_series(night, "measure")
    known = what_is_known(night, series)
    if known.reference is None:
        problem = "score the exposures first: it finds the stars"
        return StationResult("measure", problem, problem=problem)
    settings = night.settings.measure
    aperture = settings.aperture.alone(settings.radius)
    try:
        rows, outcomes, stars = measure_field(
            list(known.ready.facts.values()), context, known.reference, options=MeasureOptions(aperture, settings.centre),
            **known.by_path(),
        )  # fmt: skip
    except ValueError as error:
        return StationResult("measure", str(error), problem=str(error))
    bad = [o for o in outcomes if not o.ok]
    gone, raw_by_name = night.left_out, known.raw_by_name
    out = {name for name, raw in raw_by_name.items() if raw in gone}
    try:
        search = judge_field(SeriesTable(rows), files_out=out)
    except ValueError as error:
        reason = bad[0].reason if bad and not rows else str(error)
        return StationResult("measure", reason, failed=len(bad), problem=reason)
    path = series_file(night, series, "field.csv")
    path.parent.mkdir(parents=True, exist_ok=True)
    write_field(path, search, stars, known.reference.wcs, replace=True)
    at = {star.name: (star.x, star.y) for star in stars}
    values = {
        "noise": asdict(search.noise), "exposures": search.exposures,
        "stars": [[*asdict(s.verdict).values(), *at[s.verdict.name], s.measured, s.blended] for s in search.stars],
    }  # fmt: skip
    night.store_products(FIELD, [Product(FIELD, series.key, str(path), values)], series=series.key, clear=True)
    text = f"{counted(len(search.stars), 'star')} judged in {counted(search.exposures, 'exposure')}, {len(search.variables)} vary"
    return StationResult("measure", text, search.exposures, len(bad))


def field_of(night: Night, series: Series) -> FieldSearch | None:
    """Return the search of a series' field, with places in the exposure that listed places are in; None where there is none."""
    product = night.products_of(FIELD, series.key).get(series.key)
    if product is None:
        return None
    stars = []
    columns = [f.name for f in fields(Verdict)]
    for values in product.values["stars"]:
        if len(values) != len(columns) + 4:
            # Of another version: it is searched anew.
            return None
        told: dict[str, Any] = {
            n: v if n == "name" else bool(v) if n == "varies" else number_of(v) for n, v in zip(columns, values)
        }
        verdict = Verdict(**told)
        x, y, measured, blended = values[len(columns) :]
        stars.append(FieldStar(verdict, number_of(x), number_of(y), int(measured), bool(blended)))
    noise = NoiseModel(**{name: number_of(v) for name, v in product.values["noise"].items()})
    return FieldSearch(tuple(stars), noise, int(product.values["exposures"]))


@dataclass(frozen=True)
class Candidates:
    """Candidates for comparison stars, with places in the exposure that listed places are in.

    Attributes
    ----------
    found : tuple of Candidate
        The best first.
    looks : int
        Exposures that were looked through.
    colour : str
        Name of the colour index; empty where none is known.
    problem : str
        Why there is none.
    """

    found: tuple[Candidate, ...] = ()
    looks: int = 0
    colour: str = ""
    problem: str = ""


def find_candidates(night: Night, series: Series) -> Candidates:
    """Judge all stars of a series' field as comparison stars for its target.

    Raises
    ------
    FrameError
        If a star table is damaged.
    """
    targets = [star for star in night.stars(series) if star.role == "target" and not star.track]
    if not targets:
        return Candidates(problem="Click the target in the picture first; comparison stars are chosen to suit it.")
    known = what_is_known(night, series)
    if known.reference is None:
        return Candidates(problem="Score the exposures first (Combine): it finds the stars.")
    origin, reference = known.inputs.get(known.origin), known.reference.stars
    wcs = known.plates.get(known.origin)
    target = targets[0]
    if target.ra is not None and target.dec is not None:
        if wcs is None:
            return Candidates(problem="Solve the plates first: the target is given by its place on the sky.")
        x, y = (float(v) for v in wcs.pixel(target.ra, target.dec))
    else:
        x, y = target.x or 0.0, target.y or 0.0
    fwhm = origin.fwhm_px if origin is not None else 3.0
    found_as = reference.nearest(x, y, max(fwhm, 3.0))
    if found_as is None:
        return Candidates(problem="The target was not found among the stars of the reference exposure.")
    looks = _looks(night, known)
    colour = variable = None
    name = ""
    path = night.settings.plate.catalogue
    if path and wcs is not None and origin is not None:
        try:
            colour, variable, name = catalogue_tells(Path(path), origin.facts, wcs, reference)
        except (CatalogueError, OSError, ValueError):
            # Without it there is no colour; Plate tells what is wrong with the catalogue.
            colour = variable = None
    found = judge_candidates(reference, found_as, looks, fwhm_px=fwhm, colour=colour, variable=variable)
    return Candidates(tuple(found), len(looks), name)


def _looks(night: Night, known: SeriesKnown) -> list[Look]:
    """Return where the reference's stars are in the exposures that tell most."""
    assert known.reference is not None
    gone = night.left_out
    there = [
        k for raw, k in known.inputs.items() if raw not in gone and k.detected is not None and k.transform is not None
    ]
    if len(there) > _MOST_LOOKS:
        # Stars are brightest in sharp exposures, and leave the frame towards the ends of the night.
        sharp = sorted(range(len(there)), key=lambda i: there[i].fwhm_px)[: _MOST_LOOKS // 4]
        even = np.linspace(0, len(there) - 1, _MOST_LOOKS - len(sharp)).round().astype(int).tolist()
        there = [there[i] for i in sorted({*sharp, *even})]
    looks = []
    for k in there:
        assert k.transform is not None and k.detected is not None
        x, y = k.transform.inverse()(known.reference.stars.x, known.reference.stars.y)
        looks.append(Look(x, y, k.facts.width, k.facts.height, k.detected, k.fwhm_px))
    return looks
