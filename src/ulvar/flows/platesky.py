"""Catalogues as plates need them: what exposures are hinted at, the stars there, and the rest of the sky."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry import (
    ANY_SCALE,
    CatalogueError,
    Sky,
    SolveHints,
    StarCatalogue,
    WholeSky,
    build_index,
    index_catalogue,
    load_catalogue,
)
from ulvar.engine import JobContext, files_in, place_words
from ulvar.frames import ExposureFacts, fingerprint
from ulvar.lightcurves import julian_year


@dataclass(frozen=True)
class PlateOptions:
    """Hints; None means: from the header, else unknown."""

    at: tuple[float, float] | None = None
    radius_deg: float = 1.0
    scale: tuple[float, float] | None = None
    again: bool = False
    blind: bool = False
    seconds: float = 10.0

    @property
    def stamped(self) -> list[object]:
        """What a solution depends on."""
        told: list[object] = [self.at, self.radius_deg, self.scale]
        return [*told, "blind"] if self.blind else told


def hints_for(facts: ExposureFacts, options: PlateOptions) -> SolveHints:
    """Return what is known of an exposure: options first, then, unless it is to be solved blindly, its header."""
    at = options.at
    firm = True
    if at is None and not options.blind and facts.ra_deg is not None and facts.dec_deg is not None:
        at = facts.ra_deg, facts.dec_deg
    if options.scale is not None:
        low, high = options.scale
    elif facts.scale_arcsec_px and not options.blind:
        # Binning is counted twice in some headers, and focal lengths are rounded.
        low, high, firm = 0.8 * facts.scale_arcsec_px, 1.25 * facts.scale_arcsec_px, False
    else:
        low, high = ANY_SCALE
    epoch = julian_year(facts.mid_utc) if facts.mid_utc is not None else 2016.0
    ra, dec = at or (None, None)
    return SolveHints(ra, dec, options.radius_deg, low, high, epoch, options.seconds, firm)


def pixel_aspect(header: Mapping[str, Any]) -> float:
    """Return the height of a pixel over its width, by the sizes or else the binnings that a header tells; 1 where it tells none."""
    for across, down in (("XPIXSZ", "YPIXSZ"), ("XBINNING", "YBINNING")):
        try:
            ratio = float(header[down]) / float(header[across])
        except (KeyError, TypeError, ValueError, ZeroDivisionError):
            continue
        if ratio != 1.0 and 0.2 <= ratio <= 5.0:
            return ratio
    return 1.0


def open_catalogue(
    path: str, exposures: Sequence[ExposureFacts], options: PlateOptions, context: JobContext
) -> tuple[StarCatalogue, WholeSky | None]:
    """Read what exposures need of a catalogue, and have the rest of the sky at hand where they may be anywhere.

    A folder of tiles is indexed, once, where an exposure has no hint, or no tile is where the hints point.

    Returns
    -------
    catalogue : StarCatalogue
        A table's stars, or those of the tiles where hints point.
    whole : WholeSky, optional
        None where the catalogue is all that there is.

    Raises
    ------
    CatalogueError
        If the catalogue cannot be used.
    """
    if not Path(path).is_dir():
        catalogue = load_catalogue(path)
        return catalogue, None if len(catalogue) < _LARGE else WholeSky.of(path)
    cones = [] if options.blind else [c for c in (hinted_cone(facts, options) for facts in exposures) if c is not None]
    near, whole = StarCatalogue.empty(), WholeSky.of(path)
    if cones:
        try:
            near = load_catalogue(path, near=_rounded(cones))
        except CatalogueError:
            if not files_in(Path(path), "*.parquet"):
                raise
    indexed = whole.indexed
    if not indexed and (not len(near) or len(cones) < len(exposures)):
        try:
            index_catalogue(path, threads=context.workers, progress=context.progress, stop=context.stop)
        except OSError as error:
            raise CatalogueError(f"{path}: its index cannot be kept: {place_words(error)}") from error
        indexed = True
    return near, whole if indexed else None


def catalogue_print(catalogue: StarCatalogue) -> str:
    """Return a fingerprint of a catalogue's stars."""
    return fingerprint(len(catalogue), float(catalogue.ra.sum()), float(catalogue.dec.sum()))


# A catalogue of so many stars travels to the workers in parts.
_LARGE = 50_000


def hinted_cone(facts: ExposureFacts, options: PlateOptions) -> tuple[float, float, float] | None:
    """Return the part of the sky (RA, Dec, radius) [deg] that an exposure's hint can reach; None where it has none."""
    reach = max(5.0, 3 * options.radius_deg)
    scale = options.scale[1] if options.scale is not None else 1.25 * (facts.scale_arcsec_px or 0.0)
    # Of a wide field stars are wanted out to its corners.
    half_deg = math.degrees(math.atan(math.radians(0.5 * math.hypot(facts.width, facts.height) * scale / 3600)))
    reach = max(reach, options.radius_deg + 1.2 * half_deg)
    if options.at is not None:
        return *options.at, reach
    if options.blind:
        return None
    if facts.ra_deg is None or facts.dec_deg is None:
        return None
    return facts.ra_deg, facts.dec_deg, reach


def hinted_cones(exposures: Sequence[ExposureFacts], options: PlateOptions) -> list[tuple[float, float, float]] | None:
    """Return the parts of the sky that a catalogue is needed of; None where an exposure could be anywhere."""
    cones = [hinted_cone(facts, options) for facts in exposures]
    known = [cone for cone in cones if cone is not None]
    return _rounded(known) if len(known) == len(cones) else None


def _rounded(cones: Sequence[tuple[float, float, float]]) -> list[tuple[float, float, float]]:
    """Return fewer cones that hold them: pointings within a degree are one, a degree wider."""
    return list({(round(ra), round(dec)): (round(ra), round(dec), reach + 1.0) for ra, dec, reach in cones}.values())


def check_catalogue(path: str, exposures: Sequence[ExposureFacts], options: PlateOptions | None = None) -> str:
    """Return why a catalogue cannot serve exposures, in a sentence; empty when it can.

    It is none, has no positions, or has no star near where the headers say that the exposures point.
    """
    settings = options or PlateOptions()
    cones = hinted_cones(exposures, settings)
    try:
        catalogue = load_catalogue(path, near=cones)
    except (CatalogueError, OSError) as error:
        return f"{error}."
    if not cones or any(len(catalogue.cone(*cone)) for cone in cones):
        return ""
    ra, dec = float(np.median(catalogue.ra)), float(np.median(catalogue.dec))
    facts = exposures[0]
    return (
        f"{Path(path).name}: its {len(catalogue)} stars lie about RA {ra:.1f}° Dec {dec:+.1f}°, but the exposures point at "
        f"RA {facts.ra_deg:.1f}° Dec {facts.dec_deg:+.1f}°. If the headers are wrong, correct the pointing in Facts."
    )


def near_hint(catalogue: StarCatalogue, cone: tuple[float, float, float] | None) -> StarCatalogue:
    """Cut a large catalogue down to what a hint can reach, so that little travels to the worker."""
    slim = replace(catalogue, bands={})
    if cone is None or len(catalogue) < _LARGE:
        return slim
    near = slim.cone(*cone)
    return near if len(near) > 100 else slim


# What a worker made of catalogues, the latest last; frames of a series come one after the other.
_SKIES: dict[tuple[object, ...], Sky] = {}
_KEPT_SKIES = 3
# The index of a whole catalogue serves fields of this size and larger.
SMALL_FIELD_DEG = 10 / 60


def _kept(key: tuple[object, ...], make: Callable[[], Sky]) -> Sky:
    if key not in _SKIES:
        while len(_SKIES) >= _KEPT_SKIES:
            del _SKIES[next(iter(_SKIES))]
        _SKIES[key] = make()
    return _SKIES[key]


def all_of(stamp: str, catalogue: StarCatalogue) -> Sky:
    return _kept((stamp, len(catalogue)), lambda: Sky(catalogue.cone, build_index(catalogue)))


def sky_near(stamp: str, catalogue: StarCatalogue, shape: tuple[int, int], hints: SolveHints) -> Sky:
    """Return the stars that exposures about a place can show, indexed once for all that point there within a tenth of the radius."""
    assert hints.ra is not None and hints.dec is not None
    step = max(0.1 * hints.radius_deg, 1e-3)
    dec = round(hints.dec / step) * step
    across = step / max(math.cos(math.radians(dec)), 1e-3)
    place = round(hints.ra / across) * across, max(-90.0, min(90.0, dec)), hints.radius_deg + 1.5 * step
    key = stamp, place, shape, round(math.log(hints.scale_low), 2), round(math.log(hints.scale_high), 2)
    return _kept(key, lambda: Sky.near(catalogue, place, shape, hints))
