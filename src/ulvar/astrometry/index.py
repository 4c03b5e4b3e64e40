"""An index of a catalogue's patterns of four stars: built once, kept on disk, opened without being read."""

from __future__ import annotations

import json
import math
import shutil
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.astrometry.catalogue import StarCatalogue
from ulvar.astrometry.sphere import unit_vectors
from ulvar.astrometry.tiles import tile_numbers
from ulvar.engine import F64Array, Progress, StopToken, places_in_groups, silent, temporary_name, write_text
from ulvar.frames import in_circle

# Outermost stars of a band's patterns lie so far apart, or up to twice as far [deg].
BAND_SIZES_DEG = tuple(2.5 / 60 * 2.0**k for k in range(-2, 9))
# An index of a whole sky begins with this band: fields of ten minutes of arc hold a few of its patterns.
_FIRST_OF_ALL = 2
# Stars of a band in each of its cells, which are as high as its patterns are long; patterns that begin there; how many of
# them one star may serve in, so that one that is missing in the exposure takes few of them away.
_STARS, _PATTERNS, _USES = 10, 12, 5
_TOGETHER = 64
_STARS_OF_A_PATTERN = 4
# Bins of each of a code's four numbers, for so many patterns at most; empty bins cost memory, full ones time.
_BINS, _MOST_BINS = ((5_000, 12), (200_000, 24)), 48
_EPOCH = 2025.0
_VERSION = 2
FOLDER = "index"
_ARRAYS = ("ra", "dec", "vec", "stars", "codes", "lengths", "starts")
_BAND_ARRAYS = ("zones", "star", "right")


@dataclass(frozen=True)
class Band:
    """Stars of one angular size, about as many in every part of the sky, sorted by zone and right ascension.

    Attributes
    ----------
    size_deg : float
        Of its patterns at least; the height of its zones.
    zones : int64 array, shape (zones + 1,)
        Where each zone begins.
    star : int32 array, shape (rows,)
        Star of the index.
    right : float64 array, shape (rows,)
        Its right ascension [rad].
    """

    size_deg: float
    zones: np.ndarray
    star: np.ndarray
    right: F64Array


@dataclass(frozen=True)
class SkyIndex:
    """Stars, their patterns sorted by code, and the bands that they are of.

    Attributes
    ----------
    ra, dec : float64 array, shape (stars,)
        ICRS at `epoch` [deg], the brightest first.
    vec : float64 array, shape (stars, 3)
        The same as unit vectors.
    stars : int32 array, shape (patterns, 4)
        The outermost two first.
    codes : uint16 array, shape (patterns, 4)
        Places of the inner stars: 65535 times real parts, and imaginary parts plus a half.
    lengths : float32 array, shape (patterns,)
        Distance of the outermost stars [rad].
    starts : int64 array
        Where the patterns of each bin of codes begin.
    bands : tuple of Band
    epoch : float
        Julian year.
    """

    ra: F64Array
    dec: F64Array
    vec: F64Array
    stars: np.ndarray
    codes: np.ndarray
    lengths: np.ndarray
    starts: np.ndarray
    bands: tuple[Band, ...]
    epoch: float

    @property
    def bins(self) -> int:
        """Bins of each of a code's four numbers."""
        return round((len(self.starts) - 1) ** 0.25)


def _band(ra: F64Array, dec: F64Array, size_deg: float, chosen: np.ndarray) -> Band:
    """Sort stars by zone and right ascension."""
    zone, _ = tile_numbers(ra[chosen], dec[chosen], size_deg)
    right = np.radians(ra)
    order = np.lexsort((right[chosen], zone))
    star = chosen[order]
    zones = math.ceil(180 / size_deg)
    begins = np.searchsorted(zone[order], np.arange(zones + 1)).astype(np.int64)
    return Band(size_deg, begins, star.astype(np.int32), right[star])


def _evenly(ra: F64Array, dec: F64Array, size_deg: float, count: int) -> np.ndarray:
    """Return the brightest stars of each cell, which are those of tiles of that height; stars are sorted by brightness."""
    zone, cell = tile_numbers(ra, dec, size_deg)
    return np.flatnonzero(places_in_groups(zone * math.ceil(360 / size_deg + 2) + cell) < count)


def build_index(
    catalogue: StarCatalogue,
    *,
    sizes_deg: Sequence[float] = BAND_SIZES_DEG[_FIRST_OF_ALL:],
    threads: int = 1,
    progress: Progress = silent,
    stop: StopToken | None = None,
) -> SkyIndex:
    """Make the patterns of a catalogue.

    Parameters
    ----------
    catalogue : StarCatalogue
    sizes_deg : sequence of float
        Bands, ascending, of `BAND_SIZES_DEG`.
    threads : int
    progress : Progress
    stop : StopToken, optional

    Returns
    -------
    SkyIndex
        With no pattern at all where the catalogue has too few stars for any.
    """
    from ulvar.astrometry import _kernels

    now = catalogue.at_epoch(_EPOCH)
    order = np.argsort(np.nan_to_num(now.mag, nan=99.0), kind="stable")
    ra, dec = in_circle(now.ra[order]), now.dec[order]
    picked = [_evenly(ra, dec, size, _STARS) for size in sizes_deg]
    # Only stars that serve in a band are kept; they stay in order of brightness.
    kept = np.unique(np.concatenate(picked)) if picked else np.empty(0, dtype=np.int64)
    ra, dec = ra[kept], dec[kept]
    vec = unit_vectors(ra, dec)
    bands = tuple(_band(ra, dec, size, np.searchsorted(kept, chosen)) for size, chosen in zip(sizes_deg, picked))

    def work(at: tuple[Band, int]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        if stop is not None:
            stop.check()
        band, zone = at
        size = math.radians(band.size_deg)
        return _kernels.patterns_of_zone(
            zone, size, size, band.zones, band.right, band.star, vec, _PATTERNS, _USES, _TOGETHER
        )

    # Stars of the zones beside it reach into a zone's cells.
    zones = [
        (band, zone)
        for band in bands
        for zone in range(len(band.zones) - 1)
        if band.zones[min(zone + 2, len(band.zones) - 1)] - band.zones[max(zone - 1, 0)] >= _STARS_OF_A_PATTERN
    ]
    parts = []
    with ThreadPoolExecutor(threads) as pool:
        for done, made in enumerate(pool.map(work, zones), 1):
            parts.append(made)
            progress(done, len(zones), "Indexing stars")
    stars, codes, lengths = (
        (np.concatenate([part[k] for part in parts]) if parts else empty)
        for k, empty in enumerate((np.empty((0, 4), np.int32), np.empty((0, 4), np.float32), np.empty(0, np.float32)))
    )
    bins = next((few for most, few in _BINS if len(stars) <= most), _MOST_BINS)
    cells = _kernels.code_cells(codes, bins)
    by_code = np.argsort(cells, kind="stable")
    starts = np.concatenate([[0], np.cumsum(np.bincount(cells, minlength=bins**4))]).astype(np.int64)
    whole = np.clip(codes[by_code] + np.array([0.0, 0.5, 0.0, 0.5], np.float32), 0.0, 1.0)
    return SkyIndex(
        ra, dec, vec, stars[by_code], np.round(whole * 65535).astype(np.uint16), lengths[by_code], starts, bands, _EPOCH,
    )  # fmt: skip


def write_index(index: SkyIndex, folder: Path, made_of: str) -> Path:
    """Keep an index in a folder of a catalogue; what was there of it is replaced when the new one is whole.

    Parameters
    ----------
    index : SkyIndex
    folder : Path
    made_of : str
        Fingerprint of the catalogue.

    Raises
    ------
    OSError
        If the place takes no output.
    """
    aside = folder / temporary_name(FOLDER, mark="scratch")
    aside.mkdir(parents=True)
    try:
        for name in _ARRAYS:
            np.save(aside / f"{name}.npy", getattr(index, name))
        for k, band in enumerate(index.bands):
            for name in _BAND_ARRAYS:
                np.save(aside / f"band{k}-{name}.npy", getattr(band, name))
        told = {
            "version": _VERSION, "made_of": made_of, "epoch": index.epoch, "sizes_deg": [b.size_deg for b in index.bands],
            "stars": len(index.ra), "patterns": len(index.stars),
        }  # fmt: skip
        write_text(aside / "index.json", json.dumps(told))
        place = folder / FOLDER
        if place.exists():
            old = folder / temporary_name(FOLDER, mark="old")
            place.rename(old)
            aside.rename(place)
            shutil.rmtree(old, ignore_errors=True)
        else:
            aside.rename(place)
    finally:
        shutil.rmtree(aside, ignore_errors=True)
    return folder / FOLDER


def open_index(folder: Path, made_of: str) -> SkyIndex | None:
    """Return the index kept in a folder of a catalogue, mapped and not read; None where there is none of that catalogue.

    Parameters
    ----------
    folder : Path
    made_of : str
        Fingerprint of the catalogue: an index of another state of it is none.
    """
    place = folder / FOLDER
    try:
        told = json.loads((place / "index.json").read_text(encoding="utf-8"))
        if told["version"] != _VERSION or told["made_of"] != made_of:
            return None
        arrays = {name: np.load(place / f"{name}.npy", mmap_mode="r") for name in _ARRAYS}
        bands = tuple(
            Band(float(size), *(np.load(place / f"band{k}-{name}.npy", mmap_mode="r") for name in _BAND_ARRAYS))
            for k, size in enumerate(told["sizes_deg"])
        )
        return SkyIndex(**arrays, bands=bands, epoch=float(told["epoch"])) if bands else None
    except (OSError, ValueError, KeyError, TypeError, EOFError):
        return None
