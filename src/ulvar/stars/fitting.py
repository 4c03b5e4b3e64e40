"""One fit of all stars of an exposure together, and the profile that they share."""

from __future__ import annotations

import math
from collections.abc import Sequence

import cv2
import numpy as np
from scipy.spatial import cKDTree

from ulvar.engine import BoolArray, F32Array, F64Array, I64Array
from ulvar.stars._kernels_psf import fit_sweep, gather_profile, subtract_stars
from ulvar.stars.psf import MeasuredPsf, centred, half_width, profile_width, tapered, unit_table


class ProfileFit:
    """Stars fitted together on one picture, of which they are taken off.

    Flux and position of each star are fitted against what is left of the picture without all of them, star by
    star and round by round, so that neighbours do not lend each other light (Stetson 1987, PASP 99, 191).

    Parameters
    ----------
    picture : float32 array, shape (height, width)
        Background-subtracted [ADU]. It is changed: `left` is this array, without the stars.
    noise, bad : arrays of the same shape
        Sky noise per pixel [ADU]; pixels that do not take part (saturated, hidden).
    psf : MeasuredPsf
    gain : float
        [e-/ADU]; 0 when not known: then photons of the stars do not count in the weights.
    noise_adu : float
        Typical noise; how far a star is taken off depends on it.

    Attributes
    ----------
    x, y, flux : float64 array, shape (stars,)
        [px], [px], [ADU]; flux 0 is a star that was lost.
    variance : float64 array, shape (stars, 3)
        Of flux, x and y.
    core : float64 array, shape (stars,)
        Radius of the saturated core [px], 0 without one; the fit reaches beyond it.
    """

    def __init__(
        self, picture: F32Array, noise: F32Array, bad: BoolArray, psf: MeasuredPsf, *, gain: float, noise_adu: float
    ) -> None:
        self.left, self.noise, self.bad, self.psf = picture, noise, bad, psf
        self.gain, self.noise_adu = gain, noise_adu
        self.x = self.y = self.flux = self.core = self._start_x = self._start_y = np.empty(0)
        self.variance = np.empty((0, 3))
        self._reach = np.empty(0, dtype=np.int64)
        # 1 for stars that have still to settle.
        self._state = np.empty(0, dtype=np.int64)

    def __len__(self) -> int:
        return len(self.x)

    @property
    def snr(self) -> F64Array:
        """Flux over its error."""
        return np.asarray(self.flux / np.sqrt(self.variance[:, 0]))

    def add(self, x: F64Array, y: F64Array, flux: F64Array, core: F64Array | None = None) -> None:
        """Take more stars in, and off the picture."""
        core = np.zeros(len(x)) if core is None else core
        reach = np.maximum(self.psf.reach(flux, self.noise_adu), self._radius(core))
        subtract_stars(self.left, self.psf.table, x.astype(np.float64), y.astype(np.float64), flux, reach, 1.0)
        self.x, self.y, self.flux = np.r_[self.x, x], np.r_[self.y, y], np.r_[self.flux, flux]
        self._start_x, self._start_y = np.r_[self._start_x, x], np.r_[self._start_y, y]
        self.core, self._reach = np.r_[self.core, core], np.r_[self._reach, reach]
        self.variance = np.vstack([self.variance, np.full((len(x), 3), np.inf)])
        self._state = np.r_[self._state, np.ones(len(x), dtype=np.int64)]
        self._wake(x, y)

    def settle(self, rounds: int) -> None:
        """Fit all stars until they settle, this many rounds at most."""
        limit = max(1.5, 0.6 * self.psf.fwhm_px)
        radius = self._radius(self.core)
        crowd = self._in_company() if rounds > 3 else None
        fresh = not np.isfinite(self.variance[:, 0]).all()
        for number in range(rounds if self._state.any() else 0):
            if number % 3 == 0 and number and crowd is not None:
                # Their neighbours moved on: they are looked at again.
                self._state[crowd] = 1
            if not fit_sweep(
                self.left, self.noise, self.bad, self.psf.table, self.gain, self.x, self.y, self.flux, self._start_x,
                self._start_y, radius, self._reach, number > 0 or not fresh, self._state, self.variance, limit,
            ):  # fmt: skip
                break

    def drop(self, which: BoolArray) -> None:
        """Put stars back into the picture and forget them."""
        gone = which & (self.flux != 0)
        subtract_stars(self.left, self.psf.table, self.x[gone], self.y[gone], self.flux[gone], self._reach[gone], -1.0)
        x, y = self.x[gone], self.y[gone]
        for name in ("x", "y", "flux", "core", "_start_x", "_start_y", "variance", "_reach", "_state"):
            setattr(self, name, getattr(self, name)[~which])
        self._wake(x, y)

    def exchange(self, psf: MeasuredPsf) -> None:
        """Go on with another profile."""
        subtract_stars(self.left, self.psf.table, self.x, self.y, self.flux, self._reach, -1.0)
        self.psf = psf
        self.wake_all()
        self._reach = np.maximum(psf.reach(self.flux, self.noise_adu), self._radius(self.core))
        subtract_stars(self.left, self.psf.table, self.x, self.y, self.flux, self._reach, 1.0)

    def wake_all(self) -> None:
        """Let every star be fitted again: the picture under them changed."""
        self._state[:] = 1

    def _wake(self, x: F64Array, y: F64Array) -> None:
        """Let stars near these places be fitted again."""
        if len(x) and len(self):
            near = cKDTree(np.column_stack([x, y])).query(
                np.column_stack([self.x, self.y]), distance_upper_bound=2.5 * self.psf.fwhm_px
            )[0]
            self._state[np.isfinite(near)] = 1

    def _in_company(self) -> BoolArray:
        """Tell stars with another within the reach of a fit."""
        company = np.zeros(len(self), dtype=bool)
        if len(self) > 1:
            pairs = cKDTree(np.column_stack([self.x, self.y])).query_pairs(2 * self.psf.fwhm_px, output_type="ndarray")
            company[pairs.ravel()] = True
        return company

    def lone_stamps(self, which: I64Array) -> tuple[F32Array, F32Array, BoolArray, F64Array, F64Array, F64Array]:
        """Return strips of picture, noise and bad pixels about stars without their neighbours, and x, y, flux there."""
        (picture, noise, bad), x, y, inside = stamps(
            (self.left, self.noise, self.bad), self.x[which], self.y[which], self.psf.radius_px + 2
        )
        kept = which[inside]
        subtract_stars(picture, self.psf.table, x, y, self.flux[kept], self._reach[kept], -1.0)
        return picture, noise, bad, x, y, self.flux[kept]

    def _radius(self, core: F64Array) -> I64Array:
        usual = max(2, math.ceil((0.65 if self.psf.ring else 0.75) * self.psf.fwhm_px))
        beyond = np.where(core > 0, np.ceil(core + self.psf.fwhm_px), 0).astype(np.int64)
        return np.minimum(np.maximum(usual, beyond), self.psf.radius_px)


def stamps(
    planes: Sequence[np.ndarray], x: F64Array, y: F64Array, margin: int
) -> tuple[list[np.ndarray], F64Array, F64Array, BoolArray]:
    """Lay the surroundings of stars side by side.

    Parameters
    ----------
    planes : sequence of arrays, shape (height, width)
    x, y : float64 array, shape (stars,)
    margin : int
        Pixels about each star [px].

    Returns
    -------
    list of arrays, shape (2 margin + 1, stars (2 margin + 1))
        Copies, one of each plane.
    x, y : float64 array
        Where the stars are in them.
    inside : bool array
        Which stars lie far enough inside; others are left away.
    """
    height, width = planes[0].shape
    ix, iy = np.rint(x).astype(np.int64), np.rint(y).astype(np.int64)
    inside = (ix >= margin) & (iy >= margin) & (ix < width - margin) & (iy < height - margin)
    ix, iy = ix[inside], iy[inside]
    size = 2 * margin + 1
    strips = []
    for plane in planes:
        strip = np.empty((size, size * len(ix)), dtype=plane.dtype)
        for k, (i, j) in enumerate(zip(ix, iy)):
            strip[:, k * size : (k + 1) * size] = plane[j - margin : j + margin + 1, i - margin : i + margin + 1]
        strips.append(strip)
    return strips, x[inside] - ix + margin + size * np.arange(len(ix)), y[inside] - iy + float(margin), inside


def gather_psf(
    start: MeasuredPsf,
    picture: F32Array,
    noise: F32Array,
    bad: BoolArray,
    x: F64Array,
    y: F64Array,
    flux: F64Array,
    *,
    gain: float,
    noise_adu: float,
    rounds: int = 3,
    doubt: float = 0.2,
    careful: bool = True,
) -> MeasuredPsf:
    """Return the profile that stars share, from a first guess of it.

    Each round fits the stars with the profile as it stands and adds to the table what they differ by on average
    (Anderson & King 2000, PASP 112, 1360).

    Parameters
    ----------
    start : MeasuredPsf
    picture, noise, bad : arrays of one shape
        Stars without neighbours on no background, as `stamps` lays them out; not modified.
    x, y, flux : float64 array, shape (stars,)
        Where they are [px] and about how bright [ADU]; unsaturated.
    gain, noise_adu
        As `ProfileFit`.
    rounds : int
    doubt : float
        How wrong the guess may be, as a share of its own values.
    careful : bool
        Whether the width is fitted in the end; a profile that will be gathered again needs no more than a quick one.
    """
    psf = start
    for number in range(rounds if len(x) else 0):
        fit = ProfileFit(picture.copy(), noise, bad, psf, gain=gain, noise_adu=noise_adu)
        fit.add(x, y, flux)
        fit.settle(6)
        keep = fit.flux > 0
        if not keep.any():
            return psf
        x, y, flux = fit.x[keep], fit.y[keep], fit.flux[keep]
        if len(x) >= 12:
            # Blends that were taken for one star fit worst; the profile is not to learn from them.
            sharp = _misfit(fit, x, y, flux)
            good = sharp <= np.quantile(sharp, 0.8)
            x, y, flux = x[good], y[good], flux[good]
        # The fit takes stars off within their reach; the table is compared over its whole radius.
        left = picture.copy()
        subtract_stars(left, psf.table, x, y, flux, np.full(len(x), psf.radius_px, dtype=np.int64), 1.0)
        total, weight = np.zeros_like(psf.table), np.zeros_like(psf.table)
        gather_profile(left, noise, bad, psf.table, gain, x, y, flux, psf.radius_px, total, weight)
        table = psf.table + _smooth_change(total, weight, psf.table, doubt)
        table = tapered(centred(table, psf.fwhm_px))
        if not 0.25 * float(table.sum()) > 0.3:
            # What was gathered is no star: words burnt in, a trail. The profile stays as it was.
            return psf
        table = unit_table(table)
        # The careful fit of the width is worth its time only once the table stands.
        width, ring = profile_width(table, psf.fwhm_px) if careful and number == rounds - 1 else half_width(table)
        if not (psf.fwhm_px / 3 < width < 3 * psf.fwhm_px):
            width, ring = psf.fwhm_px, psf.ring
        psf = MeasuredPsf(table, width, ring, len(x))
    return psf


def _misfit(fit: ProfileFit, x: F64Array, y: F64Array, flux: F64Array) -> F64Array:
    """What is left of each star near its middle as a share of its light, less what noise leaves."""
    reach = max(2, round(0.8 * fit.psf.fwhm_px))
    height, width = fit.left.shape
    steps = np.arange(-reach, reach + 1)
    rows = np.rint(y).astype(int)[:, None, None] + steps[:, None]
    columns = np.rint(x).astype(int)[:, None, None] + steps
    inside = (rows >= 0) & (rows < height) & (columns >= 0) & (columns < width)
    place = np.clip(rows, 0, height - 1), np.clip(columns, 0, width - 1)
    left = np.nan_to_num(fit.left[place].astype(np.float64))
    return np.asarray(((left**2 - fit.noise[place] ** 2) * inside).sum(axis=(1, 2)) / flux**2)


def _smooth_change(total: F64Array, weight: F64Array, table: F64Array, doubt: float) -> F64Array:
    """Average change of the table, neighbouring points helping each other; what is mostly noise is held back.

    A change is weighed against its noise by how wrong the table may be: a share of its value and a little of its peak.
    """
    blur = 0.8
    blurred = cv2.GaussianBlur(np.dstack([total, weight]), (0, 0), blur, borderType=cv2.BORDER_REPLICATE)
    # Points within the blur together weigh this many times the average of one.
    together = 4 * math.pi * blur**2 * np.maximum(blurred[:, :, 1], 1e-30)
    prior = (doubt * table + 0.005 * doubt * table.max()) ** 2
    return np.asarray(blurred[:, :, 0] / np.maximum(blurred[:, :, 1], 1e-30) * prior / (prior + 1 / together))
