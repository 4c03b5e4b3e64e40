"""Tables in the Virtual Observatory's XML format, read in portions (IVOA Recommendation: VOTable 1.4)."""

from __future__ import annotations

import base64
import binascii
import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from xml.parsers import expat

import numpy as np

from ulvar.astrometry.tables import CatalogueError, opened

# Bytes of a value, and how NumPy reads it; what is no number is passed over.
_TYPES = {
    "boolean": (1, ""), "unsignedByte": (1, "u1"), "short": (2, ">i2"), "int": (4, ">i4"), "long": (8, ">i8"), "char": (1, ""),
    "unicodeChar": (2, ""), "float": (4, ">f4"), "double": (8, ">f8"), "floatComplex": (8, ""), "doubleComplex": (16, ""),
}  # fmt: skip
_CHUNK, _ROWS = 1 << 20, 250_000
# The same by the letters that single values are read with.
_LETTERS = {"u1": "B", ">i2": "h", ">i4": "i", ">i8": "q", ">f4": "f", ">f8": "d"}
# Deeper, or with longer names, no table is.
_DEEPEST, _MOST_FIELDS = 64, 5000


@dataclass(frozen=True)
class Field:
    """A column: its name and unit, its type, how many values a cell holds (None: as many as it tells), and what stands for none."""

    name: str
    unit: str
    datatype: str
    count: int | None
    null: str = ""


@dataclass
class _Table:
    """What was read so far of the first table."""

    fields: list[Field] = field(default_factory=list)
    rows: list[list[str]] = field(default_factory=list)
    coded: list[str] = field(default_factory=list)
    kind: str = ""
    done: bool = False
    problem: str = ""


def read_votable(path: Path) -> Iterator[tuple[list[Field], dict[str, Any]]]:
    """Yield the columns of the first table in portions, each with the table's fields: text, or numbers where it is binary.

    Raises
    ------
    CatalogueError
        If it is no such table, holds entities of its own (which could grow without end), or ends before it is whole.
    """
    table = _Table()
    parser = _parser(table)
    rest = b""
    try:
        with opened(path) as handle:
            while not table.done:
                chunk = handle.read(_CHUNK)
                parser.Parse(chunk, not chunk)
                if table.problem:
                    raise CatalogueError(f"{path}: {table.problem}")
                if len(table.rows) >= _ROWS:
                    yield table.fields, _texts(table)
                if table.coded:
                    rest, columns = _numbers(table, rest)
                    if columns is not None:
                        yield table.fields, columns
                if not chunk:
                    break
    except expat.ExpatError as error:
        raise CatalogueError(f"{path}: it is no whole VOTable ({error})") from None
    except (OSError, EOFError, binascii.Error, struct.error, ValueError) as error:
        raise CatalogueError(f"{path}: it cannot be read as a VOTable ({error})") from None
    if not table.fields:
        raise CatalogueError(f"{path}: it holds no table")
    if rest:
        raise CatalogueError(f"{path}: its table ends in the middle of a row")
    if table.rows:
        yield table.fields, _texts(table)


def _parser(table: _Table) -> Any:
    """Return a parser that fills the table."""
    parser = expat.ParserCreate()
    parser.buffer_text = True
    place: list[str] = []
    cell: list[str] = []

    def start(tag: str, told: dict[str, str]) -> None:
        name = tag.rpartition(":")[2]
        place.append(name)
        if len(place) > _DEEPEST:
            table.problem = "its elements lie in each other without end"
        if table.done:
            return
        if name == "FIELD" and len(table.fields) < _MOST_FIELDS:
            called, count = told.get("name") or told.get("ID", ""), _count(told.get("arraysize", ""))
            table.fields.append(Field(called, told.get("unit", ""), told.get("datatype", "char"), count))
        elif name == "VALUES" and len(place) > 1 and place[-2] == "FIELD" and table.fields and told.get("null"):
            last = table.fields[-1]
            table.fields[-1] = Field(last.name, last.unit, last.datatype, last.count, told["null"])
        elif name in ("TABLEDATA", "BINARY", "BINARY2", "FITS"):
            table.kind = name
            if name == "FITS":
                table.problem = "its data are a FITS file of their own: give that"
        elif name == "STREAM":
            if told.get("href"):
                table.problem = "its data lie elsewhere, at an address: fetch them first"
            elif told.get("encoding", "base64") != "base64":
                table.problem = f"its data are coded by '{told['encoding']}', not base64"
        elif name == "TR":
            table.rows.append([])
        elif name == "TD":
            cell.clear()

    def text(words: str) -> None:
        if not place or table.done:
            return
        if place[-1] == "TD":
            cell.append(words)
        elif place[-1] == "STREAM":
            table.coded.append(words)

    def end(tag: str) -> None:
        name = place.pop() if place else ""
        if name == "TD" and table.rows:
            table.rows[-1].append("".join(cell))
        elif name == "TABLE" and table.kind:
            table.done = True

    def entity(*_: Any) -> None:
        table.problem = "it declares entities of its own, which no table needs"
        raise expat.ExpatError(table.problem)

    parser.StartElementHandler, parser.CharacterDataHandler, parser.EndElementHandler = start, text, end
    parser.EntityDeclHandler = entity
    return parser


def _count(arraysize: str) -> int | None:
    """Return how many values a cell holds; None where each tells it itself."""
    if not arraysize:
        return 1
    if arraysize.endswith("*"):
        return None
    count = 1
    for part in re.split("x", arraysize):
        count *= int(part)
    return count


def _texts(table: _Table) -> dict[str, Any]:
    """Take the rows of text off the table."""
    rows, table.rows = table.rows, []
    # The last one may still be read.
    if not table.done and rows:
        table.rows = [rows.pop()]
    wide = len(table.fields)
    full = [row + [""] * (wide - len(row)) for row in rows]
    columns = zip(*full) if full else [()] * wide
    return {
        one.name: ["" if one.null and cell.strip() == one.null else cell for cell in column]
        for one, column in zip(table.fields, columns)
    }


def _numbers(table: _Table, rest: bytes) -> tuple[bytes, dict[str, Any] | None]:
    """Decode what came of a binary table; returns the bytes of a row that is not whole yet, and the columns."""
    text = "".join(table.coded)
    text = re.sub(r"\s+", "", text)
    whole = len(text) // 4 * 4
    table.coded = [text[whole:]] if text[whole:] and not table.done else []
    if table.done and text[whole:]:
        raise ValueError("its letters end within a byte")
    data = rest + base64.b64decode(text[:whole], validate=True)
    flags = (len(table.fields) + 7) // 8 if table.kind == "BINARY2" else 0
    if all(one.count is not None for one in table.fields):
        return _fixed(table, data, flags)
    return _varying(table, data, flags)


def _size(one: Field) -> tuple[int, str]:
    if one.datatype == "bit":
        return 1, ""
    if one.datatype not in _TYPES:
        raise ValueError(f"the column {one.name} is of the unknown type '{one.datatype}'")
    return _TYPES[one.datatype]


def _fixed(table: _Table, data: bytes, flags: int) -> tuple[bytes, dict[str, Any] | None]:
    kinds: list[Any] = [("flags", f"V{flags}")] if flags else []
    for k, one in enumerate(table.fields):
        size, code = _size(one)
        count = one.count or 0
        if one.datatype == "bit":
            count = (count + 7) // 8
        kinds.append((f"c{k}", code) if code and one.count == 1 else (f"c{k}", f"V{size * count}"))
    layout = np.dtype(kinds)
    rows = len(data) // layout.itemsize if layout.itemsize else 0
    if not rows:
        return data, None
    read = np.frombuffer(data, dtype=layout, count=rows)
    columns = {}
    for k, one in enumerate(table.fields):
        if one.count != 1 or not _size(one)[1]:
            continue
        columns[one.name] = _known(one, read[f"c{k}"])
        if flags:
            bits = np.frombuffer(read["flags"].tobytes(), dtype=np.uint8).reshape(rows, flags)
            columns[one.name][(bits[:, k // 8] >> (7 - k % 8) & 1) == 1] = np.nan
    return data[rows * layout.itemsize :], columns


def _known(one: Field, values: Any) -> Any:
    """Return numbers as float64, what stands for none as NaN."""
    found = np.array(values, dtype=np.float64)
    if one.null:
        try:
            found[found == float(one.null)] = np.nan
        except ValueError:
            return found
    return found


def _varying(table: _Table, data: bytes, flags: int) -> tuple[bytes, dict[str, Any] | None]:
    """Read rows whose cells tell how long they are, one by one."""
    told: dict[str, list[float]] = {one.name: [] for one in table.fields if one.count == 1 and _size(one)[1]}
    readers = {one.name: struct.Struct(f">{_LETTERS[_size(one)[1]]}") for one in table.fields if one.name in told}
    at = 0
    while True:
        begin, place, row = at, at, {}
        marks = data[place : place + flags]
        place += flags
        for k, one in enumerate(table.fields):
            size, _ = _size(one)
            count = one.count
            if count is None:
                if place + 4 > len(data):
                    break
                (count,) = struct.unpack_from(">I", data, place)
                place += 4
            length = (count + 7) // 8 if one.datatype == "bit" else size * count
            if place + length > len(data):
                break
            if one.name in told:
                null = bool(flags) and bool(marks[k // 8] >> (7 - k % 8) & 1)
                row[one.name] = float("nan") if null else float(readers[one.name].unpack_from(data, place)[0])
            place += length
        else:
            at = place
            for name, value in row.items():
                told[name].append(value)
            if at < len(data):
                continue
        if at == begin or at >= len(data):
            break
    if not any(told.values()):
        return data[at:], None
    return data[at:], {one.name: _known(one, told[one.name]) for one in table.fields if one.name in told}
