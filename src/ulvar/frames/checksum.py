"""Checksums of FITS units, computed while pixels are written instead of by reading the file again.

References
----------
FITS Standard 4.0 (2018), section 4.4.2.7 and appendix J: ones'-complement sums of 32-bit words, and their
encoding as sixteen letters.
"""

from __future__ import annotations

import numpy as np

PLACEHOLDER = "0" * 16
_EXCLUDED = frozenset(range(0x3A, 0x41)) | frozenset(range(0x5B, 0x61))


def fold(total: int) -> int:
    """Return a sum of 32-bit words with every carry added back in (ones'-complement arithmetic)."""
    while total >> 32:
        total = (total & 0xFFFFFFFF) + (total >> 32)
    return total


def block_sum(block: bytes) -> int:
    """Return the sum of a block whose length is a multiple of four, as big-endian words.

    Examples
    --------
    >>> block_sum(bytes([0, 0, 0, 1, 255, 255, 255, 255]))
    1
    """
    return fold(int(np.frombuffer(block, dtype=">u4").sum(dtype=np.uint64)))


def word_sum(pixels: np.ndarray) -> str:
    """Return the DATASUM of float32 pixels as they are written: the sum of their words is the same in any byte order."""
    return str(fold(int(pixels.reshape(-1).view(np.uint32).sum(dtype=np.uint64))))


def encoded(total: int) -> str:
    """Return the sixteen letters that make a unit's sum come out as minus zero when they stand in CHECKSUM.

    Parameters
    ----------
    total : int
        Sum of the unit with `PLACEHOLDER` in CHECKSUM.
    """
    value = ~total & 0xFFFFFFFF
    letters = [""] * 16
    for i in range(4):
        byte = value >> (24 - 8 * i) & 0xFF
        quarter = [byte // 4 + 48] * 4
        quarter[0] += byte % 4
        # Signs of punctuation are avoided by moving one up and its neighbour down.
        while any(code in _EXCLUDED for code in quarter):
            for j in (0, 2):
                if quarter[j] in _EXCLUDED or quarter[j + 1] in _EXCLUDED:
                    quarter[j] += 1
                    quarter[j + 1] -= 1
        for j in range(4):
            letters[4 * j + i] = chr(quarter[j])
    # The value starts in column 12 of its card: turned by one it falls on whole words.
    return letters[15] + "".join(letters[:15])


def stamped(header: bytes, data_sum: int) -> bytes:
    """Return a header with DATASUM and CHECKSUM filled in; both cards must be there, with text values.

    Raises
    ------
    ValueError
        If a card is missing.
    """
    cards = bytearray(header)
    _fill(cards, b"DATASUM ", f"{data_sum}")
    _fill(cards, b"CHECKSUM", PLACEHOLDER)
    _fill(cards, b"CHECKSUM", encoded(fold(block_sum(bytes(cards)) + data_sum)))
    return bytes(cards)


def _fill(cards: bytearray, name: bytes, value: str) -> None:
    for start in range(0, len(cards), 80):
        if cards[start : start + 8] == name:
            text = f"'{value:<16}'".encode("ascii") if name == b"CHECKSUM" else f"'{value:<8}'".encode("ascii")
            card = (cards[start : start + 10] + text).ljust(80)
            cards[start : start + 80] = card[:80]
            return
    raise ValueError(f"the header has no {name.decode().strip()} card")
