"""The night's SQLite file: what is known, chosen and made. Knows rows, not astronomy."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import threading
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from importlib import resources
from pathlib import Path


class NightError(Exception):
    """A night that cannot be opened or made, with the reason."""


class NightDamaged(NightError):
    """A night's file that is there but cannot be read."""


# Columns that hold JSON: those that are read through when the file is opened, and larger ones of which the ends are looked at.
_JSON = (("meta", "value"), ("exposures", "facts"), ("findings", "body"))
_OBJECTS = (("products", "body"), ("looks", "body"))


def _storable(text: str) -> str | bytes:
    """Return what stands for a text in the file: bytes where it is the name of a file that is no UTF-8."""
    return text if text.isascii() or not _SURROGATE.search(text) else os.fsencode(text)


def _named(cursor: sqlite3.Cursor, row: tuple) -> tuple:
    return tuple(os.fsdecode(value) if isinstance(value, bytes) else value for value in row)


_SURROGATE = re.compile("[\\udc80-\\udcff]")
sqlite3.register_adapter(str, _storable)


class Store:
    """One SQLite file in WAL mode; each thread gets a connection of its own.

    Parameters
    ----------
    path : Path
        Made, or brought to the newest form, when opened.

    Raises
    ------
    NightDamaged
        If the file is no database, or its contents are torn.
    NightError
        If it was made by a newer version.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._local = threading.local()
        self._all: list[sqlite3.Connection] = []
        self._lock = threading.Lock()
        try:
            self._migrate()
            damage = self._damage()
        except sqlite3.OperationalError as error:
            # In use, without rights, on a disk that does not answer: nothing is known to be wrong with the file itself.
            if "no such" not in str(error):
                self.close()
                raise NightError(f"{path} cannot be opened: {error}") from None
            damage = str(error)
        except sqlite3.DatabaseError as error:
            damage = str(error)
        if damage:
            self.close()
            raise NightDamaged(f"{path} is damaged: {damage}")

    def _connection(self) -> sqlite3.Connection:
        connection = getattr(self._local, "connection", None)
        if connection is None:
            connection = sqlite3.connect(self.path, timeout=30, isolation_level=None, check_same_thread=False)
            # Texts were written as UTF-8; one that is none any more must not hide the others.
            connection.row_factory = _named
            connection.text_factory = lambda text: text.decode("utf-8", "replace")
            connection.execute("PRAGMA journal_mode=WAL")
            connection.execute("PRAGMA synchronous=NORMAL")
            self._local.connection = connection
            with self._lock:
                self._all.append(connection)
        return connection

    def _damage(self) -> str:
        """Return what is wrong with the file, in the database's words; empty where nothing is."""
        found = str(self.rows("PRAGMA quick_check(1)")[0][0])
        if found != "ok":
            return found
        # A value that is torn is noticed here, not in the middle of a night's work.
        for table, column in _OBJECTS:
            # Looked through here, not by the database: its patterns take a second for ten thousand exposures.
            for (text,) in self.rows(f"SELECT {column} FROM {table}"):
                if not (text.isascii() and text.startswith("{") and text.endswith("}")):
                    return f"a value of {table} is not what was written"
        for table, column in _JSON:
            try:
                for (text,) in self.rows(f"SELECT {column} FROM {table} WHERE {column} IS NOT NULL"):
                    json.loads(text)
                    # Written as ASCII: a byte that is no letter of it was another one.
                    if not text.isascii():
                        return f"a value of {table} is not what was written"
            except ValueError:
                return f"a value of {table} is not what was written"
        return ""

    def _migrate(self) -> None:
        steps = sorted(
            (
                entry
                for entry in resources.files("ulvar.night").joinpath("migrations").iterdir()
                if entry.name.endswith(".sql")
            ),
            key=lambda entry: entry.name,
        )
        connection = self._connection()
        version = int(connection.execute("PRAGMA user_version").fetchone()[0])
        if version > len(steps):
            raise NightError(f"{self.path} was made by a newer Ulvar")
        for number, step in enumerate(steps[version:], version + 1):
            connection.executescript(f"BEGIN; {step.read_text(encoding='utf-8')} PRAGMA user_version={number}; COMMIT;")

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """Run statements that all take effect or none."""
        connection = self._connection()
        connection.execute("BEGIN IMMEDIATE")
        try:
            yield connection
        except BaseException:
            connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")

    def rows(self, sql: str, values: Sequence = ()) -> list[tuple]:
        """Return all rows of a query."""
        return self._connection().execute(sql, values).fetchall()

    def write(self, sql: str, values: Sequence = ()) -> None:
        """Run one statement."""
        self._connection().execute(sql, values)

    def write_many(self, sql: str, values: Iterable[Sequence], *, clear: str = "") -> None:
        """Run one statement for many rows in a transaction, after `clear` if it is given."""
        with self.transaction() as connection:
            if clear:
                connection.execute(clear)
            connection.executemany(sql, values)

    def close(self) -> None:
        """Close every connection."""
        with self._lock:
            for connection in self._all:
                connection.close()
            self._all.clear()
        self._local = threading.local()
