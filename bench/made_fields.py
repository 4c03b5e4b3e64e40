"""Made-up star fields with truth, from sparse to very crowded, round, trailed and out of focus; how a finder did on them."""

import math
from dataclasses import dataclass

import numpy as np
from scipy.signal import fftconvolve
from scipy.spatial import cKDTree
from scipy.special import erf

from ulvar.simulation import Psf, add_stars

SKY_E, READ_E = 200.0, 5.0
NOISE = math.sqrt(SKY_E + READ_E**2)


@dataclass(frozen=True)
class Field:
    """A noisy exposure [e-] with the stars in it; `signal` is the noise-free picture of the stars alone."""

    image: np.ndarray
    x: np.ndarray
    y: np.ndarray
    flux: np.ndarray
    fwhm_px: float
    noise_area: float
    signal: np.ndarray

    @property
    def snr(self) -> np.ndarray:
        """Best possible signal to noise of each star if it were alone."""
        return self.flux / np.sqrt(self.noise_area * NOISE**2 + self.flux)


def ring_kernel(outer_px: float, inner_px: float) -> np.ndarray:
    """Return the shadow of a pupil with a hole, on whole pixels, sum 1."""
    sub, radius = 5, math.ceil(outer_px) + 2
    n = 2 * radius + 1
    grid = (np.arange(n * sub) - (n * sub - 1) / 2) / sub
    distance = np.hypot(grid[:, None], grid[None, :])
    kernel = ((distance <= outer_px) & (distance >= inner_px)).astype(float)
    kernel = kernel.reshape(n, sub, n, sub).mean(axis=(1, 3))
    return kernel / kernel.sum()


def noise_area(picture: np.ndarray) -> float:
    """Return the pixels of sky that a matched filter takes in for a star of unit flux: 1 / sum(p^2)."""
    return float(1 / (picture**2).sum())


def make_field(
    rng: np.random.Generator,
    *,
    stars: int,
    fwhm_px: float = 3.0,
    width: int = 750,
    height: int = 500,
    faintest: float = 2.5,
    brightest: float = 5.0,
    trail_px: tuple[float, float] = (0.0, 0.0),
    ring_px: tuple[float, float] | None = None,
    positions: tuple[np.ndarray, np.ndarray] | None = None,
) -> Field:
    """Return stars at random places, evenly spread in log flux between 10^faintest and 10^brightest e-."""
    x, y = positions or (rng.uniform(5, width - 6, stars), rng.uniform(5, height - 6, stars))
    flux = 10 ** rng.uniform(faintest, brightest, len(x))
    psf = Psf.with_fwhm(fwhm_px)

    def drawn(shape: tuple[int, int], xs: np.ndarray, ys: np.ndarray, fluxes: np.ndarray) -> np.ndarray:
        picture = np.zeros(shape)
        add_stars(picture, xs, ys, fluxes, psf, trail_px=trail_px)
        if ring_px is not None:
            picture = np.maximum(fftconvolve(picture, ring_kernel(*ring_px), mode="same"), 0.0)
        return picture

    expected = drawn((height, width), x, y, flux)
    image = rng.poisson(SKY_E + expected) + rng.normal(0.0, READ_E, expected.shape)
    one = drawn((121, 121), np.array([60.0]), np.array([60.0]), np.array([1.0]))
    return Field(image.astype(np.float32), x, y, flux, fwhm_px, noise_area(one), expected)


def joint_snr(field: Field, every: int = 1) -> np.ndarray:
    """Return each star's flux over the least error it can be known with when its neighbours are not known either.

    The Cramer-Rao bound of fluxes and places of a star and of all within 2.5 FWHM, fitted together, with the noise of
    everybody's light: what `Field.snr` becomes where stars overlap. Round stars only; those whose own signal to noise
    ratio is under 6 are not looked at and get 0, nor are others than each so many-th.
    """
    psf = Psf.with_fwhm(field.fwhm_px)
    variance = NOISE**2 + field.signal
    height, width = variance.shape
    reach = math.ceil(3 * field.fwhm_px)
    places = np.column_stack([field.x, field.y])
    tree = cKDTree(places)
    result = np.zeros(len(field.x))
    for i in np.flatnonzero(field.snr > 6)[::every]:
        near = [i, *(j for j in tree.query_ball_point(places[i], 2.5 * field.fwhm_px) if j != i)]
        cx, cy = round(field.x[i]), round(field.y[i])
        xs = np.arange(max(0, cx - reach), min(width, cx + reach + 1))
        ys = np.arange(max(0, cy - reach), min(height, cy + reach + 1))
        slopes = []
        for j in near:
            value, along_x, along_y = 0.0, 0.0, 0.0
            for share, sigma in psf.parts:
                (gx, hx), (gy, hy) = (_pixel_light(t, sigma) for t in (xs - field.x[j], ys - field.y[j]))
                value = value + share * np.outer(gy, gx)
                along_x = along_x + share * np.outer(gy, hx)
                along_y = along_y + share * np.outer(hy, gx)
            # Relative to the flux, so that all columns are of one size.
            slopes += [field.flux[j] * np.ravel(v) for v in (value, along_x, along_y)]
        slope = np.array(slopes).T
        weight = 1 / variance[ys[0] : ys[-1] + 1, xs[0] : xs[-1] + 1].ravel()
        information = slope.T @ (slope * weight[:, None])
        result[i] = 1 / math.sqrt(max(float(np.linalg.pinv(information)[0, 0]), 1e-12))
    return result


def _pixel_light(offset: np.ndarray, sigma: float) -> tuple[np.ndarray, np.ndarray]:
    """Return a Gaussian's light in pixels at an offset along one axis, and its slope with the star's place."""
    low, high = (offset - 0.5) / sigma, (offset + 0.5) / sigma
    light = 0.5 * (erf(high / math.sqrt(2)) - erf(low / math.sqrt(2)))
    return light, (np.exp(-0.5 * low**2) - np.exp(-0.5 * high**2)) / (sigma * math.sqrt(2 * math.pi))


def completeness(
    field: Field,
    x: np.ndarray,
    y: np.ndarray,
    *,
    over_snr: float = 7.0,
    within_px: float = 1.5,
    snr: np.ndarray | None = None,
) -> float:
    """Return the share of true stars over a signal-to-noise ratio, unless told that of stars alone, that have a detection close by."""
    if not len(x):
        return 0.0
    distance, _ = cKDTree(np.column_stack([x, y])).query(np.column_stack([field.x, field.y]))
    snr = field.snr if snr is None else snr
    return float((distance[snr > over_snr] < within_px).mean())


def false_count(field: Field, x: np.ndarray, y: np.ndarray, *, beyond_px: float = 3.0) -> int:
    """Return how many detections have no true star close by."""
    if not len(x):
        return 0
    distance, _ = cKDTree(np.column_stack([field.x, field.y])).query(np.column_stack([x, y]))
    return int((distance > beyond_px).sum())


def draw_trail(
    image: np.ndarray, start: tuple[float, float], end: tuple[float, float], *, width_px: float, level: float
) -> None:
    """Add a straight trail with a Gaussian cross-section to an image, in place."""
    y, x = np.mgrid[: image.shape[0], : image.shape[1]]
    length = math.hypot(end[0] - start[0], end[1] - start[1])
    ux, uy = (end[0] - start[0]) / length, (end[1] - start[1]) / length
    along = (x - start[0]) * ux + (y - start[1]) * uy
    across = (x - start[0]) * uy - (y - start[1]) * ux
    ridge = np.exp(-0.5 * (across / (width_px / 2.3548)) ** 2)
    image += (level * ridge * ((along > 0) & (along < length))).astype(np.float32)


def draw_cosmic_rays(rng: np.random.Generator, image: np.ndarray, count: int) -> None:
    """Add straight tracks of one pixel's width, in place."""
    height, width = image.shape
    for _ in range(count):
        x, y, angle = rng.uniform(20, width - 20), rng.uniform(20, height - 20), rng.uniform(0, math.pi)
        for t in np.arange(0, rng.uniform(0.5, 12), 0.25):
            image[round(y + t * math.sin(angle)), round(x + t * math.cos(angle))] += rng.uniform(50, 600)
