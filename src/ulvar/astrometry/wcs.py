"""FITS world coordinates: TAN projection with SIP distortion."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ulvar.astrometry.sphere import tangent_plane, tangent_to_sky
from ulvar.engine import F64Array

# Places each way at which the inverse of a distortion is fitted.
_NODES = 33


def _terms(order: int) -> list[tuple[int, int]]:
    return [(p, q) for p in range(order + 1) for q in range(order + 1 - p) if p + q >= 2]


def _polynomial(coefficients: Mapping[tuple[int, int], float], u: F64Array, v: F64Array) -> F64Array:
    total = np.zeros(np.broadcast(u, v).shape)
    for (p, q), c in coefficients.items():
        total = total + c * u**p * v**q
    return total


def _substituted(terms: Mapping[tuple[int, int], float], matrix: F64Array) -> dict[tuple[int, int], float]:
    """Return a polynomial in u, v as one in s, t, where (u, v) = matrix @ (s, t)."""
    result: dict[tuple[int, int], float] = {}
    for (p, q), value in terms.items():
        # Coefficients of s^(n - k) t^k of each factor, multiplied out.
        product = np.array([value])
        for row, times in ((matrix[0], p), (matrix[1], q)):
            for _ in range(times):
                product = np.convolve(product, row)
        for k, c in enumerate(product):
            at = (p + q - k, k)
            result[at] = result.get(at, 0.0) + float(c)
    return result


@dataclass(frozen=True)
class Wcs:
    """Celestial coordinates of pixels.

    Attributes
    ----------
    ra0, dec0 : float
        Tangent point [deg, ICRS] (CRVAL).
    x0, y0 : float
        Its pixel, 0-based (CRPIX - 1).
    cd : float64 array, shape (2, 2)
        Pixel offsets to standard coordinates [deg / px].
    sip_a, sip_b : dict of (p, q) to float
        Forward SIP coefficients (Shupe et al. 2005, ASP 347, 491); empty for a plain TAN.
    """

    ra0: float
    dec0: float
    x0: float
    y0: float
    cd: F64Array
    sip_a: dict[tuple[int, int], float] = field(default_factory=dict)
    sip_b: dict[tuple[int, int], float] = field(default_factory=dict)

    def sky(self, x: F64Array | float, y: F64Array | float) -> tuple[F64Array, F64Array]:
        """Return (ra, dec) [deg] of 0-based pixels."""
        u = np.asarray(x, dtype=np.float64) - self.x0
        v = np.asarray(y, dtype=np.float64) - self.y0
        f, g = u + _polynomial(self.sip_a, u, v), v + _polynomial(self.sip_b, u, v)
        xi = self.cd[0, 0] * f + self.cd[0, 1] * g
        eta = self.cd[1, 0] * f + self.cd[1, 1] * g
        return tangent_to_sky(xi, eta, self.ra0, self.dec0)

    def pixel(self, ra: F64Array | float, dec: F64Array | float) -> tuple[F64Array, F64Array]:
        """Return 0-based pixels of sky positions [deg]; NaN beyond 90 degrees of the tangent point.

        With SIP the forward polynomial is inverted by fixed-point steps (what a step misses is taken off the next
        guess, to 1e-11 px), so the round trip is exact, not fitted.
        """
        xi, eta = tangent_plane(
            np.asarray(ra, dtype=np.float64), np.asarray(dec, dtype=np.float64), self.ra0, self.dec0
        )
        inverse = np.linalg.inv(self.cd)
        f = inverse[0, 0] * xi + inverse[0, 1] * eta
        g = inverse[1, 0] * xi + inverse[1, 1] * eta
        u, v = f, g
        if self.sip_a or self.sip_b:
            for _ in range(30):
                du = u + _polynomial(self.sip_a, u, v) - f
                dv = v + _polynomial(self.sip_b, u, v) - g
                u, v = u - du, v - dv
                if np.nanmax(np.abs(np.concatenate([du.ravel(), dv.ravel()])), initial=0.0) < 1e-11:
                    break
        return u + self.x0, v + self.y0

    @property
    def scale_arcsec_px(self) -> float:
        """Geometric mean pixel scale at the tangent point [arcsec/px]."""
        return math.sqrt(abs(float(np.linalg.det(self.cd)))) * 3600

    @property
    def rotation_deg(self) -> float:
        """Position angle of the +y axis, east of north, 0-360 [deg]."""
        return math.degrees(math.atan2(self.cd[0, 1], self.cd[1, 1])) % 360.0

    @property
    def flipped(self) -> bool:
        """Whether the determinant of CD is positive (a mirror image of the sky)."""
        return bool(np.linalg.det(self.cd) > 0)

    def north_up(self, x: float, y: float) -> tuple[float, bool]:
        """Return how to turn the picture so that north is up and east left at a pixel.

        Returns
        -------
        turn_deg : float
            Clockwise, after the mirroring [deg].
        mirrored : bool
            Whether left and right are to be exchanged first: east lies left of north on the sky.
        """
        ra, dec = (float(v) for v in self.sky(x, y))
        # A step that stays on one side of the pole.
        step = max(min(20 * self.scale_arcsec_px / 3600, 0.05 * (90 - abs(dec))), 1e-9)
        north = np.array([float(v) for v in self.pixel(ra, dec + step)]) - (x, y)
        aside = step / max(math.cos(math.radians(dec)), 1e-6)
        east = np.array([float(v) for v in self.pixel(ra + aside, dec)]) - (x, y)
        mirrored = bool(north[0] * east[1] - north[1] * east[0] < 0)
        across = -north[0] if mirrored else north[0]
        return -math.degrees(math.atan2(across, north[1])), mirrored

    def moved(self, matrix: F64Array) -> Wcs:
        """Return the coordinates of pixels that an affine map carried elsewhere; distortion goes along exactly.

        Parameters
        ----------
        matrix : float64 array, shape (2, 3)
            ``(X, Y) = matrix[:, :2] @ (x, y) + matrix[:, 2]``.
        """
        linear = np.asarray(matrix[:, :2], dtype=np.float64)
        back = np.asarray(np.linalg.inv(linear), dtype=np.float64)
        x0, y0 = linear @ (self.x0, self.y0) + matrix[:, 2]
        # Offsets are those of before, expressed in the new ones; what they are distorted by is turned like them.
        old = [_substituted(terms, back) for terms in (self.sip_a, self.sip_b)]
        powers = set(old[0]) | set(old[1])
        new = [
            {pq: float(row[0] * old[0].get(pq, 0.0) + row[1] * old[1].get(pq, 0.0)) for pq in sorted(powers)}
            for row in linear
        ]
        return Wcs(self.ra0, self.dec0, float(x0), float(y0), self.cd @ back, *new)

    def cards(self, size: tuple[int, int] | None = None) -> list[tuple[str, Any, str]]:
        """Return FITS header cards (keyword, value, comment).

        Parameters
        ----------
        size : (int, int), optional
            Height and width of the picture [px], over which the inverse of a distortion is fitted; by default a picture with the
            reference pixel in its middle.
        """
        sip = "-SIP" if self.sip_a or self.sip_b else ""
        cards: list[tuple[str, Any, str]] = [
            ("WCSAXES", 2, ""),
            ("CTYPE1", f"RA---TAN{sip}", ""),
            ("CTYPE2", f"DEC--TAN{sip}", ""),
            ("CUNIT1", "deg", ""),
            ("CUNIT2", "deg", ""),
            ("CRVAL1", self.ra0, "[deg] right ascension of the reference pixel"),
            ("CRVAL2", self.dec0, "[deg] declination of the reference pixel"),
            ("CRPIX1", self.x0 + 1, "[pix] first pixel is 1"),
            ("CRPIX2", self.y0 + 1, "[pix] first pixel is 1"),
            ("CD1_1", float(self.cd[0, 0]), "[deg/pix]"),
            ("CD1_2", float(self.cd[0, 1]), "[deg/pix]"),
            ("CD2_1", float(self.cd[1, 0]), "[deg/pix]"),
            ("CD2_2", float(self.cd[1, 1]), "[deg/pix]"),
            ("RADESYS", "ICRS", ""),
            ("EQUINOX", 2000.0, ""),
        ]
        for letter, terms in (("A", self.sip_a), ("B", self.sip_b)):
            if sip:
                cards.append((f"{letter}_ORDER", max((p + q for p, q in terms), default=2), "SIP order"))
                cards.extend((f"{letter}_{p}_{q}", value, "") for (p, q), value in sorted(terms.items()))
        return cards + (self._inverse_cards(size) if sip else [])

    def _inverse_cards(self, size: tuple[int, int] | None) -> list[tuple[str, Any, str]]:
        """Return the way from undistorted pixel offsets back, for programs that do not solve for it (Shupe et al. 2005, equation 5)."""
        height, width = size or (2 * abs(self.y0) + 1, 2 * abs(self.x0) + 1)
        order = min(max((p + q for p, q in (*self.sip_a, *self.sip_b)), default=2) + 1, _HIGHEST_SIP)
        u, v = (
            g.ravel()
            for g in np.meshgrid(
                np.linspace(-self.x0, width - 1 - self.x0, _NODES), np.linspace(-self.y0, height - 1 - self.y0, _NODES)
            )
        )
        f, g = u + _polynomial(self.sip_a, u, v), v + _polynomial(self.sip_b, u, v)
        powers = [(p, q) for p in range(order + 1) for q in range(order + 1 - p) if p + q]
        # Powers are taken of coordinates near 1, then the coefficients are scaled back.
        unit = max(float(np.abs(f).max()), float(np.abs(g).max()), 1.0)
        design = np.column_stack([(f / unit) ** p * (g / unit) ** q for p, q in powers])
        solved, *_ = np.linalg.lstsq(design, np.column_stack([u - f, v - g]), rcond=None)
        cards: list[tuple[str, Any, str]] = []
        for k, letter in enumerate(("AP", "BP")):
            cards.append((f"{letter}_ORDER", order, "SIP order, inverse"))
            cards.extend(
                (f"{letter}_{p}_{q}", float(value) / unit ** (p + q), "") for (p, q), value in zip(powers, solved[:, k])
            )
        return cards


# Shupe et al. 2005 (ASP Conf. Ser. 347, 491) know orders up to this one.
_HIGHEST_SIP = 9


def wcs_from_header(header: Mapping[str, Any]) -> Wcs | None:
    """Return the TAN (with or without SIP) solution of a header, or None when it has none that is complete.

    Reads CD, or PC with CDELT, or CDELT with CROTA2.
    """
    if not str(header.get("CTYPE1", "")).startswith("RA---TAN"):
        return None
    try:
        ra0, dec0 = float(header["CRVAL1"]), float(header["CRVAL2"])
        x0, y0 = float(header["CRPIX1"]) - 1, float(header["CRPIX2"]) - 1
        cd = _cd_matrix(header)
        sips = [_sip_terms(header, letter) for letter in "AB"]
    except (KeyError, TypeError, ValueError, OverflowError):
        return None
    numbers = [ra0, dec0, x0, y0, *(value for terms in sips for value in terms.values())]
    if cd is None or not np.isfinite(cd).all() or not np.isfinite(numbers).all():
        return None
    # A singular matrix maps the picture onto a line; steps of more than the sky's half are no pixels.
    if abs(np.linalg.det(cd)) < 1e-20 or np.abs(cd).max() > 180 or abs(dec0) > 90:
        return None
    return Wcs(ra0, dec0, x0, y0, cd, *sips)


def _sip_terms(header: Mapping[str, Any], letter: str) -> dict[tuple[int, int], float]:
    order = int(header.get(f"{letter}_ORDER", 0) or 0)
    if not 0 <= order <= _HIGHEST_SIP:
        raise ValueError(f"no distortion has the order {order}")
    terms = {pq: float(header.get(f"{letter}_{pq[0]}_{pq[1]}", 0.0) or 0.0) for pq in _terms(order)}
    return {pq: value for pq, value in terms.items() if value}


def _cd_matrix(header: Mapping[str, Any]) -> F64Array | None:
    names = ("1_1", "1_2", "2_1", "2_2")
    if any(f"CD{name}" in header for name in names):
        return np.array([float(header.get(f"CD{name}", 0.0)) for name in names]).reshape(2, 2)
    if "CDELT1" not in header or "CDELT2" not in header:
        return None
    delta = np.diag([float(header["CDELT1"]), float(header["CDELT2"])])
    if any(f"PC{name}" in header for name in names):
        unit = (1.0, 0.0, 0.0, 1.0)
        pc = np.array([float(header.get(f"PC{name}", one)) for name, one in zip(names, unit)]).reshape(2, 2)
        return delta @ pc
    angle = math.radians(float(header.get("CROTA2", 0.0) or 0.0))
    c, s = math.cos(angle), math.sin(angle)
    return np.array([[delta[0, 0] * c, -delta[1, 1] * s], [delta[0, 0] * s, delta[1, 1] * c]])


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
    terms = _terms(order) if order > 1 else []
    if len(x) < 3 + len(terms):
        raise ValueError("too few stars for the fit")
    w = np.ones(len(x)) if weights is None else np.sqrt(weights)
    u, v = x - centre[0], y - centre[1]
    # Powers are taken of coordinates near 1, then the coefficients are scaled back.
    unit = max(float(np.abs(u).max()), float(np.abs(v).max()), 1.0)
    columns = [np.ones(len(x)), u / unit, v / unit] + [(u / unit) ** p * (v / unit) ** q for p, q in terms]
    design = np.column_stack(columns) * w[:, None]
    ra0, dec0 = start
    solution = np.zeros((len(columns), 2))
    for _ in range(10):
        xi, eta = tangent_plane(ra, dec, ra0, dec0)
        solution, *_ = np.linalg.lstsq(design, np.column_stack([xi, eta]) * w[:, None], rcond=None)
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
    square = u**2 + v**2
    ra0, dec0, matrix, bend = plain.ra0, plain.dec0, plain.cd * unit, 0.0
    none, one = np.zeros(len(x)), np.ones(len(x))
    for _ in range(10):
        xi, eta = tangent_plane(ra, dec, ra0, dec0)
        bent = [(row[0] * u + row[1] * v) * square for row in matrix]
        design = np.concatenate(
            [
                np.column_stack([one, u, v, none, none, none, bent[0]]),
                np.column_stack([none, none, none, one, u, v, bent[1]]),
            ]
        )
        both = np.concatenate([w, w])
        solution, *_ = np.linalg.lstsq(design * both[:, None], np.concatenate([xi, eta]) * both, rcond=None)
        matrix = np.array([solution[1:3], solution[4:6]])
        change, bend = abs(float(solution[6]) - bend), float(solution[6])
        moved = tangent_to_sky(solution[:1], solution[3:4], ra0, dec0)
        ra0, dec0 = float(moved[0][0]), float(moved[1][0])
        if change < 1e-12 and np.hypot(solution[0], solution[3]) < 1e-12:
            break
    k = bend / unit**2
    return Wcs(ra0, dec0, *centre, matrix / unit, {(3, 0): k, (1, 2): k}, {(2, 1): k, (0, 3): k})
