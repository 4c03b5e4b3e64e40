"""Columns of star tables that hold words: what stars are called, and whether they vary."""

from __future__ import annotations

from typing import Any

import numpy as np

# Columns of words; an identifier may be a number with more digits than a float keeps.
WORDS = ("id", "variable")
_VARIABLE = ("variable", "true", "1", "y", "yes", "v", "t", "var")
_CONSTANT = ("constant", "false", "0", "n", "no", "f")


def as_words(column: Any, name: str) -> np.ndarray:
    """Return identifiers as an array of text (objects); whether stars are variable as 1 and 0, NaN where nobody says.

    Parameters
    ----------
    column : Arrow array of text
    name : str
        ``id`` or ``variable``.
    """
    import pyarrow.compute as pc

    text = pc.utf8_trim_whitespace(pc.fill_null(column, ""))
    if name == "id":
        return np.asarray(text.to_numpy(zero_copy_only=False), dtype=object)
    coded = pc.utf8_lower(text).dictionary_encode()
    told = [1.0 if w in _VARIABLE else 0.0 if w in _CONSTANT else np.nan for w in coded.dictionary.to_pylist()]
    return np.array(told or [np.nan])[np.asarray(coded.indices.to_numpy(zero_copy_only=False), dtype=np.int64)]


def words_of(values: Any, name: str) -> np.ndarray | None:
    """Return a column of identifiers or flags of a binary table; None for what is neither text nor whole numbers."""
    import pyarrow as pa

    array = np.asarray(values)
    if array.ndim != 1 or array.dtype.kind not in "SUOiubf":
        return None
    if array.dtype.kind == "f":
        # A number that a float has taken is no identifier any more, unless all of its digits are there.
        array = np.where(np.isfinite(array) & (np.abs(array) < 2**53), array, -1).astype(np.int64)
    if array.dtype.kind == "S":
        words = [v.decode("utf-8", "replace") for v in array.tolist()]
    else:
        words = ["" if v is None else str(v) for v in array.tolist()]
    return as_words(pa.array(words, pa.string()), name)
