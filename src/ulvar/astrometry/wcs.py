"""FITS world coordinates: the zenithal projections with SIP distortion, and TPV."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ulvar.astrometry.projections import PROJECTIONS, TPV_TERMS, bend, deproject, project, unbend
from ulvar.engine import F64Array, powers_of

# Places each way at which the inverse of a distortion is fitted.
_NODES = 33


def sip_terms(order: int) -> list[tuple[int, int]]:
    return [(p, q) for p in range(order + 1) for q in range(order + 1 - p) if p + q >= 2]


def _polynomial(coefficients: Mapping[tuple[int, int], float], u: F64Array, v: F64Array) -> F64Array:
    total = np.zeros(np.broadcast(u, v).shape)
    if not coefficients:
        return total
    of_u, of_v = (powers_of(w, max(pair[axis] for pair in coefficients)) for axis, w in enumerate((u, v)))
    for (p, q), c in coefficients.items():
        total = total + c * (of_u[p] * of_v[q])
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
        Forward SIP coefficients (Shupe et al. 2005, ASP 347, 491); empty for a plain projection.
    projection : str
        ``TAN``, ``STG``, ``ARC``, ``SIN`` or ``ZEA`` (Calabretta & Greisen 2002, A&A 395, 1077, section 5.1).
    pv : pair of dict of int to float
        Coefficients of the TPV polynomials of either axis, for TAN only; empty without.
    """

    ra0: float
    dec0: float
    x0: float
    y0: float
    cd: F64Array
    sip_a: dict[tuple[int, int], float] = field(default_factory=dict)
    sip_b: dict[tuple[int, int], float] = field(default_factory=dict)
    projection: str = "TAN"
    pv: tuple[dict[int, float], dict[int, float]] = field(default_factory=lambda: ({}, {}))

    def sky(self, x: F64Array | float, y: F64Array | float) -> tuple[F64Array, F64Array]:
        """Return (ra, dec) [deg] of 0-based pixels."""
        u = np.asarray(x, dtype=np.float64) - self.x0
        v = np.asarray(y, dtype=np.float64) - self.y0
        f, g = u + _polynomial(self.sip_a, u, v), v + _polynomial(self.sip_b, u, v)
        xi = self.cd[0, 0] * f + self.cd[0, 1] * g
        eta = self.cd[1, 0] * f + self.cd[1, 1] * g
        if self.pv[0] or self.pv[1]:
            xi, eta = bend(self.pv[0], xi, eta), bend(self.pv[1], eta, xi)
        return deproject(self.projection, xi, eta, self.ra0, self.dec0)

    def pixel(self, ra: F64Array | float, dec: F64Array | float) -> tuple[F64Array, F64Array]:
        """Return 0-based pixels of sky positions [deg]; NaN where the projection does not reach.

        With SIP the forward polynomial is inverted by fixed-point steps (what a step misses is taken off the next
        guess, to 1e-11 px), so the round trip is exact, not fitted.
        """
        xi, eta = project(
            self.projection, np.asarray(ra, dtype=np.float64), np.asarray(dec, dtype=np.float64), self.ra0, self.dec0
        )
        if self.pv[0] or self.pv[1]:
            xi, eta = unbend(self.pv, xi, eta)
        inverse = np.linalg.inv(self.cd)
        f = inverse[0, 0] * xi + inverse[0, 1] * eta
        g = inverse[1, 0] * xi + inverse[1, 1] * eta
        u, v = f, g
        if self.sip_a or self.sip_b:
            # Far outside of the picture the polynomial leads nowhere: there is no number then.
            with np.errstate(over="ignore", invalid="ignore"):
                u, v = self._without_sip(f, g)
        return u + self.x0, v + self.y0

    def _without_sip(self, f: F64Array, g: F64Array) -> tuple[F64Array, F64Array]:
        """Return offsets of which the distortion makes f and g."""
        u, v = f, g
        for _ in range(30):
            du = u + _polynomial(self.sip_a, u, v) - f
            dv = v + _polynomial(self.sip_b, u, v) - g
            u, v = u - du, v - dv
            if np.nanmax(np.abs(np.concatenate([np.ravel(du), np.ravel(dv)])), initial=0.0) < 1e-11:
                break
        return u, v

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
        return Wcs(
            self.ra0, self.dec0, float(x0), float(y0), self.cd @ back, new[0], new[1], self.projection, self.pv
        )  # fmt: skip

    def cards(self, size: tuple[int, int] | None = None) -> list[tuple[str, Any, str]]:
        """Return FITS header cards (keyword, value, comment).

        Parameters
        ----------
        size : (int, int), optional
            Height and width of the picture [px], over which the inverse of a distortion is fitted; by default a picture with the
            reference pixel in its middle.
        """
        sip = "-SIP" if self.sip_a or self.sip_b else ""
        code = "TPV" if self.pv[0] or self.pv[1] else self.projection
        cards: list[tuple[str, Any, str]] = [
            ("WCSAXES", 2, ""),
            ("CTYPE1", f"RA---{code}{sip}", ""),
            ("CTYPE2", f"DEC--{code}{sip}", ""),
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
        for axis, polynomial in enumerate(self.pv, 1):
            cards.extend((f"PV{axis}_{k}", value, "") for k, value in sorted(polynomial.items()))
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
    """Return the solution of a header, or None when it has none that is complete and in a known form.

    Reads CD, or PC with CDELT, or CDELT with CROTA2; TAN, STG, ARC, SIN, ZEA, with SIP, and TPV; either axis may be right
    ascension, and the native pole may be turned (LONPOLE). Positions of another equinox than 2000 are none that could be used.
    """
    kinds = [str(header.get(f"CTYPE{axis}", "")).strip().upper() for axis in (1, 2)]
    swapped = kinds[0].startswith("DEC--") and kinds[1].startswith("RA---")
    first, second = (kinds[1], kinds[0]) if swapped else (kinds[0], kinds[1])
    code = first[5:8]
    if not first.startswith("RA---") or code not in (*PROJECTIONS, "TPV"):
        return None
    if (second and second[5:8] != code) or not _of_equinox_2000(header):
        return None
    try:
        values = [float(header[name]) for name in ("CRVAL1", "CRVAL2")]
        ra0, dec0 = values[::-1] if swapped else values
        x0, y0 = float(header["CRPIX1"]) - 1, float(header["CRPIX2"]) - 1
        cd = _cd_matrix(header)
        sips = [_sip_terms(header, letter) for letter in "AB"]
        # The polynomials of a TPV are of the axes as they are numbered.
        pv = [_pv_terms(header, axis) if code == "TPV" else {} for axis in ((2, 1) if swapped else (1, 2))]
        if code == "SIN" and any(float(header.get(f"PV{2 - swapped}_{k}", 0.0) or 0.0) for k in (1, 2)):
            return None
        turn = float(header.get("LONPOLE", 0.0 if dec0 >= 90 else 180.0)) - 180.0
    except (KeyError, TypeError, ValueError, OverflowError):
        return None
    if cd is not None and swapped:
        cd = cd[::-1]
    if cd is not None and turn:
        c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
        # Polynomials are taken before the turn: with them it is no part of the matrix.
        if code == "TPV":
            return None
        cd = np.array([[c, s], [-s, c]]) @ cd
    numbers = [
        ra0,
        dec0,
        x0,
        y0,
        turn,
        *(v for terms in sips for v in terms.values()),
        *(v for terms in pv for v in terms.values()),
    ]
    if cd is None or not np.isfinite(cd).all() or not np.isfinite(numbers).all():
        return None
    # A singular matrix maps the picture onto a line; steps of more than the sky's half are no pixels.
    if abs(np.linalg.det(cd)) < 1e-20 or np.abs(cd).max() > 180 or abs(dec0) > 90:
        return None
    return Wcs(ra0, dec0, x0, y0, cd, sips[0], sips[1], "TAN" if code == "TPV" else code, (pv[0], pv[1]))


def _of_equinox_2000(header: Mapping[str, Any]) -> bool:
    system = str(header.get("RADESYS") or header.get("RADECSYS") or "").strip().upper()
    if system == "ICRS":
        return True
    if system not in ("", "FK5"):
        return False
    try:
        return abs(float(header.get("EQUINOX", 2000.0) or 2000.0) - 2000.0) < 1e-6
    except (TypeError, ValueError):
        return False


def _pv_terms(header: Mapping[str, Any], axis: int) -> dict[int, float]:
    terms = {k: float(header[f"PV{axis}_{k}"]) for k in range(len(TPV_TERMS)) if f"PV{axis}_{k}" in header}
    # A polynomial that is not told at all is the identity.
    terms.setdefault(1, 1.0)
    return {k: value for k, value in terms.items() if value}


def _sip_terms(header: Mapping[str, Any], letter: str) -> dict[tuple[int, int], float]:
    order = int(header.get(f"{letter}_ORDER", 0) or 0)
    if not 0 <= order <= _HIGHEST_SIP:
        raise ValueError(f"no distortion has the order {order}")
    terms = {pq: float(header.get(f"{letter}_{pq[0]}_{pq[1]}", 0.0) or 0.0) for pq in sip_terms(order)}
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
