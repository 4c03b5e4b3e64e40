"""The night's SQLite file: what is known, chosen and made. Knows rows, not astronomy."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import threading
import zlib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from importlib import resources
from pathlib import Path


class NightError(Exception):
    """A night that cannot be opened or made, with the reason."""


class NightClosed(NightError):
    """A night that was closed while somebody asked for what is in it."""


class NightDamaged(NightError):
    """A night's file that is there but cannot be read."""


# Columns that hold sealed JSON.
_SEALED = (("meta", "value"), ("exposures", "facts"), ("findings", "body"), ("products", "body"), ("looks", "body"))
_SEAL = 9


def sealed(text: str) -> str:
    """Return JSON with its sum behind it, so that a byte that changed is noticed when the file is opened."""
    return f"{text}#{zlib.crc32(text.encode()):08x}"


def unsealed(text: str) -> str:
    """Return JSON without its sum; what was written before there were sums has none."""
    return text[:-_SEAL] if _has_seal(text) else text


def _has_seal(text: str) -> bool:
    # No JSON ends like that: what holds this character is a text, and ends with a quote at least.
    return text[-_SEAL : 1 - _SEAL] == "#" and text[-1] in "0123456789abcdef"


def _is_whole(text: str) -> bool:
    """Whether a value is what was written."""
    if not text.isascii():
        return False
    if _has_seal(text):
        return sealed(unsealed(text)) == text
    try:
        json.loads(text)
    except (ValueError, RecursionError):
        return False
    return True


def _storable(text: str) -> str | bytes:
    """Return what stands for a text in the file: bytes where it is the name of a file that is no UTF-8."""
    return text if text.isascii() or not _SURROGATE.search(text) else os.fsencode(text)


def _named(cursor: sqlite3.Cursor, row: tuple) -> tuple:
    return tuple(os.fsdecode(value) if isinstance(value, bytes) else value for value in row)


_SURROGATE = re.compile("[\\udc80-\\udcff]")
sqlite3.register_adapter(str, _storable)


class _Link:
    """A thread's connection. Whoever closes it waits for the statement that runs: without that SQLite crashes."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self.connection = connection
        # A transaction's own thread asks in the middle of it.
        self.lock = threading.RLock()
        self.closed = False

    def close(self) -> None:
        with self.lock:
            self.closed = True
            self.connection.close()


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
        self._all: list[_Link] = []
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

    @contextmanager
    def _connection(self) -> Iterator[sqlite3.Connection]:
        """Lend this thread's connection; it stays open meanwhile."""
        link = self._link()
        with link.lock:
            if link.closed:
                raise NightClosed(f"{self.path} was closed")
            yield link.connection

    def _link(self) -> _Link:
        link: _Link | None = getattr(self._local, "link", None)
        if link is None:
            connection = sqlite3.connect(self.path, timeout=30, isolation_level=None, check_same_thread=False)
            # Texts were written as UTF-8; one that is none any more must not hide the others.
            connection.row_factory = _named
            connection.text_factory = lambda text: text.decode("utf-8", "replace")
            connection.execute("PRAGMA journal_mode=WAL")
            connection.execute("PRAGMA synchronous=NORMAL")
            link = self._local.link = _Link(connection)
            with self._lock:
                self._all.append(link)
        return link

    def _damage(self) -> str:
        """Return what is wrong with the file, in the database's words; empty where nothing is."""
        found = str(self.rows("PRAGMA quick_check(1)")[0][0])
        if found != "ok":
            return found
        # A value that is torn is noticed here, not in the middle of a night's work.
        for table, column in _SEALED:
            values = self.rows(f"SELECT {column} FROM {table} WHERE {column} IS NOT NULL")
            # What is no text any more is no JSON either.
            if not all(isinstance(text, str) and _is_whole(text) for (text,) in values):
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
        with self._connection() as connection:
            version = int(connection.execute("PRAGMA user_version").fetchone()[0])
            if version > len(steps):
                raise NightError(f"{self.path} was made by a newer Ulvar")
            for number, step in enumerate(steps[version:], version + 1):
                text = step.read_text(encoding="utf-8")
                connection.executescript(f"BEGIN; {text} PRAGMA user_version={number}; COMMIT;")

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """Run statements that all take effect or none."""
        with self._connection() as connection:
            connection.execute("BEGIN IMMEDIATE")
            try:
                yield connection
            except BaseException:
                connection.execute("ROLLBACK")
                raise
            connection.execute("COMMIT")

    def rows(self, sql: str, values: Sequence = ()) -> list[tuple]:
        """Return all rows of a query."""
        with self._connection() as connection:
            return connection.execute(sql, values).fetchall()

    def write(self, sql: str, values: Sequence = ()) -> None:
        """Run one statement."""
        with self._connection() as connection:
            connection.execute(sql, values)

    def write_many(self, sql: str, values: Iterable[Sequence], *, clear: str = "") -> None:
        """Run one statement for many rows in a transaction, after `clear` if it is given."""
        with self.transaction() as connection:
            if clear:
                connection.execute(clear)
            connection.executemany(sql, values)

    def close(self) -> None:
        """Close every connection, each as soon as nothing runs on it."""
        with self._lock:
            links, self._all = self._all, []
        for link in links:
            link.close()
        self._local = threading.local()
