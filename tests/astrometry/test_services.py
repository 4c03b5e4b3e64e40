"""Stars fetched from a service: a stand-in on this machine answers as services do, rightly and wrongly."""

import time
from http.server import BaseHTTPRequestHandler
from unittest import mock

import numpy as np
from bench.stand_in import StandIn, send, votable
from tools.same import kept

from tests.cli.support import Command
from ulvar.astrometry import (
    CatalogueError,
    cone_question,
    fetch,
    fetch_later,
    job_question,
    load_catalogue,
    overflows,
    services,
    smaller_cones,
    table_question,
)
from ulvar.astrometry.sphere import separation_deg


class Services(Command):
    def setUp(self) -> None:
        super().setUp()
        # Whatever stands between this machine and others: the stand-in is on it.
        own = {"no_proxy": "127.0.0.1", "NO_PROXY": "127.0.0.1", "XDG_CACHE_HOME": str(self.folder / "cache")}
        direct = mock.patch.dict("os.environ", own)
        direct.start()
        self.addCleanup(direct.stop)
        self.service = StandIn()
        self.addCleanup(self.service.close)
        self.waited: list[float] = []

    def fetch(self, **more: object) -> int:
        question = cone_question(f"{self.service.url}/cone", 104.0, 35.0, 2.0)
        return fetch(question, self.folder / "a.vot", pause=self.waited.append, **more)  # type: ignore[arg-type]

    def test_a_cone_and_a_question_become_a_catalogue(self) -> None:
        out = self.folder / "c"
        code, told = self.json(
            "catalogue", "fetch", "--service", f"{self.service.url}/cone?set=a", "--at", "104,35", "--radius", "2", "--out", out,
        )  # fmt: skip
        inside = separation_deg(self.service.ra, self.service.dec, 104.0, 35.0) <= 2
        self.assertEqual((code, told["stars"], told["incomplete"]), (0, int(inside.sum()), False))
        path, asked, how = self.service.asked[-1]
        self.assertEqual((path, how, asked["set"], float(asked["RA"]), float(asked["SR"])), ("/cone", "GET", "a", 104.0, 2.0))
        stars = load_catalogue(out)
        np.testing.assert_allclose(np.sort(stars.ra), np.sort(self.service.ra[inside]))
        words = ("--service", f"{self.service.url}/cone?set=a", "--at", "104,35", "--radius", "2", "--out", out)
        self.assertNotIn("so many rows", self.ulvar("catalogue", "fetch", *words)[1])
        adql = "SELECT ra, dec, V FROM stars WHERE V < 14"
        code, told = self.json("catalogue", "fetch", "--service", f"{self.service.url}/tap/", "--query", adql, "--most", "50", "--out", out)
        path, asked, how = self.service.asked[-1]
        self.assertEqual((path, how, asked["QUERY"], asked["LANG"], asked["MAXREC"]), ("/tap/sync", "POST", adql, "ADQL", "50"))
        # What is not whole is told, and ends so.
        self.assertEqual((code, told["stars"], told["incomplete"]), (1, 50, True))
        kept(self, inside)

    def test_a_service_that_gives_few_rows_at_once_is_asked_in_smaller_cones(self) -> None:
        whole = self.service.rows

        def few(handler: BaseHTTPRequestHandler) -> None:
            told = self.service.asked[-1][1]
            send(handler, whole(told | {"MAXREC": "40"}))

        self.service.answer = few
        out = self.folder / "c"
        words = (
            "catalogue", "fetch", "--service", f"{self.service.url}/cone", "--at", "105,35", "--radius", "3", "--out", out,
        )  # fmt: skip
        code, told = self.json(*words)
        inside = separation_deg(self.service.ra, self.service.dec, 105.0, 35.0) <= 3
        self.assertEqual((code, told["incomplete"]), (0, False), told)
        stars = load_catalogue(out)
        near = separation_deg(stars.ra, stars.dec, 105.0, 35.0) <= 3
        np.testing.assert_allclose(np.sort(stars.ra[near]), np.sort(self.service.ra[inside]))
        self.assertGreater(told["answers"], 6)
        self.assertIn("so many rows at once", self.ulvar(*words)[1])
        # Asked once more nothing but what was too much is asked of the service.
        before = len(self.service.asked)
        code, again = self.json(*words)
        self.assertEqual((code, again["answers"]), (0, told["answers"]))
        self.assertLess(len(self.service.asked) - before, before / 4)
        before = len(self.service.asked)
        self.json(*words, "--fresh")
        self.assertGreater(len(self.service.asked) - before, told["answers"] - 1)
        kept(self, inside, near)

    def test_smaller_cones_cover_the_larger_one(self) -> None:
        rng = np.random.default_rng(2)
        for ra, dec, radius in ((10.0, 0.0, 1.0), (0.1, 60.0, 5.0), (200.0, 89.5, 2.0), (50.0, -80.0, 20.0)):
            cones = smaller_cones(ra, dec, radius)
            self.assertTrue(all(cone[2] < 0.52 * radius for cone in cones))
            x, y = rng.uniform(0, 360, 4000), np.degrees(np.arcsin(rng.uniform(-1, 1, 4000)))
            edge = np.linspace(0, 2 * np.pi, 200)
            r, d = np.radians(radius) * (1 - 1e-9), np.radians(dec)
            north = np.arcsin(np.clip(np.sin(d) * np.cos(r) + np.cos(d) * np.sin(r) * np.cos(edge), -1, 1))
            east = np.arctan2(np.sin(edge) * np.sin(r), np.cos(d) * np.cos(r) - np.sin(d) * np.sin(r) * np.cos(edge))
            x, y = np.append(x, ra + np.degrees(east)), np.append(y, np.degrees(north))
            inside = separation_deg(x, y, ra, dec) <= radius
            covered = np.any([separation_deg(x, y, a, b) <= c for a, b, c in cones], axis=0)
            self.assertTrue(covered[inside].all(), (ra, dec, radius))

    def test_a_question_that_is_worked_on_for_long(self) -> None:
        phases = iter(["QUEUED", "EXECUTING", "COMPLETED"])
        adql = "SELECT ra, dec, V FROM stars"

        def job(handler: BaseHTTPRequestHandler) -> None:
            path, told, how = self.service.asked[-1]
            if path == "/tap/async":
                send(handler, b"", 303, "text/plain", Location=f"{self.service.url}/tap/async/7")
            elif path.endswith("/phase") and how == "POST":
                self.assertEqual(told, {"PHASE": "RUN"})
                send(handler, b"", 303, "text/plain", Location=f"{self.service.url}/tap/async/7")
            elif path.endswith("/phase"):
                send(handler, next(phases).encode(), kind="text/plain")
            elif path.endswith("/results/result"):
                send(handler, self.service.rows({"MAXREC": "900"}))
            elif path.endswith("/error"):
                send(handler, b"<html><p>column V is not known</p></html>", kind="text/html")
            else:
                send(handler, b"<job/>", kind="text/xml")

        self.service.answer = job
        question = job_question(f"{self.service.url}/tap/", adql)
        count = fetch_later(question, self.folder / "a.vot", pause=self.waited.append)
        self.assertEqual(count, (self.folder / "a.vot").stat().st_size)
        self.assertEqual(len(load_catalogue(self.folder / "a.vot")), 900)
        self.assertEqual(self.waited, [0.5, 0.75])
        asked = [(path, how) for path, _, how in self.service.asked]
        self.assertEqual(asked[0], ("/tap/async", "POST"))
        self.assertEqual(self.service.asked[0][1]["QUERY"], adql)
        self.assertEqual(asked[-1], ("/tap/async/7", "DELETE"), "the job is forgotten")
        # One that fails says why, one that takes too long ends, one that is stopped ends: each is forgotten.
        phases = iter(["EXECUTING", "ERROR"])
        with self.assertRaisesRegex(CatalogueError, r"without an answer \(error\): column V is not known"):
            fetch_later(question, self.folder / "a.vot", pause=self.waited.append)
        self.assertEqual(self.service.asked[-1][2], "DELETE")
        phases = iter(["EXECUTING"] * 9)
        with self.assertRaisesRegex(CatalogueError, r"not done in the time allowed \(executing\)"):
            fetch_later(question, self.folder / "a.vot", pause=self.waited.append, seconds=0.0)
        self.assertEqual(self.service.asked[-1][2], "DELETE")

        def stop(_: int, text: str) -> None:
            if "works on it" in text:
                raise KeyboardInterrupt

        phases = iter(["EXECUTING"] * 9)
        with self.assertRaises(KeyboardInterrupt):
            fetch_later(question, self.folder / "a.vot", stop, pause=self.waited.append)
        self.assertEqual(self.service.asked[-1][2], "DELETE")
        phases = iter(["COMPLETED"])
        code, told = self.json(
            "catalogue", "fetch", "--service", f"{self.service.url}/tap", "--query", adql, "--async", "--out", self.folder / "c",
        )  # fmt: skip
        self.assertEqual((code, told["stars"]), (0, 900))

    def test_a_busy_service_is_asked_again(self) -> None:
        answers = iter([503, 502])

        def busy(handler: BaseHTTPRequestHandler) -> None:
            code = next(answers, 200)
            send(handler, self.service.rows({}) if code == 200 else b"<html>come back later</html>", code, "text/html")

        self.service.answer = busy
        self.assertGreater(self.fetch(), 1000)
        self.assertEqual((len(self.service.asked), self.waited), (3, [2.0, 4.0]))
        self.service.answer = lambda handler: send(handler, b"<p>come back later</p>", 503, "text/html")
        with self.assertRaisesRegex(CatalogueError, r"busy \(503: come back later\), 3 times"):
            self.fetch()

    def test_what_the_service_says_is_told(self) -> None:
        page = b"<html><head><style>p {}</style></head><body><h1>Moved</h1><script>x()</script><p>ask elsewhere</p></body></html>"
        for body, code, kind, why in (
            (page, 200, "text/html", r"no table \(text/html\): Moved ask elsewhere"),
            (b"", 200, "", "no table"),
            (page, 404, "text/html", r"refuses \(404 Not Found\): Moved ask elsewhere"),
            (votable("", "ERROR", "unknown column Vmag"), 400, "text/xml", r"refuses \(400 Bad Request\): unknown column Vmag"),
            (votable("", "ERROR", "unknown column Vmag"), 200, "text/xml", "127.0.0.1: unknown column Vmag"),
            (b'<VOTABLE><RESOURCE><INFO name="Error" value="SR is too large"/></RESOURCE></VOTABLE>', 200, "text/xml", "SR is too large"),
        ):
            self.service.answer = lambda handler, b=body, c=code, k=kind: send(handler, b, c, k)  # type: ignore[misc]
            with self.subTest(why), self.assertRaisesRegex(CatalogueError, why):
                self.fetch()

    def test_answers_that_break_off_or_have_no_end(self) -> None:
        whole = self.service.rows({})
        self.service.answer = lambda handler: send(handler, whole[:3000], Content_Length=str(len(whole)))
        with self.assertRaisesRegex(CatalogueError, "does not answer|breaks off"):
            self.fetch()
        self.assertEqual(len(self.service.asked), 3)

        def endless(handler: BaseHTTPRequestHandler) -> None:
            handler.send_response(200)
            handler.end_headers()
            try:
                while True:
                    handler.wfile.write(b"<VOTABLE>" + b" " * 4000)
            except OSError:
                return

        self.service.answer = endless
        with mock.patch.object(services, "_LARGEST", 1_000_000), self.assertRaisesRegex(CatalogueError, "has no end"):
            self.fetch()

        def slow(handler: BaseHTTPRequestHandler) -> None:
            handler.send_response(200)
            handler.end_headers()
            try:
                for _ in range(100):
                    handler.wfile.write(b"<VOTABLE>" + b" " * 300_000)
                    handler.wfile.flush()
                    time.sleep(0.02)
            except OSError:
                return

        self.service.answer = slow
        with self.assertRaisesRegex(CatalogueError, "in the time allowed"):
            self.fetch(seconds=0.1)

    def test_redirects(self) -> None:
        def moved(handler: BaseHTTPRequestHandler) -> None:
            if handler.path.startswith("/cone"):
                send(handler, b"", 302, "text/html", Location=f"{self.service.url}/there")
            else:
                send(handler, self.service.rows({}))

        self.service.answer = moved
        self.assertGreater(self.fetch(), 1000)
        self.service.answer = lambda handler: send(handler, b"", 302, "text/html", Location="file:///etc/hostname")
        with self.assertRaises(CatalogueError):
            self.fetch()
        self.service.answer = lambda handler: send(handler, b"", 302, "text/html", Location=f"{self.service.url}/round")
        with self.assertRaises(CatalogueError):
            self.fetch()

    def test_nobody_there_and_what_is_no_question(self) -> None:
        self.service.close()
        with self.assertRaisesRegex(CatalogueError, "127.0.0.1: it does not answer .*, 3 times"):
            self.fetch()
        for make in (
            lambda: cone_question("ftp://a.invalid/x", 1, 2, 3), lambda: cone_question("somewhere", 1, 2, 3),
            lambda: cone_question("http://a.invalid", 1, 99, 3), lambda: cone_question("http://a.invalid", 1, 2, 0),
            lambda: table_question("http://a.invalid", " "),
        ):  # fmt: skip
            self.assertRaises(ValueError, make)
        for words in (
            ["--at", "1,2"], ["--query", "x", "--at", "1,2", "--radius", "1"], [], ["--query", "x", "--most", "0"],
            ["--at", "1,2", "--radius", "1", "--async"],
        ):  # fmt: skip
            code, _, _ = self.ulvar("catalogue", "fetch", "--service", "http://a.invalid", "--out", self.folder / "c", *words)
            self.assertEqual(code, 2, words)
        empty = self.folder / "none.vot"
        empty.write_bytes(votable(""))
        self.assertFalse(overflows(empty))

    def test_a_broken_table_leaves_the_catalogue_as_it_was(self) -> None:
        self.service.answer = lambda handler: send(handler, self.service.rows({})[:5000] + b"<oops")
        out = self.folder / "c"
        code, told = self.json(
            "catalogue", "fetch", "--service", f"{self.service.url}/cone", "--at", "104,35", "--radius", "2", "--out", out,
        )  # fmt: skip
        self.assertEqual((code, told["stars"]), (3, 0))
        self.assertIn(self.service.url, told["reason"])
        self.assertFalse(list(out.glob("*.parquet")))
        words = ("catalogue", "fetch", "--service", f"{self.service.url}/cone", "--at", "104,35", "--radius", "2", "--out", out)
        self.assertIn(told["reason"], self.ulvar(*words)[1])
