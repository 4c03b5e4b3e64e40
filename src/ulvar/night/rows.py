"""What a night's file holds beside its exposures: small facts, the selection, findings, products, stars."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import fields
from pathlib import Path
from typing import Any

from ulvar.inspection import Ceiling, Finding, sort_findings
from ulvar.night.coding import finding_from_text, finding_to_text
from ulvar.night.products import Product, plain_value
from ulvar.night.store import Store, sealed, unsealed
from ulvar.photometry import ListedStar


class NightRows:
    """Rows of a night's file, by their meaning.

    Parameters
    ----------
    store : Store
    """

    def __init__(self, store: Store) -> None:
        self.store = store

    def close(self) -> None:
        """Close the file."""
        self.store.close()

    # ---- small facts about the night

    def meta(self, key: str, default: Any = None) -> Any:
        """Return a stored value."""
        rows = self.store.rows("SELECT value FROM meta WHERE key = ?", (key,))
        return json.loads(unsealed(rows[0][0])) if rows else default

    def set_meta(self, key: str, value: Any) -> None:
        """Store a value."""
        self.store.write("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, sealed(json.dumps(value))))

    @property
    def raw_paths(self) -> list[Path]:
        """The raw files and folders."""
        return [Path(p) for p in self.meta("raw", [])]

    def add_raw(self, paths: Iterable[Path]) -> list[Path]:
        """Add raw files or folders; returns those that were not there before."""
        fresh = self.new_raw(paths)
        self.set_meta("raw", [str(p) for p in [*self.raw_paths, *fresh]])
        return fresh

    def new_raw(self, paths: Iterable[Path]) -> list[Path]:
        """Return those of raw files or folders that are not in the night yet, each once."""
        known = self.raw_paths
        return [p for p in dict.fromkeys(p.resolve() for p in paths) if p not in known]

    def drop_raw(self, paths: Iterable[Path]) -> None:
        """Take raw files or folders out of the night; nothing on disk is touched."""
        gone = {p.resolve() for p in paths}
        self.set_meta("raw", [str(p) for p in self.raw_paths if p not in gone])

    def ceilings(self) -> dict[str, Ceiling]:
        """Return the measured full range of each camera setting."""
        known = {f.name for f in fields(Ceiling)}
        stored = self.meta("ceilings", {}).items()
        # One that something spoiled is measured anew.
        return {key: Ceiling(**body) for key, body in stored if isinstance(body, dict) and set(body) == known}

    # ---- selection

    @property
    def left_out(self) -> dict[str, str]:
        """Path to the reason, of files left out."""
        return dict(self.store.rows("SELECT path, why FROM left_out"))

    def leave_out(self, paths: Iterable[str], why: str) -> list[str]:
        """Leave files out; returns those that were not left out before."""
        fresh = [p for p in paths if p not in self.left_out]
        self.store.write_many("INSERT OR IGNORE INTO left_out VALUES (?, ?)", [(p, why) for p in fresh])
        return fresh

    def put_back(self, paths: Iterable[str]) -> dict[str, str]:
        """Put files back; returns what they were left out for."""
        known = self.left_out
        back = {p: known[p] for p in paths if p in known}
        self.store.write_many("DELETE FROM left_out WHERE path = ?", [(p,) for p in back])
        return back

    def corrections(self, name: str) -> dict[str, str]:
        """Return path to corrected value of one fact."""
        return dict(self.store.rows("SELECT path, value FROM corrections WHERE name = ?", (name,)))

    # ---- findings

    def findings(self, station: str | None = None, series: str | None = None) -> list[Finding]:
        """Return findings, most serious first, of one station or all, of one series (and what is of none) or all."""
        conditions, values = ["1"], []
        if station is not None:
            conditions.append("station = ?")
            values.append(station)
        if series is not None:
            conditions.append("series IN ('', ?)")
            values.append(series)
        rows = self.store.rows(f"SELECT body FROM findings WHERE {' AND '.join(conditions)} ORDER BY rowid", values)
        return sort_findings(finding_from_text(unsealed(text)) for (text,) in rows)

    def set_findings(self, station: str, findings: Iterable[Finding], series: str = "") -> None:
        """Replace a station's findings of a series."""
        with self.store.transaction() as connection:
            connection.execute("DELETE FROM findings WHERE station = ? AND series = ?", (station, series))
            connection.executemany(
                "INSERT INTO findings (station, position, body, series) VALUES (?, ?, ?, ?)",
                [(station, i, sealed(finding_to_text(f)), series) for i, f in enumerate(findings)],
            )

    # ---- products

    def store_products(self, kind: str, products: Iterable[Product], *, series: str = "", clear: bool = False) -> None:
        """Store products of a kind, replacing those of the same source; with `clear` all others of the series go."""
        with self.store.transaction() as connection:
            if clear:
                connection.execute("DELETE FROM products WHERE kind = ? AND series = ?", (kind, series))
            connection.executemany(
                "INSERT OR REPLACE INTO products (kind, source, output, body, series) VALUES (?, ?, ?, ?, ?)",
                [
                    (kind, p.source, p.output, sealed(json.dumps(p.values, default=plain_value)), series)
                    for p in products
                ],
            )

    def products_of(self, kind: str, series: str | None = None) -> dict[str, Product]:
        """Return source to product, of one series or all; products whose file is gone are left away."""
        sql = "SELECT source, output, body, series FROM products WHERE kind = ?"
        values = [kind]
        if series is not None:
            sql += " AND series = ?"
            values.append(series)
        result = {}
        for source, output, body, of in self.store.rows(sql, values):
            if not output or Path(output).exists():
                result[source] = Product(kind, source, output, json.loads(unsealed(body)), of)
        return result

    def follow(self, here: Path) -> None:
        """Let products be found where the night is now, if it was moved or copied since it was opened last."""
        was, now = self.meta("folder"), str(here.resolve())
        if was == now:
            return
        if isinstance(was, str) and was:
            # In JSON a path stands with its own escapes.
            inside = [
                (f"{old}/", f"{new}/") for old, new in ((was, now), (json.dumps(was)[1:-1], json.dumps(now)[1:-1]))
            ]
            rows = self.store.rows("SELECT rowid, source, output, body FROM products")
            moved = []
            for key, source, output, body in rows:
                texts = [text.replace(*inside[0]) if isinstance(text, str) else text for text in (source, output)]
                moved.append((*texts, sealed(unsealed(body).replace(*inside[1])), key))
            self.store.write_many(
                "UPDATE OR REPLACE products SET source = ?, output = ?, body = ? WHERE rowid = ?", moved
            )
        self.set_meta("folder", now)

    # ---- stars with a role

    def stars_of(self, field: str) -> list[ListedStar]:
        """Return the stars to measure in a field, in their order."""
        rows = self.store.rows(
            "SELECT name, role, ra, dec, x, y FROM stars WHERE field = ? ORDER BY position", (field,)
        )
        return [ListedStar(name, role, ra, dec, x, y) for name, role, ra, dec, x, y in rows]

    def set_stars_of(self, field: str, stars: Sequence[ListedStar]) -> None:
        """Replace the stars to measure in a field."""
        with self.store.transaction() as connection:
            connection.execute("DELETE FROM stars WHERE field = ?", (field,))
            connection.executemany(
                "INSERT INTO stars VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                [(field, s.name, i, s.role, s.ra, s.dec, s.x, s.y) for i, s in enumerate(stars)],
            )
