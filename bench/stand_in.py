"""A service of star catalogues with a made-up sky, on this machine."""

from __future__ import annotations

import threading
import urllib.parse
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import numpy as np

from ulvar.astrometry.sphere import separation_deg

FIELDS = '<FIELD name="ra" datatype="double" unit="deg"/><FIELD name="dec" datatype="double" unit="deg"/><FIELD name="V" datatype="float"/>'


def votable(rows: str, status: str = "OK", words: str = "") -> bytes:
    return f"""<?xml version="1.0"?><VOTABLE version="1.4"><RESOURCE type="results"><INFO name="QUERY_STATUS" value="{status}">{words}</INFO>
<TABLE>{FIELDS}<DATA><TABLEDATA>{rows}</TABLEDATA></DATA></TABLE></RESOURCE></VOTABLE>""".encode()


class StandIn:
    """A service with a made-up sky; `answer` may stand for what it does."""

    def __init__(self) -> None:
        rng = np.random.default_rng(6)
        self.ra, self.dec = rng.uniform(100, 110, 900), rng.uniform(30, 40, 900)
        self.mag = rng.uniform(6, 14, 900)
        self.asked: list[tuple[str, dict[str, str], str]] = []
        self.answer: Callable[[BaseHTTPRequestHandler], None] | None = None
        stand_in = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                parts = urllib.parse.urlsplit(self.path)
                self.handle_question(parts.path, dict(urllib.parse.parse_qsl(parts.query)), "GET")

            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"])).decode()
                self.handle_question(self.path, dict(urllib.parse.parse_qsl(body)), "POST")

            def do_DELETE(self) -> None:
                self.handle_question(self.path, {}, "DELETE")

            def handle_question(self, path: str, told: dict[str, str], how: str) -> None:
                stand_in.asked.append((path, told, how))
                if stand_in.answer is not None:
                    stand_in.answer(self)
                    return
                send(self, stand_in.rows(told))

            def log_message(self, *_: object) -> None:
                """Say nothing."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.thread = threading.Thread(target=self.server.serve_forever, daemon=True)
        self.thread.start()
        self.url = f"http://127.0.0.1:{self.server.server_port}"

    def rows(self, told: dict[str, str]) -> bytes:
        near = np.ones(len(self.ra), dtype=bool)
        if "SR" in told:
            near = separation_deg(self.ra, self.dec, float(told["RA"]), float(told["DEC"])) <= float(told["SR"])
        most = int(told.get("MAXREC", 10**6))
        chosen = np.flatnonzero(near)
        rows = "".join(
            f"<TR><TD>{self.ra[k]!r}</TD><TD>{self.dec[k]!r}</TD><TD>{self.mag[k]:.3f}</TD></TR>" for k in chosen[:most]
        )
        made = votable(rows.replace("np.float64(", "").replace(")", ""))
        return (
            made.replace(b"</TABLE>", b'</TABLE><INFO name="QUERY_STATUS" value="OVERFLOW"/>')
            if len(chosen) > most
            else made
        )

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()
        self.thread.join()


def send(
    handler: BaseHTTPRequestHandler, body: bytes, code: int = 200, kind: str = "application/x-votable+xml", **more: str
) -> None:
    handler.send_response(code)
    handler.send_header("Content-Type", kind)
    for name, value in ({"Content-Length": str(len(body))} | {k.replace("_", "-"): v for k, v in more.items()}).items():
        handler.send_header(name, value)
    handler.end_headers()
    handler.wfile.write(body)
