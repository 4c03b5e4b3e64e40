"""Plate solution from a hinted position and a range of scales."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ulvar.astrometry.catalogue import StarCatalogue
from ulvar.astrometry.sphere import offset_position, separation_deg, tangent_plane
from ulvar.astrometry.wcs import Wcs, fit_wcs
from ulvar.engine import F64Array, Failed
from ulvar.registration import MatchOptions, match_stars


@dataclass(frozen=True)
class SolveHints:
    """What is known beforehand.

    Attributes
    ----------
    ra, dec : float or None
        Position to start from [deg]; the catalogue's middle when None.
    radius_deg : float
        The position may be this far off; farther places follow if the catalogue covers them.
    scale_low, scale_high : float
        Range of pixel scales [arcsec/px].
    epoch : float
        Julian year of the exposure.
    """

    ra: float | None
    dec: float | None
    radius_deg: float
    scale_low: float
    scale_high: float
    epoch: float = 2016.0


@dataclass(frozen=True)
class PlateSolution:
    """A plate solution and how good it is.

    Attributes
    ----------
    wcs : Wcs
    matched : int
        Stars that the fit kept.
    rms_arcsec : float
        Root mean square residual per axis of those stars [arcsec].
    order : int
        1 for TAN, 2 or more with SIP of that order.
    x, y, dx, dy : float64 array, shape (matched,)
        Star positions and residuals, catalogue minus measured [px].
    """

    wcs: Wcs
    matched: int
    rms_arcsec: float
    order: int
    x: F64Array
    y: F64Array
    dx: F64Array
    dy: F64Array


_SKY_STEP = 0.55
_MOST_PLACES = 200


def _places(hints: SolveHints, catalogue: StarCatalogue, field_deg: float) -> list[tuple[float, float]]:
    """Return places to try: rings around the hint out to its radius, then the rest of the catalogue, near to far."""
    from scipy.spatial import cKDTree

    step = _SKY_STEP * field_deg
    vectors = _unit(catalogue.ra, catalogue.dec)
    places: list[tuple[float, float]] = []
    hinted = hints.ra is not None and hints.dec is not None
    if hinted:
        ra0, dec0 = float(hints.ra or 0.0), float(hints.dec or 0.0)
        tree = cKDTree(vectors)
        chord = 2 * math.sin(math.radians(min(field_deg, 60.0) / 2))
        for ring in range(math.ceil(min(hints.radius_deg, 30.0) / step) + 1):
            count = max(1, round(2 * math.pi * ring))
            for k in range(count):
                angle = 2 * math.pi * k / count
                place = offset_position(ra0, dec0, ring * step * math.sin(angle), ring * step * math.cos(angle))
                # Places where the catalogue has no stars cost nothing.
                centre = _unit(np.array([place[0]]), np.array([place[1]]))[0]
                if tree.query_ball_point(centre, chord, return_length=True) >= 6:
                    places.append(place)
    # The catalogue itself says where else a field could be: one place for each cell that holds stars.
    cells, member = np.unique(np.floor(vectors / (math.radians(step) + 1e-12)), axis=0, return_inverse=True)
    member = member.reshape(-1)
    sums = np.stack([np.bincount(member, vectors[:, k], len(cells)) for k in range(3)], axis=1)
    ra = np.degrees(np.arctan2(sums[:, 1], sums[:, 0])) % 360
    dec = np.degrees(np.arctan2(sums[:, 2], np.hypot(sums[:, 0], sums[:, 1])))
    middle = vectors.mean(axis=0)
    if not hinted:
        ra0 = math.degrees(math.atan2(middle[1], middle[0])) % 360
        dec0 = math.degrees(math.atan2(middle[2], math.hypot(middle[0], middle[1])))
    away = separation_deg(ra, dec, np.float64(ra0), np.float64(dec0))
    order = np.argsort(away, kind="stable")
    known_reach = hints.radius_deg if hinted else -1.0
    places.extend((float(ra[k]), float(dec[k])) for k in order if away[k] > known_reach)
    return places[:_MOST_PLACES]


def _unit(ra: F64Array, dec: F64Array) -> F64Array:
    a, d = np.radians(ra), np.radians(dec)
    return np.column_stack([np.cos(d) * np.cos(a), np.cos(d) * np.sin(a), np.sin(d)])


# The hinted place and those around it.
_FIRST_PLACES = 7


def _scale_steps(low: float, high: float) -> list[tuple[float, float]]:
    """Cut a range of scales into steps of at most a factor 1.6, from the middle outwards."""
    count = max(1, math.ceil(math.log(high / low) / math.log(1.6)))
    edges = np.geomspace(low, high, count + 1)
    steps = [(float(a), float(b)) for a, b in zip(edges[:-1], edges[1:])]
    middle = math.sqrt(low * high)
    return sorted(steps, key=lambda s: abs(math.log(math.sqrt(s[0] * s[1]) / middle)))


def solve_plate(
    x: F64Array,
    y: F64Array,
    snr: F64Array,
    shape: tuple[int, int],
    catalogue: StarCatalogue,
    hints: SolveHints,
) -> PlateSolution | Failed:
    """Find where on the sky an exposure is.

    Parameters
    ----------
    x, y, snr : float64 array, shape (stars,)
        Detected stars, brightest first [px].
    shape : (int, int)
        Height and width of the exposure [px].
    catalogue : StarCatalogue
    hints : SolveHints

    Returns
    -------
    PlateSolution, or Failed with the reason: too few stars, catalogue does not cover, no match.

    Notes
    -----
    The catalogue around a place is put on the tangent plane and its star pattern matched with the
    exposure's at any rotation and parity; a match passes only if it cannot be an accident (see
    `ulvar.registration.match_stars`) and the fitted scale lies in the range. Then catalogue and stars are
    matched again over the whole frame and fitted with 3-sigma clipping; SIP terms are taken when
    cross-validation says that they predict stars not used in the fit better.
    """
    if len(x) < 6:
        return Failed(f"too few stars: {len(x)} found, at least 6 are needed")
    now = catalogue.at_epoch(hints.epoch)
    height, width = shape
    stars = np.column_stack([x, y])
    centred = stars - ((width - 1) / 2, (height - 1) / 2)
    half_diagonal_px = math.hypot(width, height) / 2
    tried = 0
    steps = _scale_steps(hints.scale_low, hints.scale_high)
    places = [_places(hints, now, half_diagonal_px * high / 3600) for _, high in steps]
    # Every scale where the exposure most likely is, before any scale further out.
    for part in (slice(0, _FIRST_PLACES), slice(_FIRST_PLACES, None)):
        for (low, high), (ra0, dec0) in ((step, place) for step, found in zip(steps, places) for place in found[part]):
            middle = math.sqrt(low * high)
            field_deg = half_diagonal_px * high / 3600
            options = MatchOptions(
                tiers=((90, 90, 7),),
                scale_low=low,
                scale_high=high,
                tolerance_px=max(2.0 * middle, 1.0),
                bent=False,
            )
            near = now.cone(ra0, dec0, 1.25 * field_deg)
            if len(near) < 6:
                continue
            tried += 1
            # About as many catalogue stars per area as the exposure shows.
            wanted = int(max(40, min(len(near), 3.0 * min(len(x), 90))))
            near = near.select(np.arange(min(wanted, len(near))))
            xi, eta = tangent_plane(near.ra, near.dec, ra0, dec0)
            plane = np.column_stack([xi, eta]) * 3600
            found = match_stars(centred[:150], plane, options=options)
            if isinstance(found, Failed):
                continue
            solution = _refine(found.linear_at(0.0, 0.0), (ra0, dec0), stars, snr, shape, now)
            if isinstance(solution, PlateSolution):
                fitted = solution.wcs.scale_arcsec_px
                if hints.scale_low * 0.99 <= fitted <= hints.scale_high * 1.01:
                    return solution
    if tried == 0:
        return Failed("the catalogue does not cover the place asked for")
    return Failed(
        f"no match: {len(x)} stars compared at {tried} places with scales "
        f"{hints.scale_low:.3g} to {hints.scale_high:.3g} arcsec/px"
    )


def _refine(
    matrix: F64Array,
    place: tuple[float, float],
    stars: F64Array,
    snr: F64Array,
    shape: tuple[int, int],
    catalogue: StarCatalogue,
) -> PlateSolution | Failed:
    """Match the whole frame with the catalogue and fit TAN, then SIP if it predicts better."""
    from scipy.spatial import cKDTree

    height, width = shape
    centre = ((width - 1) / 2, (height - 1) / 2)
    xi0, eta0 = matrix[:, 2] / 3600
    ra0, dec0 = offset_position(*place, float(xi0), float(eta0))
    wcs = Wcs(ra0, dec0, centre[0], centre[1], matrix[:, :2] / 3600)
    around = catalogue.cone(ra0, dec0, 1.1 * math.hypot(width, height) / 2 * wcs.scale_arcsec_px / 3600)
    if len(around) < 6:
        return Failed("the catalogue does not cover the whole exposure")
    order = 1
    keep = partner = np.empty(0, dtype=np.int64)
    for round_number, reach in enumerate((4.0, 2.5, 1.5, 1.5, 1.5)):
        px, py = wcs.pixel(around.ra, around.dec)
        inside = np.isfinite(px) & (px > -5) & (py > -5) & (px < width + 5) & (py < height + 5)
        candidates = np.flatnonzero(inside)
        if len(candidates) < 5:
            return Failed("the catalogue has too few stars in the exposure")
        tree = cKDTree(np.column_stack([px[candidates], py[candidates]]))
        distance, index = tree.query(stars, distance_upper_bound=reach)
        keep = np.flatnonzero(np.isfinite(distance))
        # One catalogue star takes the nearest detection only.
        nearest = keep[np.argsort(distance[keep], kind="stable")]
        _, first = np.unique(index[nearest], return_index=True)
        keep = np.sort(nearest[first])
        partner = candidates[index[keep]]
        if len(keep) < 5:
            return Failed("too few stars agree with the catalogue")
        weights = _weights(snr[keep])
        sx, sy = stars[keep, 0], stars[keep, 1]
        if round_number >= 2:
            order = _best_order(sx, sy, around.ra[partner], around.dec[partner], centre, (wcs.ra0, wcs.dec0), weights)
        wcs, good = _clipped_fit(
            sx, sy, around.ra[partner], around.dec[partner], centre, (wcs.ra0, wcs.dec0), order, weights
        )
        keep, partner = keep[good], partner[good]
    px, py = wcs.pixel(around.ra[partner], around.dec[partner])
    dx, dy = px - stars[keep, 0], py - stars[keep, 1]
    rms = math.sqrt(float((dx**2 + dy**2).mean()) / 2) * wcs.scale_arcsec_px
    return PlateSolution(wcs, len(keep), rms, order, stars[keep, 0], stars[keep, 1], dx, dy)


def _weights(snr: F64Array) -> F64Array:
    # Centroid variance goes as 1/SNR^2, with a floor for the catalogue's own errors.
    variance = 1 / np.maximum(snr, 1) ** 2 + 1 / 60**2
    return np.asarray(1 / variance)


def _clipped_fit(
    x: F64Array, y: F64Array, ra: F64Array, dec: F64Array, centre: tuple[float, float], start: tuple[float, float],
    order: int, weights: F64Array,
) -> tuple[Wcs, np.ndarray]:  # fmt: skip
    good = np.ones(len(x), dtype=bool)
    wcs = fit_wcs(x, y, ra, dec, centre=centre, start=start, order=order, weights=weights)
    for _ in range(5):
        px, py = wcs.pixel(ra, dec)
        distance = np.hypot(px - x, py - y) * np.sqrt(weights)
        sigma = float(np.median(distance[good])) / 1.1774
        new = distance < 3.5 * max(sigma, 1e-9)
        if new.sum() < max(5, 3 + (order + 1) * (order + 2) // 2) or (new == good).all():
            break
        good = new
        wcs = fit_wcs(
            x[good],
            y[good],
            ra[good],
            dec[good],
            centre=centre,
            start=start,
            order=order,
            weights=weights[good],
        )
    return wcs, np.flatnonzero(good)


def _best_order(
    x: F64Array, y: F64Array, ra: F64Array, dec: F64Array, centre: tuple[float, float], start: tuple[float, float],
    weights: F64Array,
) -> int:  # fmt: skip
    """Choose the SIP order by five-fold cross-validation; a higher order must predict 3 % better."""
    folds = np.arange(len(x)) % 5
    best, best_error = 1, math.inf
    for order in (1, 2, 3):
        free = 3 if order == 1 else (order + 1) * (order + 2) // 2
        if len(x) < 3 * free + 5:
            break
        errors = []
        for fold in range(5):
            use, test = folds != fold, folds == fold
            wcs = fit_wcs(
                x[use],
                y[use],
                ra[use],
                dec[use],
                centre=centre,
                start=start,
                order=order,
                weights=weights[use],
            )
            px, py = wcs.pixel(ra[test], dec[test])
            errors.append(np.hypot(px - x[test], py - y[test]) * np.sqrt(weights[test]))
        error = float(np.median(np.concatenate(errors)))
        if error < 0.97 * best_error:
            best, best_error = order, error
    return best
