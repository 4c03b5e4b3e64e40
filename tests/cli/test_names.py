"""Names may hold any bytes but a slash: every command takes them, and says them so that they can be told."""

import csv
import os

from tools.cases import files_under

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.frames.names import distinct_stems
from ulvar.night import Night, run_station

NAMES = (
    b"\xff\xfe light.fits", b"new\nline.fits", b"a'b\"c%s{0}[bold].fits", b"-dash.fits", b"n" * 250 + b".fits", "µ°é.fits".encode(),
)  # fmt: skip


class Odd(Command):
    def setUp(self) -> None:
        super().setUp()
        self.lights = self.bare(2)
        self.paths = []
        for name in NAMES:
            path = self.lights / os.fsdecode(name)
            path.write_bytes((self.lights / "im0.fits").read_bytes())
            self.paths.append(str(path))
        (self.folder / "stars.csv").write_text("name,role,x,y\nA,target,150,100\nB,comparison,100,60\n")

    def test_every_command(self) -> None:
        out = self.folder / "out"
        code, body = self.json("sort", self.lights)
        self.assertEqual(code, 0)
        told = {name for group in body["groups"] for name in group["files"]}
        # In JSON a byte that is no text stands as \udcXX, from which the name comes back.
        self.assertEqual(told, {*self.paths, *(str(self.lights / f"im{i}.fits") for i in range(2))})
        code, body = self.json("stars", *self.paths[:3], "--table", out / "t")
        self.assertEqual((code, [f["file"] for f in body["frames"]]), (0, self.paths[:3]))
        code, body = self.json("stars", *self.paths[3:], "--table", out / "t")
        self.assertEqual((code, [f["file"] for f in body["frames"]]), (0, self.paths[3:]))
        self.assertEqual(len(files_under(out / "t")), 6)
        for words in (
            ("stars", *self.paths[:3], "--table", out / "t2"),
            ("stack", self.paths[0], self.paths[4], "--out", out / "s.fits"),
            ("measure", self.paths[0], self.paths[4], "--stars", self.folder / "stars.csv", "--aperture", "5", "--out", out / "m.csv"),
            ("sort", *self.paths),
        ):
            with self.subTest(words[0]):
                code, _, err = self.ulvar(*words)
                self.assertEqual((code, err), (0, ""))
        with (out / "m.csv").open(newline="", encoding="utf-8") as handle:
            files = {row["file"] for row in csv.DictReader(handle)}
        self.assertEqual(files, {"\\xff\\xfe light.fits", "n" * 250 + ".fits"})

    def test_a_night(self) -> None:
        night = Night.create(self.folder / "night", [self.lights])
        self.addCleanup(night.close)
        self.assertEqual(run_station(night, JobContext(), "intake").problem, "")
        self.assertEqual({f.path for f in night.exposures} & set(self.paths), set(self.paths))
        night.leave_out([self.paths[0]], "cloud")
        night.close()
        again = Night(self.folder / "night")
        self.addCleanup(again.close)
        self.assertEqual(again.left_out, {self.paths[0]: "cloud"})
        self.assertEqual(again.put_back([self.paths[0]]), {self.paths[0]: "cloud"})
        self.assertEqual({f.path for f in again.exposures} & set(self.paths), set(self.paths))

    def test_stems_have_room_for_an_ending_and_stay_apart(self) -> None:
        long = [f"/a/{'n' * 240}{i}.fits" for i in range(3)]
        stems = distinct_stems(long)
        self.assertEqual(len(set(stems.values())), 3)
        self.assertEqual({len(stem.encode()) for stem in stems.values()}, {200})
        self.assertEqual(distinct_stems(["/a/" + "n" * 200 + ".fits"])["/a/" + "n" * 200 + ".fits"], "n" * 200)
        # A cut never falls into a letter.
        wide = "/a/" + "é" * 120 + ".fits"
        self.assertLessEqual(len(distinct_stems([wide])[wide].encode()), 200)
        odd = os.fsdecode(b"/a/\xff.fits")
        self.assertEqual(distinct_stems([odd])[odd], "\\xff")
