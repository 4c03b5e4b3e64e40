"""Names that tell exposures apart: of two files with one name in two folders neither may stand for the other."""

from __future__ import annotations

import zlib
from collections.abc import Iterable

from ulvar.frames.facts import ExposureFacts


def distinct_names(paths: Iterable[str]) -> dict[str, str]:
    """Return path to the shortest tail of it that no other path shares: the file name, else with folders before it.

    Examples
    --------
    >>> list(distinct_names(["/n/a/L1.fits", "/n/b/L1.fits", "/n/b/L2.fits"]).values())
    ['a/L1.fits', 'b/L1.fits', 'L2.fits']
    """
    names: dict[str, str] = {}
    order = list(dict.fromkeys(paths))
    waiting = list(order)
    length = 1
    while waiting:
        tails: dict[str, list[str]] = {}
        for path in waiting:
            tails.setdefault("/".join(path.split("/")[-length:]), []).append(path)
        names |= {same[0]: tail for tail, same in tails.items() if len(same) == 1 or tail == same[0]}
        waiting = [path for same in tails.values() if len(same) > 1 for path in same if path not in names]
        length += 1
    return {path: readable(names[path]) for path in order}


# A file's name holds 255 bytes; what is made of an exposure is called more than the exposure itself [bytes].
_LONGEST = 200


def readable(name: str) -> str:
    """Return a name whose bytes are no UTF-8 with escapes in their place, as tables and products can hold it.

    Examples
    --------
    >>> readable("a" + chr(0xDCFF)), readable("b")
    ('a\\\\xff', 'b')
    """
    return name.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def _fitting(stem: str) -> str:
    """Return a stem to which endings can be put; one that is too long ends in a number made of all of it."""
    data = stem.encode()
    if len(data) <= _LONGEST:
        return stem
    return f"{data[: _LONGEST - 9].decode('utf-8', 'ignore')}-{zlib.crc32(data):08x}"


def distinct_stems(paths: Iterable[str]) -> dict[str, str]:
    """Return path to a stem for the files made of it, no two alike: the file's own, else with folders before it.

    Examples
    --------
    >>> distinct_stems(["/n/a/L1.fits", "/n/b/L1.fits.gz", "/n/b/L2.fits"])
    {'/n/a/L1.fits': 'a-L1', '/n/b/L1.fits.gz': 'b-L1', '/n/b/L2.fits': 'L2'}
    """
    # Endings go first: L1.fits and L1.fit would make the same products.
    bare = {path: f"{path.rpartition('/')[0]}/{ExposureFacts(path).stem}" for path in dict.fromkeys(paths)}
    tails = distinct_names(bare.values())
    stems: dict[str, str] = {}
    taken: set[str] = set()
    for path, place in bare.items():
        wanted = _fitting(readable(tails[place].strip("/").replace("/", "-")))
        stem, number = wanted, 2
        while stem in taken:
            stem, number = f"{wanted}-{number}", number + 1
        taken.add(stem)
        stems[path] = stem
    return stems
