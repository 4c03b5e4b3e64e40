"""Stars from services of the Virtual Observatory: a cone search, or a question in ADQL, answered by a VOTable."""

from __future__ import annotations

import contextlib
import http.client
import math
import re
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ulvar.astrometry.projections import deproject
from ulvar.astrometry.tables import CatalogueError

# A service that says nothing for so long is asked again, a few times, later each time [s].
_SILENT_S, _TRIES, _LATER_S = 60.0, 3, 2.0
# Answers are no larger than this [bytes], and what is no table is looked into this far for what it says.
_LARGEST, _LOOKED_AT = 4 << 30, 1 << 16
_PORTION = 1 << 18
_REDIRECTS = 5
# What a busy service says: ask again.
_BUSY = {429, 500, 502, 503, 504}


@dataclass(frozen=True)
class Question:
    """What is asked of a service.

    Attributes
    ----------
    url : str
    form : mapping of str to str, optional
        What is sent; without it the address says all.
    """

    url: str
    form: Mapping[str, str] | None = None


def cone_question(service: str, ra: float, dec: float, radius_deg: float) -> Question:
    """Return a cone search (IVOA Recommendation: Simple Cone Search 1.03).

    Parameters
    ----------
    service : str
        Its address.
    ra, dec, radius_deg : float
        [deg]

    Raises
    ------
    ValueError
        If the address is none of http or https, or the cone is none.
    """
    _check_address(service)
    if not (0 < radius_deg <= 180 and -90 <= dec <= 90):
        raise ValueError("a cone has a place on the sky and a radius up to 180 degrees")
    joint = "" if service.endswith(("?", "&")) else "&" if "?" in service else "?"
    asked = urllib.parse.urlencode({"RA": f"{ra:.8f}", "DEC": f"{dec:.8f}", "SR": f"{radius_deg:.8f}", "VERB": "2"})
    return Question(f"{service}{joint}{asked}")


def table_question(service: str, adql: str, most: int | None = None) -> Question:
    """Return a question in ADQL that is answered at once (IVOA Recommendation: Table Access Protocol 1.1, section 2).

    Parameters
    ----------
    service : str
        Its address, to which ``/sync`` is added.
    adql : str
    most : int, optional
        Rows that are wanted at most.

    Raises
    ------
    ValueError
        If the address is none of http or https, or nothing is asked.
    """
    return _in_adql(service, "sync", adql, most)


def _in_adql(service: str, how: str, adql: str, most: int | None) -> Question:
    _check_address(service)
    if not adql.strip():
        raise ValueError("the question is empty")
    form = {"REQUEST": "doQuery", "LANG": "ADQL", "FORMAT": "votable", "QUERY": adql}
    if most is not None:
        form["MAXREC"] = str(most)
    return Question(f"{service.rstrip('/')}/{how}", form)


def smaller_cones(ra: float, dec: float, radius_deg: float) -> list[tuple[float, float, float]]:
    """Return seven cones of half the radius [deg] that cover one: in the middle, and six around it.

    Parameters
    ----------
    ra, dec, radius_deg : float
        [deg]
    """
    half = 0.5 * radius_deg
    # Seven circles of half its radius cover a circle (a hexagon of six about one); the sphere takes a little more.
    away, reach = math.sqrt(3) * half, 1.02 * half
    angle = np.radians(np.arange(0.0, 360.0, 60.0))
    places = zip(*deproject("ARC", away * np.sin(angle), away * np.cos(angle), ra, dec))
    return [(ra, dec, reach), *((float(a), float(d), reach) for a, d in places)]


def job_question(service: str, adql: str, most: int | None = None) -> Question:
    """Return a question in ADQL that is worked on for long: what `fetch_later` takes.

    Parameters and errors are those of `table_question`; ``/async`` is added to the address.
    """
    return _in_adql(service, "async", adql, most)


def fetch_later(
    question: Question,
    output: Path,
    told: Callable[[int, str], object] = lambda count, text: None,
    *,
    seconds: float = 3600.0,
    pause: Callable[[float], object] = time.sleep,
) -> int:
    """Give a service a question to work on, come back until it is done, and write the answer to a file; returns its bytes.

    Parameters
    ----------
    question : Question
        See `job_question`.
    output : Path
        Written over.
    told : callable
        Given bytes that have come, and what goes on; may raise, to stop: the service is told to forget the job.
    seconds : float
        For all of it.
    pause : callable
        Waits before the next look [s].

    Raises
    ------
    CatalogueError
        With what the service said, or why there is no answer.

    Notes
    -----
    IVOA Recommendations: Table Access Protocol 1.1, section 2.2; Universal Worker Service 1.1: a job is made, started, looked at
    (``phase``), and its ``results/result`` or ``error`` read; it is deleted whatever came of it.
    """
    end = time.monotonic() + seconds
    host = _host(question)
    told(0, "Giving the service its job")
    job = _exchange(Question(question.url, question.form), host)[0].rstrip("/")
    try:
        _exchange(Question(f"{job}/phase", {"PHASE": "RUN"}), host)
        wait = 0.5
        while True:
            phase = _exchange(Question(f"{job}/phase"), host)[1].strip().upper()
            if phase == "COMPLETED":
                break
            if phase in ("ERROR", "ABORTED", "ARCHIVED"):
                said = _said(_exchange(Question(f"{job}/error"), host)[1].encode()) if phase == "ERROR" else ""
                raise CatalogueError(
                    f"{host}: the job ended without an answer ({phase.lower()}){f': {said}' if said else ''}"
                )
            if time.monotonic() > end:
                raise CatalogueError(f"{host}: the job was not done in the time allowed ({phase.lower()})")
            told(0, f"The service works on it ({phase.lower()})")
            pause(wait)
            wait = min(10.0, 1.5 * wait)
        return fetch(
            Question(f"{job}/results/result"), output, told, seconds=max(1.0, end - time.monotonic()), pause=pause
        )
    finally:
        with contextlib.suppress(CatalogueError):
            _exchange(Question(job), host, method="DELETE")


def _exchange(question: Question, host: str, method: str | None = None) -> tuple[str, str]:
    """Ask something short; returns the address that it was answered at in the end, and the answer."""
    try:
        with _answer(question, method=method) as answer:
            return str(answer.geturl()), answer.read(_LOOKED_AT).decode("utf-8", "replace")
    except _TryLater as error:
        raise CatalogueError(f"{host}: {error}") from None


def _check_address(service: str) -> None:
    parts = urllib.parse.urlsplit(service)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise ValueError(f"'{service}' is no address of a service: it begins with http:// or https://")


class _SameKind(urllib.request.HTTPRedirectHandler):
    """Follows a service that has moved, a few times, to addresses of the web alone."""

    max_redirections = _REDIRECTS

    def redirect_request(self, req: Any, fp: Any, code: int, msg: str, headers: Any, newurl: str) -> Any:
        """Refuse addresses that are none of http or https."""
        if urllib.parse.urlsplit(newurl).scheme not in ("http", "https"):
            raise urllib.error.URLError(f"it sends on to '{newurl[:80]}', which is no address of the web")
        return super().redirect_request(req, fp, code, msg, headers, newurl)


def fetch(
    question: Question,
    output: Path,
    told: Callable[[int, str], object] = lambda count, text: None,
    *,
    seconds: float = 600.0,
    pause: Callable[[float], object] = time.sleep,
) -> int:
    """Ask a service and write its answer, a VOTable, to a file; returns how many bytes it has.

    Parameters
    ----------
    question : Question
    output : Path
        Written over.
    told : callable
        Given bytes that have come, and what goes on; may raise, to stop.
    seconds : float
        For the whole answer.
    pause : callable
        Waits before another try [s].

    Raises
    ------
    CatalogueError
        With what the service said, or why there is no answer.
    """
    end = time.monotonic() + seconds
    for attempt in range(1, _TRIES + 1):
        told(0, "Asking the service" if attempt == 1 else f"Asking the service again ({attempt})")
        try:
            return _once(question, output, told, end)
        except _TryLater as error:
            if attempt == _TRIES or time.monotonic() >= end:
                raise CatalogueError(f"{_host(question)}: {error}, {attempt} times") from None
            pause(_LATER_S * attempt)
    raise AssertionError


class _TryLater(Exception):
    """The service is busy, or does not answer."""


def _host(question: Question) -> str:
    return str(urllib.parse.urlsplit(question.url).hostname)


@contextlib.contextmanager
def _answer(question: Question, *, method: str | None = None, accept: str = "*/*") -> Iterator[Any]:
    """Ask a service, and give its answer to be read; what goes wrong is told with what the service said.

    Raises
    ------
    _TryLater
        If it is busy, or does not answer.
    CatalogueError
        If it refuses.
    """
    body = None if question.form is None else urllib.parse.urlencode(question.form).encode()
    told = {"User-Agent": "Ulvar", "Accept": accept}
    request = urllib.request.Request(question.url, body, told, method=method)
    try:
        with urllib.request.build_opener(_SameKind).open(request, timeout=_SILENT_S) as answer:
            yield answer
    except urllib.error.HTTPError as error:
        said = _said(error.read(_LOOKED_AT))
        words = f": {said}" if said else ""
        if error.code in _BUSY:
            raise _TryLater(f"it is busy ({error.code}{words})") from None
        raise CatalogueError(f"{_host(question)}: it refuses ({error.code} {error.reason}){words}") from None
    except (urllib.error.URLError, http.client.HTTPException, TimeoutError, ConnectionError) as error:
        raise _TryLater(f"it does not answer ({getattr(error, 'reason', None) or error})") from None


def _once(question: Question, output: Path, told: Callable[[int, str], object], end: float) -> int:
    host = _host(question)
    with _answer(question, accept="application/x-votable+xml, text/xml") as answer, output.open("wb") as handle:
        count = 0
        while portion := answer.read(_PORTION):
            handle.write(portion)
            count += len(portion)
            told(count, "Fetching")
            if count > _LARGEST:
                raise CatalogueError(f"{host}: its answer has no end: over {_LARGEST / 1e9:.0f} GB came")
            if time.monotonic() > end:
                raise CatalogueError(f"{host}: its answer was not whole in the time allowed")
        wanted = answer.headers.get("Content-Length")
        kind = str(answer.headers.get("Content-Type") or "")
        if wanted is not None and wanted.isdigit() and int(wanted) != count:
            raise _TryLater("its answer breaks off")
    _check_answer(output, host, kind)
    return count


def _check_answer(path: Path, host: str, kind: str) -> None:
    """Look at the beginning of an answer: a page of words is no table, and a table may say what went wrong."""
    with path.open("rb") as handle:
        head = handle.read(_LOOKED_AT)
    if re.search(rb"<\w*:?VOTABLE", head) is None:
        said = _said(head)
        raise CatalogueError(f"{host}: its answer is no table ({kind or 'of no kind'}){f': {said}' if said else ''}")
    for element in re.finditer(rb"<\w*:?(INFO|PARAM)\b([^>]*)>([^<]*)", head, re.IGNORECASE):
        told = {
            k.decode().lower(): v.decode("utf-8", "replace")
            for k, v in re.findall(rb'(\w+)\s*=\s*"([^"]*)"', element[2])
        }
        name, value = told.get("name", "").lower(), told.get("value", "")
        words = element[3].decode("utf-8", "replace").strip()
        if name == "error":
            raise CatalogueError(f"{host}: {value or words or 'it says that something went wrong'}")
        if name == "query_status" and value.upper() == "ERROR":
            raise CatalogueError(f"{host}: {words or 'it says that something went wrong'}")


def overflows(path: Path) -> bool:
    """Whether an answer tells that the service has more rows than it gives."""
    size = path.stat().st_size
    with path.open("rb") as handle:
        head = handle.read(_LOOKED_AT)
        handle.seek(max(0, size - _LOOKED_AT))
        tail = handle.read()
    return any(re.search(rb'value\s*=\s*"OVERFLOW"', part, re.IGNORECASE) is not None for part in (head, tail))


def _said(page: bytes) -> str:
    """Return what a page says, without its marks, in a line."""
    text = re.sub(rb"(?is)<(script|style)\b.*?</\1>|<[^>]*>", b" ", page).decode("utf-8", "replace")
    words = " ".join(text.split())
    return words[:200] + ("…" if len(words) > 200 else "")
