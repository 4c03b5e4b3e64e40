"""ulvar fast: from a film to a table and to times of an occultation."""

from datetime import UTC, datetime

from tests.cli.support import Command
from ulvar.photometry import read_series
from ulvar.simulation import MadeUpFilm, write_ser

_PLACES = ("--target", "151,122", "--tracking", "222,91", "--tracking", "81,181")


class FastCommand(Command):
    """The command on a small film."""

    def setUp(self) -> None:
        super().setUp()
        self.film = self.folder / "film.ser"
        write_ser(self.film, MadeUpFilm(frames=250, out_s=4.213, back_s=5.713))

    def test_an_occultation_is_timed_and_written(self) -> None:
        out, picture = self.folder / "t.csv", self.folder / "p.png"
        code, body = self.json(
            "fast", self.film, *_PLACES, "--out", out, "--picture", picture, "--occultation", "--gain", "1", "--first",
            "2026-03-14T22:00:00",
        )  # fmt: skip
        self.assertEqual(code, 0, body)
        event = body["event"]
        begin = datetime(2026, 3, 14, 22, 0, tzinfo=UTC)
        for when, error, wanted in ((event["out"], event["out_error_s"], 4.213), (event["back"], event["back_error_s"], 5.713)):
            seconds = (datetime.fromisoformat(when).replace(tzinfo=UTC) - begin).total_seconds()
            self.assertLess(abs(seconds - wanted), 4 * error + 1e-4)
            self.assertLess(error, 0.02)
        self.assertLess(abs(event["low"] / event["level"]), 0.06)
        table = read_series(out)
        self.assertEqual(table.names(), ["target", "tracking 1", "tracking 2", "blank sky"])
        self.assertEqual(len(table), 1000)
        self.assertTrue(picture.read_bytes().startswith(b"\x89PNG"))
        code, body = self.json("curve", out, "--out", self.folder / "c.csv")
        self.assertEqual((code, body["points"]), (0, 250))

    def test_none_is_told_and_the_table_stays(self) -> None:
        out = self.folder / "t.csv"
        code, body = self.json("fast", self.film, *_PLACES, "--out", out, "--occultation", "--longest", "0.1")
        self.assertIn(code, (0, 1))
        write_ser(self.film, MadeUpFilm(frames=150, out_s=90, back_s=91))
        code, body = self.json("fast", self.film, *_PLACES, "--out", out, "--occultation", "--replace")
        self.assertEqual((code, body["event"]), (1, None))
        self.assertIn("would have been seen", body["event_reason"])
        self.assertTrue(out.exists())

    def test_wrong_usage_and_wrong_files(self) -> None:
        cut = self.folder / "cut.ser"
        cut.write_bytes(self.film.read_bytes()[:1000])
        for arguments, code, words in (
            (("fast", self.film, "--target", "1,2", "--occultation"), 2, "needs a star to follow"),
            (("fast", self.film, *_PLACES), 2, "nothing is asked for"),
            (("fast", self.film, *_PLACES, "--occultation", "--first", "noon"), 2, "not 'noon'"),
            (("fast", self.film, *_PLACES, "--occultation", "--rate", "0"), 2, "rate"),
            (("fast", self.film, self.film, *_PLACES, "--occultation"), 2, "one film"),
            (("fast", self.film, "--target", "1,2", "--stars", cut, "--occultation"), 2, "stars come from"),
            (("fast", self.folder / "gone", *_PLACES, "--occultation"), 2, "no such file"),
            (("fast", cut, *_PLACES, "--occultation"), 3, "no frame"),
            (("fast", self.film, *_PLACES, "--out", self.folder / "t.doc"), 2, ".csv"),
        ):
            with self.subTest(words):
                told, body = self.json(*arguments)
                self.assertEqual(told, code, body)
                self.assertIn(words, body["error"])
