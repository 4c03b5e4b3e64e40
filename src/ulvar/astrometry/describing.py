"""What a local catalogue is: its name, what it covers, how deep, its licence; and stars of it by what they are called."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ulvar.astrometry.tables import CatalogueError
from ulvar.astrometry.tiles import TOLD, read_tile, tile_places, told_of_tiles, zone_height
from ulvar.engine import F64Array, files_in, write_text

# So many tiles, spread over all, tell depth, epochs and bands.
_SAMPLED = 40
# The magnitude that so many of the stars are brighter than is called the depth.
_DEPTH = 0.95


@dataclass(frozen=True)
class CatalogueFacts:
    """A catalogue of tiles.

    Attributes
    ----------
    folder : Path
    name, licence, origin : str
        As they were told when it was made; the folder's name where no name was.
    stars, tiles : int
    covered : float
        Share of the sky that its tiles lie on.
    depth_mag : float
        Magnitude that 19 of 20 stars are brighter than, from a sample; NaN without magnitudes.
    epochs : (float, float)
        First and last Julian year of positions, from the sample.
    bands : tuple of str
        Magnitudes beside the main one, from the sample.
    has : tuple of str
        What else it tells: ``proper motions``, ``errors``, ``variable stars``, ``identifiers``.
    places : float64 array, shape (tiles, 4)
        Right ascension and declination of the middle of each tile, its width in right ascension and its height [deg].
    """

    folder: Path
    name: str
    licence: str
    origin: str
    stars: int
    tiles: int
    covered: float
    depth_mag: float
    epochs: tuple[float, float]
    bands: tuple[str, ...]
    has: tuple[str, ...]
    places: F64Array


def name_catalogue(folder: Path, *, name: str = "", licence: str = "", origin: str = "") -> None:
    """Write down what a catalogue is called, under which licence it is, and where it comes from; what is empty stays as it was.

    Raises
    ------
    CatalogueError
        If the folder holds no tiles.
    """
    if not files_in(folder, "*.parquet"):
        raise CatalogueError(f"{folder}: the folder holds no catalogue tiles")
    told = told_of_tiles(folder) | {"zone_deg": zone_height(folder)}
    given = {key: text for key, text in (("name", name), ("licence", licence), ("origin", origin)) if text}
    write_text(folder / TOLD, json.dumps(told | given, indent=1), replace=True)


def describe_catalogue(folder: Path) -> CatalogueFacts:
    """Look at a catalogue of tiles: all tiles are counted, a sample of them is read.

    Raises
    ------
    CatalogueError
        If it holds no tiles, or one cannot be read.
    """
    import pyarrow as pa
    import pyarrow.parquet as pq

    files = files_in(folder, "*.parquet") if folder.is_dir() else []
    if not files:
        raise CatalogueError(f"{folder}: the folder holds no catalogue tiles")
    told, stars = told_of_tiles(folder), 0
    for path in files:
        try:
            with path.open("rb") as handle:
                stars += int(pq.ParquetFile(handle).metadata.num_rows)
        except (OSError, ValueError, pa.ArrowException) as error:
            first = (str(error).splitlines() or [type(error).__name__])[0]
            raise CatalogueError(f"{path}: it cannot be read as a catalogue tile ({first})") from None
    every = max(1, len(files) // _SAMPLED)
    sample = [read_tile(path, words=True) for path in files[::every]]
    columns = {key for tile in sample for key in tile}

    def gathered(key: str) -> F64Array:
        values = [tile[key] for tile in sample if key in tile]
        joined = np.concatenate(values) if values else np.empty(0)
        return joined[np.isfinite(joined)]

    magnitudes, epochs, motions = gathered("mag"), gathered("epoch"), gathered("pmra")
    has = [
        words
        for words, there in (
            ("proper motions", bool((motions != 0).any())),
            ("errors", any(key.startswith("error_") for key in columns)),
            ("variable stars", bool(len(gathered("variable")))),
            ("identifiers", any((tile["id"] != "").any() for tile in sample if "id" in tile)),
        )
        if there
    ]
    places, area = tile_places([path.stem for path in files], zone_height(folder))
    return CatalogueFacts(
        folder, str(told.get("name") or folder.name), str(told.get("licence") or ""), str(told.get("origin") or ""), stars,
        len(files), area / (360**2 / math.pi), float(np.quantile(magnitudes, _DEPTH)) if len(magnitudes) else math.nan,
        (float(epochs.min()), float(epochs.max())) if len(epochs) else (math.nan, math.nan),
        tuple(sorted(key.removeprefix("band_") for key in columns if key.startswith("band_"))), tuple(has), places,
    )  # fmt: skip


def catalogues_in(folder: Path) -> list[Path]:
    """Return the folders in a folder that hold catalogues of tiles, and itself if it does."""
    inside = sorted(path for path in folder.iterdir() if path.is_dir()) if folder.is_dir() else []
    return [path for path in [folder, *inside] if files_in(path, "*.parquet")]


def star_by_id(folder: Path, name: str) -> tuple[str, float, float, float, float, float] | None:
    """Return a star by what the catalogue calls it: id, ra, dec [deg], epoch [yr], pmra, pmdec [mas/yr]; None where there is none.

    Capitals and blanks do not count. Every tile is looked through, its identifiers first.

    Raises
    ------
    CatalogueError
        If a tile cannot be read.
    """
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.parquet as pq

    wanted = "".join(name.split()).lower()
    if not wanted:
        return None
    for path in files_in(folder, "*.parquet"):
        try:
            with path.open("rb") as handle:
                file = pq.ParquetFile(handle)
                if "id" not in file.schema_arrow.names:
                    continue
                ids = file.read(columns=["id"]).column("id")
                plain = pc.utf8_lower(pc.replace_substring(ids, " ", ""))
                row = pc.index(plain, pa.scalar(wanted, plain.type)).as_py()
        except (OSError, ValueError, pa.ArrowException) as error:
            first = (str(error).splitlines() or [type(error).__name__])[0]
            raise CatalogueError(f"{path}: it cannot be read as a catalogue tile ({first})") from None
        if row >= 0:
            tile = read_tile(path, words=True)
            numbers = [float(tile[key][row]) if key in tile else 0.0 for key in ("ra", "dec", "epoch", "pmra", "pmdec")]
            return (str(tile["id"][row]), *numbers)  # type: ignore[return-value]
    return None


def coverage_map(places: F64Array, width: int = 48, height: int = 16) -> Sequence[str]:
    """Return where tiles lie on the whole sky, as lines of text: RA from 24 h at the left to 0 h, Dec from +90 to -90 degrees."""
    cells = np.zeros((height, width), dtype=bool)
    for ra, dec, wide, high in places:
        columns = [int((360 - edge) / 360 * width) for edge in (ra + wide / 2 - 1e-6, ra - wide / 2 + 1e-6)]
        rows = [int((90 - edge) / 180 * height) for edge in (dec + high / 2 - 1e-6, dec - high / 2 + 1e-6)]
        cells[max(0, rows[0]) : min(height, rows[1] + 1), max(0, columns[0]) : min(width, columns[1] + 1)] = True
    return ["".join("#" if cell else "." for cell in line) for line in cells.tolist()]
