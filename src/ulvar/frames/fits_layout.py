"""Where the units of a FITS file lie, from the bytes of its headers alone: known before a library or memory is asked.

References
----------
FITS Standard 4.0 (2018), sections 3 (blocks of 2880 bytes), 4.4.1 (mandatory keywords), 10.1 (tiled images).
"""

from __future__ import annotations

import math
import re
import struct
from collections.abc import Callable
from dataclasses import dataclass

from ulvar.frames.frame import FrameError

BLOCK, CARD = 2880, 80
# Beyond these a file is no exposure. The largest sensors have 0.2e9 pixels; a header of the length holds the history
# of a stack of many thousand exposures.
MAX_PIXELS = 1_000_000_000
MAX_PLANES = 10_000
MAX_CARDS = 100_000

_BITPIX = (8, 16, 32, 64, -32, -64)
_PACKINGS = ("RICE_1", "RICE_ONE", "GZIP_1", "GZIP_2", "PLIO_1", "HCOMPRESS_1", "NOCOMPRESS")
_WHOLE = re.compile(rb"[+-]?\d{1,30}(?:\.0*)?")
_ODD = re.compile(rb"[^\x20-\x7e]")
_PLAIN = bytes(range(0x20, 0x7F))
_END = b"END     "
_CARDS = struct.Struct(f"8s2s{CARD - 10}s")


@dataclass(frozen=True)
class Unit:
    """One header and its data.

    Attributes
    ----------
    start, data_start : int
        Where its header and its data begin [bytes].
    data_bytes : int
        Length of the data without the filling of its last block [bytes].
    odd : bool
        Whether its header holds bytes that no card may hold: libraries stumble over them.
    plain : bool
        Whether its data are the pixels of an image, as they are.
    """

    start: int
    data_start: int
    data_bytes: int
    odd: bool
    plain: bool

    @property
    def end(self) -> int:
        """Where the next unit would begin [bytes]."""
        return self.data_start + -(-self.data_bytes // BLOCK) * BLOCK


def _end_of(header: bytes, first: int) -> int:
    """Return where the END card begins, looked for from a card on; -1 where there is none."""
    at = header.find(_END, first)
    while at >= 0 and at % CARD:
        at = header.find(_END, at + 1)
    return at


def _header(read: Callable[[int, int], bytes], start: int, path: str) -> bytes:
    """Return a header's blocks up to the one that holds END."""
    step = 8 * BLOCK
    header = b""
    while True:
        more = read(start + len(header), step)
        if not more:
            raise FrameError(path, "the file is cut short: it ends within its header" if header else "it has no header")
        first = len(header)
        header += more
        at = _end_of(header, first - first % CARD)
        if at > MAX_CARDS * CARD or (at < 0 and len(header) > MAX_CARDS * CARD):
            raise FrameError(path, f"its header is longer than {MAX_CARDS} cards")
        if at >= 0:
            return header[: -(-(at + CARD) // BLOCK) * BLOCK]
        step = 64 * BLOCK


def _values(header: bytes) -> dict[bytes, bytes]:
    """Return what stands behind the names of a header's cards that have a value: value and comment, the first of a name."""
    cards = list(_CARDS.iter_unpack(header[: len(header) // CARD * CARD]))
    return {name.rstrip(): rest for name, sign, rest in reversed(cards) if sign == b"= "}


class _Cards:
    """The cards of one header by which its data are found."""

    def __init__(self, header: bytes, path: str) -> None:
        self.values = _values(header)
        self.path = path

    def _value(self, name: str) -> bytes | None:
        rest = self.values.get(name.encode())
        return None if rest is None else rest.partition(b"/")[0].strip()

    def whole(self, name: str, default: int | None = None) -> int:
        """Return a whole number of a header, not negative but for BITPIX."""
        text = self._value(name)
        if text is None:
            if default is None:
                raise FrameError(self.path, f"its header does not say {name}")
            return default
        number = int(text.partition(b".")[0]) if _WHOLE.fullmatch(text) else None
        if number is None or (number < 0 and not name.endswith("BITPIX")):
            raise FrameError(self.path, f"its header gives {name} as {_shown(text)}")
        return number

    def axes(self, prefix: str = "") -> list[int]:
        """Return the lengths of the axes."""
        count = self.whole(f"{prefix}NAXIS")
        if count > 999:
            raise FrameError(self.path, f"its header gives {prefix}NAXIS as {count}")
        return [self.whole(f"{prefix}NAXIS{i + 1}") for i in range(count)]

    def bitpix(self, prefix: str = "") -> int:
        """Return the type of the pixels."""
        number = self.whole(f"{prefix}BITPIX")
        if number not in _BITPIX:
            raise FrameError(self.path, f"its header gives {prefix}BITPIX as {number}")
        return number

    def flag(self, name: str) -> bool:
        """Whether a card says T."""
        return self._value(name) == b"T"

    def text(self, name: str) -> str:
        """Return a text without its quotes; empty where there is none."""
        return (self._value(name) or b"").strip(b"'").strip().decode("ascii", "replace")


def _shown(text: bytes) -> str:
    words = _ODD.sub(b"?", text[:30]).decode()
    return words or "nothing"


def _check_image(axes: list[int], path: str) -> None:
    pixels = math.prod(axes[:2])
    if pixels > MAX_PIXELS:
        size = " x ".join(str(n) for n in axes[:2])
        raise FrameError(path, f"its header promises {size} pixels; up to {MAX_PIXELS // 10**6} million are read")
    planes = math.prod(axes[2:])
    if planes > MAX_PLANES:
        raise FrameError(path, f"its header promises {planes} planes; up to {MAX_PLANES} are read")


def _check_tiles(cards: _Cards, axes: list[int]) -> None:
    """Refuse what decoders of tiles divide by, index with, or make memory for."""
    cards.bitpix("Z")
    for i, length in enumerate(axes):
        tile = cards.whole(f"ZTILE{i + 1}", length if i == 0 else 1)
        if not 1 <= tile <= MAX_PIXELS or length < 1:
            raise FrameError(cards.path, f"its header gives tiles of {tile} on an axis of {length} pixels")
    packing = cards.text("ZCMPTYPE")
    if packing not in _PACKINGS:
        raise FrameError(cards.path, f"its pixels are packed in a way that is not known ({packing[:20] or 'none'})")


def _unit(read: Callable[[int, int], bytes], start: int, path: str) -> Unit:
    header = _header(read, start, path)
    cards = _Cards(header, path)
    axes, bits = cards.axes(), abs(cards.bitpix())
    sizes = axes[1:] if cards.flag("GROUPS") and axes and axes[0] == 0 else axes
    count = math.prod(sizes) if sizes else 0
    groups, extra = cards.whole("GCOUNT", 1), cards.whole("PCOUNT", 0)
    length = bits // 8 * groups * (extra + count) if axes else 0
    image = cards.text("XTENSION") in ("", "IMAGE")
    if cards.flag("ZIMAGE"):
        packed = cards.axes("Z")
        _check_image(packed, path)
        _check_tiles(cards, packed)
    elif image:
        _check_image(axes, path)
    plain = image and cards.text("EXTNAME") != "MASK"
    return Unit(start, start + len(header), length, bool(header.translate(None, _PLAIN)), plain)


def units_of(
    read: Callable[[int, int], bytes], path: str, check: Callable[[Unit], None] = lambda unit: None
) -> list[Unit]:
    """Return the units of a FITS file.

    What follows the last unit and is none is passed over, as the standard wants (section 3.5).

    Parameters
    ----------
    read : callable (start, count) -> bytes
        Gives bytes of the file, fewer at its end.
    path : str
        For the errors.
    check : callable, optional
        Is shown each unit before the bytes behind its header are asked for, and may refuse it.

    Raises
    ------
    FrameError
        If it is no FITS file, a header makes no sense, or an image is larger than any exposure.
    """
    if read(0, 9) != b"SIMPLE  =":
        raise FrameError(path, "this is not a FITS file")
    first = _unit(read, 0, path)
    check(first)
    found = [first]
    while read(found[-1].end, 9) == b"XTENSION=":
        unit = _unit(read, found[-1].end, path)
        check(unit)
        found.append(unit)
    return found


def cleaned(header: bytes) -> bytes:
    """Return a header with a question mark for every byte that no card may hold."""
    return _ODD.sub(b"?", header)
