"""A night whose file is damaged: the file is kept aside, and the night is made anew from what lies beside it."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

from ulvar.engine import write_text
from ulvar.inspection import Finding, notice
from ulvar.night.rows import NightRows
from ulvar.night.store import NightDamaged, NightError, Store, unsealed

FILE = "night.sqlite"
# What a night is made of, beside its file: without it, a lost file would leave a folder of products of nobody knows what.
_MADE_OF = "raw.json"
REBUILT = "rebuilt"


def remember_raw(folder: Path, raw: list[str]) -> None:
    """Write down beside a night's file which raw files and folders it is made of."""
    text = json.dumps({"raw": raw}, indent=1) + "\n"
    place = folder / _MADE_OF
    if not place.exists() or place.read_text(encoding="utf-8", errors="replace") != text:
        write_text(place, text)


def _listed(body: object) -> list[str]:
    raw = body.get("raw") if isinstance(body, dict) else body
    return [p for p in raw if isinstance(p, str) and Path(p).exists()] if isinstance(raw, list) else []


def _raw_of(folder: Path) -> list[str]:
    """Return the raw files and folders of a night whose file cannot be used, as far as anything tells."""
    try:
        found = _listed(json.loads((folder / _MADE_OF).read_text(encoding="utf-8")))
    except (OSError, ValueError):
        found = []
    if not found:
        try:
            with closing(sqlite3.connect(f"file:{folder / FILE}?mode=ro", uri=True)) as damaged:
                rows = damaged.execute("SELECT value FROM meta WHERE key = 'raw'").fetchall()
            found = _listed(json.loads(unsealed(rows[0][0]))) if rows else []
        except (sqlite3.DatabaseError, ValueError):
            found = []
    # A night lies beside the folder that it was made for, under its name.
    beside = folder.with_name(folder.name.removesuffix("-night"))
    if not found and beside != folder and beside.is_dir():
        found = [str(beside.resolve())]
    return found


def _set_aside(folder: Path) -> str:
    """Rename a damaged file, with what belongs to it, to a name that is free; returns the name."""
    number = 1
    while (folder / f"{FILE}.damaged-{number}").exists():
        number += 1
    name = f"{FILE}.damaged-{number}"
    for ending in ("-wal", "-shm", ""):
        part = folder / f"{FILE}{ending}"
        if part.exists():
            part.rename(folder / f"{name}{ending}")
    return name


def opened_store(folder: Path) -> Store:
    """Open a night's file; a damaged one is kept aside and a new one made, which `REBUILT` in it tells.

    Raises
    ------
    NightError
        If the file was made by a newer version, or is damaged and nothing tells what the night was made of.
    """
    path = folder / FILE
    # An empty file is an empty database, and no night that was ever made.
    emptied = path.is_file() and path.stat().st_size == 0 and bool(_raw_of(folder))
    try:
        if emptied:
            raise NightDamaged(f"{path} is damaged: it is empty")
        return Store(path)
    except NightDamaged as error:
        raw = _raw_of(folder)
        if not raw:
            raise NightError(f"{error}; and nothing tells which exposures it was made of") from None
        name = _set_aside(folder)
        store = Store(path)
        rows = NightRows(store)
        rows.set_meta("raw", raw)
        rows.set_meta("name", Path(raw[0]).name)
        rows.set_meta(REBUILT, name)
        return store


def rebuilt_finding(rows: NightRows) -> list[Finding]:
    """Return what is to be said of a night that was made anew; nothing for any other."""
    name = rows.meta(REBUILT)
    if not name:
        return []
    text = (
        f"Its file was damaged and is kept as {name}. Exposures are read anew, products that are there are used, settings and "
        "stars come from recipe.toml. Corrected facts and what was left out by hand are lost: look them over."
    )
    return [notice("night_rebuilt", "The night was made anew", text)]
