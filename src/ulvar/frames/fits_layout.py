"""Where the units of a FITS file lie, from the bytes of its headers alone: known before a library or memory is asked.

References
----------
FITS Standard 4.0 (2018), sections 3 (blocks of 2880 bytes), 4.4.1 (mandatory keywords), 10.1 (tiled images).
"""

from __future__ import annotations

import math
import re
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
        for at in range(first - first % CARD, len(header) - 7, CARD):
            if at > MAX_CARDS * CARD:
                raise FrameError(path, f"its header is longer than {MAX_CARDS} cards")
            if header[at : at + 8] == b"END     ":
                return header[: -(-(at + CARD) // BLOCK) * BLOCK]
        step = 64 * BLOCK


def _values(header: bytes) -> dict[bytes, bytes]:
    """Return the bytes of the values of a header's cards, the first of a name."""
    found: dict[bytes, bytes] = {}
    for at in range(0, len(header) - CARD + 1, CARD):
        card = header[at : at + CARD]
        if card[8:10] == b"= ":
            found.setdefault(card[:8].rstrip(), card[10:].partition(b"/")[0].strip())
    return found


class _Cards:
    """The cards of one header by which its data are found."""

    def __init__(self, header: bytes, path: str) -> None:
        self.values = _values(header)
        self.path = path

    def whole(self, name: str, default: int | None = None) -> int:
        """Return a whole number of a header, not negative but for BITPIX."""
        text = self.values.get(name.encode())
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
        return self.values.get(name.encode()) == b"T"

    def text(self, name: str) -> str:
        """Return a text without its quotes; empty where there is none."""
        return self.values.get(name.encode(), b"").strip(b"'").strip().decode("ascii", "replace")


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
    return Unit(start, start + len(header), length, _ODD.search(header) is not None, plain)


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
