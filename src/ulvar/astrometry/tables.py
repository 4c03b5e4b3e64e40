"""Tables of stars as people have them, read in portions: CSV, Parquet, FITS tables, VOTable."""

from __future__ import annotations

import gzip
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry.words import WORDS, as_words, words_of
from ulvar.engine import F64Array, reason_words
from ulvar.frames import parse_angle, plain_reason


class CatalogueError(Exception):
    """A catalogue that cannot be used: which file and why."""


class NoStars(CatalogueError):
    """A table of which no row has a place on the sky."""


# What columns are called, in small letters, the usual name first; Ulvar's own names are the keys.
_NAMES = {
    "ra": ("ra", "raj2000", "ra_icrs", "ra_j2000", "ra_deg", "radeg", "_raj2000", "ra2000", "alpha"),
    "dec": ("dec", "dej2000", "de_icrs", "decj2000", "dec_icrs", "dec_j2000", "dec_deg", "decdeg", "dedeg", "_dej2000", "decl", "delta"),
    "epoch": ("epoch", "ref_epoch"),
    "pmra": ("pmra", "pm_ra", "pmra_cosdec"),
    "pmdec": ("pmdec", "pm_dec", "pmde"),
    "mag": ("mag", "magnitude"), "error_mag": ("mag_error", "e_mag", "mag_err", "magnitude_error"),
    "id": ("id", "source_id", "designation", "main_id", "name", "star", "object", "objid", "hip", "tyc"),
    "variable": ("variable", "phot_variable_flag", "var_flag", "varflag", "is_variable", "var"),
}  # fmt: skip
# How the error of a magnitude is called after its column.
_ERRORS = ("{}_error", "e_{}", "{}_err", "{}err", "{}error")
_BANDS = {
    "phot_g_mean_mag": "G", "phot_bp_mean_mag": "BP", "phot_rp_mean_mag": "RP", "gmag": "G", "bpmag": "BP", "rpmag": "RP",
    "umag": "U", "bmag": "B", "vmag": "V", "rmag": "R", "imag": "I",
}  # fmt: skip
# Columns that are no brightness, whatever they hold.
_NOT_BANDS = re.compile(r"(^id$|source_id|_id$|error|^e_|parallax|^rv|radial|flag|^n_|corr|count|solution)")
# Factors to degrees and to milliarcseconds a year.
_DEGREES = {"deg": 1.0, "rad": 180 / np.pi, "hourangle": 15.0, "h": 15.0, "arcsec": 1 / 3600}
_MOTION = {"mas/yr": 1.0, "mas.yr-1": 1.0, "arcsec/yr": 1000.0, "arcsec.yr-1": 1000.0, "deg/yr": 3.6e6}
_NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$"
_SEPARATORS = ",;\t|"
_ROWS, _BLOCK = 250_000, 1 << 23


@dataclass
class Rows:
    """Some rows of a table of stars.

    Attributes
    ----------
    columns : dict of str to float64 array
        ``ra, dec`` [deg], and what else there is: ``epoch`` [yr], ``pmra, pmdec`` [mas/yr], ``mag``, bands by their names, their errors as
        ``error_<band>`` [mag], ``variable`` (1 or 0), and ``id``, an array of text.
    bad : int
        Rows that could not be used, and why the first of them could not.
    why : str
    """

    columns: dict[str, F64Array] = field(default_factory=dict)
    bad: int = 0
    why: str = ""


def star_rows(path: Path, given: dict[str, str] | None = None) -> Iterator[Rows]:
    """Read a table of stars in portions.

    Parameters
    ----------
    path : Path
        ``.parquet``; ``.fits``, ``.fit``: the first table in it; ``.vot``, ``.xml``: VOTable; packed tables by their mark; else
        text with a line of names, packed by gzip or not, whatever separates its columns; lines that begin with # are passed over.
    given : dict of str to str, optional
        Ulvar's name of a column to what it is called in the file, where that is not one of the usual names.

    Raises
    ------
    CatalogueError
        If the file is missing, is none, or has no positions.
    """
    from ulvar.astrometry.packed import is_packed, packed_rows

    if not path.exists():
        raise CatalogueError(f"{path}: there is no such file")
    name = path.name.lower()
    if name.endswith((".parquet", ".pq")):
        yield from _parquet(path, given or {})
    elif name.endswith((".fits", ".fit", ".fts", ".fits.gz", ".fit.gz")):
        yield from _fits(path, given or {})
    elif name.endswith((".vot", ".xml", ".votable", ".vot.gz", ".xml.gz")):
        yield from _votable(path, given or {})
    elif is_packed(path):
        yield from packed_rows(path)
    else:
        yield from _text(path, given or {})


@dataclass(frozen=True)
class _Plan:
    """Which column of the file is which: pairs of Ulvar's name and its place; factors by Ulvar's name."""

    places: dict[str, int]
    factors: dict[str, float]


def _planned(path: Path, header: Sequence[str], units: Sequence[str], given: dict[str, str]) -> _Plan:
    lower = [name.strip().lower() for name in header]
    places: dict[str, int] = {}
    for own, told in given.items():
        if told.strip().lower() not in lower:
            raise CatalogueError(f"{path}: it has no column {told}, only {', '.join(header)}")
        places[own] = lower.index(told.strip().lower())
    for own, names in _NAMES.items():
        found = [lower.index(n) for n in names if n in lower and own not in places]
        if found:
            if lower.count(lower[found[0]]) > 1:
                raise CatalogueError(f"{path}: the column {lower[found[0]]} stands twice")
            places[own] = found[0]
    if "ra" not in places or "dec" not in places:
        raise CatalogueError(
            f"{path}: it has no ra and dec columns, only {', '.join(n for n in header if n) or 'nothing'}"
        )
    taken = set(places.values())
    for k, name in enumerate(header):
        if k in taken or not name.strip() or _NOT_BANDS.search(lower[k]):
            continue
        own = _BANDS.get(lower[k], name.strip())
        if own not in places:
            places[own] = k
            error = next((lower.index(e) for form in _ERRORS if (e := form.format(lower[k])) in lower), None)
            if error is not None and error not in taken:
                places[f"error_{own}"] = error
    factors = {}
    for own, known in (("ra", _DEGREES), ("dec", _DEGREES), ("pmra", _MOTION), ("pmdec", _MOTION)):
        unit = units[places[own]].strip().lower() if own in places and places[own] < len(units) else ""
        factors[own] = known.get(unit, 1.0)
    return _Plan(places, factors)


def usable(columns: dict[str, F64Array], first: int, bad: int = 0, why: str = "") -> Rows:
    """Return rows with a place on the sky; the rest is counted, the first of it named by its number."""
    ra, dec = columns["ra"], columns["dec"]
    good = np.isfinite(ra) & np.isfinite(dec) & (np.abs(dec) <= 90) & (np.abs(ra) < 1e6)
    lost = np.flatnonzero(~good)
    if len(lost) and not why:
        why = f"row {first + int(lost[0]) + 1} has no place on the sky"
    return Rows({name: values[good] for name, values in columns.items()}, bad + len(lost), why)


def _scaled(columns: dict[str, F64Array], plan: _Plan) -> dict[str, F64Array]:
    return {
        name: values * plan.factors[name] if plan.factors.get(name, 1.0) != 1.0 else values
        for name, values in columns.items()
    }


# ---- text


def opened(path: Path) -> Any:
    """Open a file for its bytes, unpacked where it is packed by gzip."""
    with path.open("rb") as handle:
        packed = handle.read(2) == b"\x1f\x8b"
    return gzip.open(path, "rb") if packed else path.open("rb")


def _header_of(path: Path) -> tuple[int, list[str], str]:
    """Return at which line the names stand, the names, and what separates columns."""
    try:
        with opened(path) as handle:
            for number, line in enumerate(handle):
                text = line.decode("utf-8-sig" if number == 0 else "utf-8").strip("\r\n")
                if text.strip() and not text.startswith("#"):
                    separator = max(_SEPARATORS, key=text.count)
                    if not text.count(separator):
                        separator = "," if len(text.split()) < 2 else " "
                    names = text.split() if separator == " " else text.split(separator)
                    return number, [n.strip().strip('"').strip() for n in names], separator
    except (UnicodeDecodeError, EOFError, gzip.BadGzipFile) as error:
        raise CatalogueError(f"{path}: it is not a text table ({error})") from None
    except OSError as error:
        raise CatalogueError(f"{path}: {reason_words(error)}") from None
    raise CatalogueError(f"{path}: it has no ra and dec columns, only nothing")


def _text(path: Path, given: dict[str, str]) -> Iterator[Rows]:
    import pyarrow as pa
    from pyarrow import csv

    number, header, separator = _header_of(path)
    plan = _planned(path, header, (), given)
    names = [f"c{k}" for k in range(len(header))]
    lost: list[Any] = []

    def skipped(row: Any) -> str:
        # A line of words is no star, and none that is lost.
        if not str(row.text).lstrip().startswith("#"):
            lost.append(row)
        return "skip"

    wanted = sorted(set(plan.places.values()))
    places = {k: names[k] for k in wanted}
    first = 0
    try:
        with opened(path) as handle:
            source: Any = _Spaced(handle) if separator == " " else handle
            reader = csv.open_csv(
                source,
                read_options=csv.ReadOptions(skip_rows=number + 1, column_names=names, block_size=_BLOCK),
                parse_options=csv.ParseOptions(delimiter="," if separator == " " else separator, invalid_row_handler=skipped),
                convert_options=csv.ConvertOptions(
                    include_columns=list(places.values()), column_types=dict.fromkeys(places.values(), pa.string()),
                ),
            )  # fmt: skip
            for batch in reader:
                told = {name: _column(batch.column(places[k]), name) for name, k in plan.places.items()}
                why = f"a row has {lost[0].actual_columns} columns, not {lost[0].expected_columns}" if lost else ""
                rows = usable(_scaled(told, plan), first, len(lost), why)
                lost.clear()
                first += batch.num_rows
                yield rows
    except (pa.ArrowException, ValueError, EOFError, gzip.BadGzipFile) as error:
        if "Empty CSV" in str(error):
            return
        reason = (str(error).splitlines() or [type(error).__name__])[0]
        raise CatalogueError(f"{path}: it is not a text table ({reason})") from None
    except OSError as error:
        raise CatalogueError(f"{path}: {reason_words(error)}") from None


class _Spaced:
    """Text whose columns are apart by blanks, as text with commas."""

    closed = False

    def __init__(self, handle: Any) -> None:
        self._handle = handle
        self._rest = b""

    def read(self, count: int = -1) -> bytes:
        """Return some bytes; whole lines, so that no run of blanks is cut."""
        while True:
            portion = self._handle.read(count)
            whole, line, self._rest = (self._rest + portion).rpartition(b"\n") if portion else (self._rest, b"", b"")
            made = whole + line
            if made or not portion:
                return b"\n".join(re.sub(rb"[ \t]+", b",", one.strip()) for one in made.split(b"\n"))

    def readable(self) -> bool:
        """Whether it can be read."""
        return True

    def close(self) -> None:
        """Nothing of its own is open."""


def _column(column: Any, name: str) -> np.ndarray:
    """Return a column of text: words where it holds them, else numbers."""
    return as_words(column, name) if name in WORDS else _floats(column, name)


def _floats(column: Any, name: str) -> F64Array:
    """Return a column of text as numbers; of positions also as people write angles."""
    import pyarrow as pa
    import pyarrow.compute as pc

    text = pc.utf8_trim_whitespace(column)
    try:
        # An empty cell is no number; all others are, as a rule.
        cast = pc.cast(pc.if_else(pc.equal(text, ""), pa.scalar(None, pa.string()), text), pa.float64())
        return np.asarray(cast.to_numpy(zero_copy_only=False), dtype=np.float64)
    except pa.ArrowInvalid:
        pass
    number = pc.match_substring_regex(text, _NUMBER)
    cast = pc.cast(pc.if_else(number, text, pa.scalar(None, pa.string())), pa.float64())
    values = np.array(cast.to_numpy(zero_copy_only=False), dtype=np.float64)
    if name in ("ra", "dec"):
        for k in np.flatnonzero(~np.isfinite(values)):
            words = text[int(k)].as_py() or ""
            if ":" in words or " " in words or "h" in words or "d" in words:
                try:
                    values[k] = parse_angle(words, hours=name == "ra")
                except ValueError:
                    continue
    return values


# ---- binary


def _as_floats(values: Any) -> F64Array | None:
    """Return a column of a binary table as numbers; None for words."""
    array = np.asarray(values)
    if array.ndim != 1 or array.dtype.kind not in "fiu":
        return None
    return np.asarray(array, dtype=np.float64)


def _portions(path: Path, plan: _Plan, first: int, read: dict[str, Any]) -> Rows:
    told = {}
    for name in plan.places:
        values = words_of(read[name], name) if name in WORDS else _as_floats(read[name])
        if values is not None:
            told[name] = values
    if "ra" not in told or "dec" not in told:
        raise CatalogueError(f"{path}: its ra and dec are no numbers")
    return usable(_scaled(told, plan), first)


def _parquet(path: Path, given: dict[str, str]) -> Iterator[Rows]:
    import pyarrow as pa
    import pyarrow.parquet as pq

    try:
        with path.open("rb") as handle:
            file = pq.ParquetFile(handle)
            header = list(file.schema_arrow.names)
            plan = _planned(path, header, (), given)
            first = 0
            for batch in file.iter_batches(
                batch_size=_ROWS, columns=[header[k] for k in sorted(set(plan.places.values()))]
            ):
                read = {name: batch.column(header[k]).to_numpy(zero_copy_only=False) for name, k in plan.places.items()}
                yield _portions(path, plan, first, read)
                first += batch.num_rows
    except (OSError, ValueError, TypeError, MemoryError, pa.ArrowException) as error:
        first_line = (str(error).splitlines() or [type(error).__name__])[0]
        raise CatalogueError(f"{path}: it cannot be read as a Parquet table ({first_line})") from None


def _fits(path: Path, given: dict[str, str]) -> Iterator[Rows]:
    import fitsio

    try:
        with fitsio.FITS(str(path)) as file:
            table = next((hdu for hdu in file if hdu.get_exttype() in ("BINARY_TBL", "ASCII_TBL")), None)
            if table is None:
                raise CatalogueError(f"{path}: it holds no table")
            header, cards = list(table.get_colnames()), table.read_header()
            units = [str(cards.get(f"TUNIT{k + 1}") or "") for k in range(len(header))]
            plan = _planned(path, header, units, given)
            wanted = [header[k] for k in sorted(set(plan.places.values()))]
            for first in range(0, int(table.get_nrows()), _ROWS):
                rows = np.arange(first, min(first + _ROWS, int(table.get_nrows())))
                part = table.read(columns=wanted, rows=rows)
                yield _portions(path, plan, first, {name: part[header[k]] for name, k in plan.places.items()})
    except (OSError, ValueError, TypeError, MemoryError) as error:
        raise CatalogueError(f"{path}: it cannot be read as a FITS table ({plain_reason(error)})") from None


def _votable(path: Path, given: dict[str, str]) -> Iterator[Rows]:
    import pyarrow as pa

    from ulvar.astrometry.votable import read_votable

    first = 0
    for fields, columns in read_votable(path):
        header = [one.name for one in fields]
        plan = _planned(path, header, [one.unit for one in fields], given)
        told = {}
        for name, k in plan.places.items():
            values = columns.get(header[k])
            if isinstance(values, list):
                told[name] = _column(pa.array(values, pa.string()), name)
            elif values is not None and name in WORDS:
                words = words_of(values, name)
                if words is not None:
                    told[name] = words
            elif values is not None:
                told[name] = values
        if "ra" not in told or "dec" not in told:
            raise CatalogueError(f"{path}: its ra and dec are no numbers")
        yield usable(_scaled(told, plan), first)
        first += len(told["ra"])
