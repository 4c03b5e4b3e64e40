"""World coordinates fitted to stars: TAN, with polynomials, or with a lens's one radial term."""

from __future__ import annotations

import numpy as np

from ulvar.astrometry.sphere import tangent_plane, tangent_to_sky
from ulvar.astrometry.wcs import Wcs, sip_terms
from ulvar.engine import F64Array, powers_of


def polynomial_columns(u: F64Array, v: F64Array, order: int) -> F64Array:
    """Return 1, u, v, then what SIP of an order adds to them, as columns (n, terms), in the order of `sip_terms`."""
    of_u, of_v = powers_of(u, order), powers_of(v, order)
    return np.column_stack([of_u[p] * of_v[q] for p, q in ((0, 0), (1, 0), (0, 1), *sip_terms(order))])


def radial_columns(u: F64Array, v: F64Array, matrix: F64Array) -> F64Array:
    """Return (2 n, 7) columns, of one axis after the other: 1, u, v of each, and what bends both along a linear part (2, 2)."""
    plain, square = polynomial_columns(u, v, 1), u**2 + v**2
    bent = [(row[0] * u + row[1] * v) * square for row in matrix]
    return np.column_stack([np.kron(np.eye(2), plain), np.concatenate(bent)])


def fit_wcs(
    x: F64Array,
    y: F64Array,
    ra: F64Array,
    dec: F64Array,
    *,
    centre: tuple[float, float],
    start: tuple[float, float],
    order: int = 1,
    weights: F64Array | None = None,
) -> Wcs:
    """Least-squares TAN solution with SIP of a given order.

    Parameters
    ----------
    x, y : float64 array, shape (n,)
        Pixels.
    ra, dec : float64 array, shape (n,)
        Sky positions [deg].
    centre : (float, float)
        The reference pixel, usually the frame's centre.
    start : (float, float)
        Sky position near it [deg]; refined until the linear part has no constant.
    order : int
        1 for a plain TAN, 2 to 5 with SIP.
    weights : float64 array, optional

    Raises
    ------
    ValueError
        With fewer stars than free numbers.
    """
    terms = sip_terms(order)
    if len(x) < 3 + len(terms):
        raise ValueError("too few stars for the fit")
    w = np.ones(len(x)) if weights is None else np.sqrt(weights)
    u, v = x - centre[0], y - centre[1]
    # Powers are taken of coordinates near 1, then the coefficients are scaled back.
    unit = max(float(np.abs(u).max()), float(np.abs(v).max()), 1.0)
    design = polynomial_columns(u / unit, v / unit, order) * w[:, None]
    ra0, dec0 = start
    solution: F64Array = np.zeros((design.shape[1], 2))
    for _ in range(10):
        xi, eta = tangent_plane(ra, dec, ra0, dec0)
        found = np.linalg.lstsq(design, np.column_stack([xi, eta]) * w[:, None], rcond=None)[0]
        solution = np.asarray(found, dtype=np.float64)
        if np.hypot(*solution[0]) < 1e-12:
            break
        moved = tangent_to_sky(solution[0, :1], solution[0, 1:], ra0, dec0)
        ra0, dec0 = float(moved[0][0]), float(moved[1][0])
    cd = solution[1:3].T / unit
    inverse = np.linalg.inv(cd)
    sip_a: dict[tuple[int, int], float] = {}
    sip_b: dict[tuple[int, int], float] = {}
    for row, (p, q) in enumerate(terms, 3):
        a, b = inverse @ solution[row] / unit ** (p + q)
        sip_a[p, q], sip_b[p, q] = float(a), float(b)
    return Wcs(ra0, dec0, centre[0], centre[1], cd, sip_a, sip_b)


def fit_radial_wcs(
    x: F64Array,
    y: F64Array,
    ra: F64Array,
    dec: F64Array,
    *,
    centre: tuple[float, float],
    start: tuple[float, float],
    weights: F64Array | None = None,
) -> Wcs:
    """Least-squares TAN solution with the one term that lenses bend by first: offsets grow by ``1 + k r^2`` about the centre.

    Parameters
    ----------
    x, y, ra, dec, centre, start, weights
        As `fit_wcs`, of four stars or more. The third-order distortion of Seidel's theory (Born & Wolf, Principles of Optics, 5.3).

    Raises
    ------
    ValueError
        With fewer stars than free numbers.
    """
    if len(x) < 4:
        raise ValueError("too few stars for the fit")
    plain = fit_wcs(x, y, ra, dec, centre=centre, start=start, weights=weights)
    w = np.ones(len(x)) if weights is None else np.sqrt(weights)
    u, v = x - centre[0], y - centre[1]
    unit = max(float(np.abs(u).max()), float(np.abs(v).max()), 1.0)
    u, v = u / unit, v / unit
    ra0, dec0, matrix, bend = plain.ra0, plain.dec0, plain.cd * unit, 0.0
    both = np.concatenate([w, w])
    for _ in range(10):
        xi, eta = tangent_plane(ra, dec, ra0, dec0)
        solution, *_ = np.linalg.lstsq(
            radial_columns(u, v, matrix) * both[:, None], np.concatenate([xi, eta]) * both, rcond=None
        )
        matrix = np.array([solution[1:3], solution[4:6]])
        change, bend = abs(float(solution[6]) - bend), float(solution[6])
        moved = tangent_to_sky(solution[:1], solution[3:4], ra0, dec0)
        ra0, dec0 = float(moved[0][0]), float(moved[1][0])
        if change < 1e-12 and np.hypot(solution[0], solution[3]) < 1e-12:
            break
    k = bend / unit**2
    return Wcs(ra0, dec0, *centre, matrix / unit, {(3, 0): k, (1, 2): k}, {(2, 1): k, (0, 3): k})
