"""What a stack will take: told before anything is read, learnt from what ran before, refused where it does not fit."""

import json
import math
from pathlib import Path
from unittest import mock

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.flows import StackOptions, expected_needs
from ulvar.flows import pace as pace_module
from ulvar.flows.needs import stack_kind
from ulvar.flows.pace import expected_s, time_words, timed
from ulvar.frames import ExposureFacts
from ulvar.stacking import GridOptions, Normalise


class PaceCase(Command):
    """With a place of its own for what is learnt."""

    def setUp(self) -> None:
        super().setUp()
        place = mock.patch.dict("os.environ", {"XDG_STATE_HOME": str(self.folder / "state")})
        place.start()
        self.addCleanup(place.stop)
        self.file = self.folder / "state" / "ulvar" / "pace.json"

    def ran(self, kind: str, seconds: float, megapixels: float, frames: int) -> None:
        """Let work have taken so long."""
        clock = iter([100.0, 100.0 + seconds])
        with mock.patch.object(pace_module.time, "monotonic", lambda: next(clock)), timed(kind) as work:
            work.megapixels, work.frames = megapixels, frames


class Learnt(PaceCase):
    def test_as_long_as_it_took_before(self) -> None:
        first = expected_s("stack", 240.0, 10)
        self.ran("stack", 25.0, 240.0, 10)
        self.assertAlmostEqual(expected_s("stack", 240.0, 10), 25.0, places=9)
        self.assertAlmostEqual(expected_s("stack", 480.0, 20), 49.0, places=9)
        self.assertNotAlmostEqual(first, 25.0)
        # The newest counts half.
        self.ran("stack", 49.0, 240.0, 10)
        self.assertAlmostEqual(expected_s("stack", 240.0, 10), 37.0, places=9)

    def test_the_nearest_kind_that_is_known(self) -> None:
        self.ran("stack", 25.0, 240.0, 10)
        self.ran("stack raw", 49.0, 240.0, 10)
        self.ran("stack", 13.0, 24.0, 40)
        self.assertAlmostEqual(expected_s("stack raw local", 240.0, 10), 49.0, places=9)
        self.assertAlmostEqual(expected_s("stack local", 240.0, 10), 25.0, places=9)
        # Small frames have a pace of their own, for what was never done with them that of large ones.
        self.assertAlmostEqual(expected_s("stack raw", 24.0, 40), 13.0, places=9)
        self.assertAlmostEqual(expected_s("find quick raw", 240.0, 10), expected_s("find quick", 240.0, 10), places=9)
        self.assertTrue(math.isnan(expected_s("something else", 240.0, 10)))

    def test_little_or_broken_off_work_tells_nothing(self) -> None:
        self.ran("stack", 25.0, 3.0, 1)
        self.ran("stack", 1.0, 240.0, 10)
        with self.assertRaises(RuntimeError), timed("stack") as work:
            work.megapixels = 1e6
            raise RuntimeError
        self.assertFalse(self.file.exists())

    def test_what_was_learnt_may_be_spoiled_or_have_no_place(self) -> None:
        self.ran("stack", 25.0, 240.0, 10)
        usual = expected_s("stack", 240.0, 10)
        self.file.write_text(json.dumps({"stack": -1, "find": 0.1}), encoding="utf-8")
        self.assertNotEqual(expected_s("stack", 240.0, 10), usual)
        for spoiled in ("[]", "{", '{"stack": "x"}', '{"stack": null}'):
            self.file.write_text(spoiled, encoding="utf-8")
            self.assertGreater(expected_s("stack", 240.0, 10), 1.0)
        self.file.unlink()
        self.file.parent.rmdir()
        self.file.parent.write_text("in the way", encoding="utf-8")
        self.ran("stack", 25.0, 240.0, 10)

    def test_words(self) -> None:
        self.assertEqual(
            [time_words(s) for s in (0.2, 19.4, 47, 89, 91, 5399, 9000)],
            ["about 1 s", "about 19 s", "about 50 s", "about 90 s", "about 2 min", "about 90 min", "about 2.5 h"],
        )


class Told(PaceCase):
    def test_of_exposures_that_nobody_read(self) -> None:
        exposures = [ExposureFacts(f"{k}.fits", width=6000, height=4000) for k in range(40)]
        self.ran("stack", 41.0, 960.0, 40)
        self.ran("find quick", 11.0, 960.0, 40)
        plain = expected_needs(exposures, StackOptions(), found=True, calibrated=False)
        self.assertAlmostEqual(plain.seconds, 41.0, places=6)
        self.assertAlmostEqual(expected_needs(exposures, StackOptions(), found=False, calibrated=False).seconds, 52.0, places=6)
        # 40 resampled exposures and two planes of 4 bytes a pixel.
        self.assertEqual(plain.disk_bytes, 42 * 4 * 24_000_000)
        finer = expected_needs(exposures, StackOptions(grid=GridOptions(scale=2.0)), found=True, calibrated=False)
        self.assertEqual((finer.width, finer.height, finer.memory_bytes), (12000, 8000, 4 * plain.memory_bytes))
        self.assertAlmostEqual(finer.seconds, 161.0, places=6)
        part = expected_needs(exposures, StackOptions(grid=GridOptions(part=(10, 20, 300, 200))), found=True, calibrated=False)
        self.assertEqual((part.width, part.height), (300, 200))
        self.assertEqual((plain.brief, finer.brief.count("3.5 GB of memory")), ("about 40 s, 4.0 GB on disk", 1))
        self.assertEqual(plain.words, "about 40 s, 864 MB of memory, 4.0 GB on disk")
        with mock.patch("ulvar.flows.needs.available_bytes", lambda: 500_000_000):
            self.assertIn("needs 0.8 GiB of memory, and 0.5 GiB are free", plain.refusal)

    def test_kinds(self) -> None:
        self.assertEqual(stack_kind(StackOptions(), False), "stack")
        every = StackOptions(align="mosaic", normalise=Normalise.LOCAL, proper=True, drop=0.6)
        self.assertEqual(stack_kind(every, True), "stack raw local proper drops mosaic")

    def test_on_the_command_line_nothing_is_made(self) -> None:
        folder = self.bare(4)
        out = self.folder / "s.fits"
        code, told = self.json("stack", folder, "--out", out, "--estimate", "--scale", "2")
        self.assertEqual(code, 0)
        (one,) = told["series"]
        self.assertEqual((one["exposures"], one["needs"]["width"], one["refusal"]), (4, 800, ""))
        code, text, _ = self.ulvar("stack", folder, "--out", out, "--estimate")
        self.assertIn("4 exposures: about ", text)
        self.assertFalse(out.exists())

    def test_a_stack_that_was_made_is_remembered(self) -> None:
        folder = self.bare(4)
        with (
            mock.patch.multiple(pace_module, _LEAST_MPX=0.1, _LEAST_S=0.0, _ALWAYS_S=0.0),
            mock.patch("ulvar.flows.stack.expected_s", return_value=1.0) as expected,
        ):
            code, told = self.json("stack", folder, "--out", self.folder / "s.fits")
        self.assertEqual((code, expected.call_args.args[0]), (0, "stack"))
        self.assertGreater(told["series"][0]["needs"]["seconds"], 0)
        known = json.loads(self.file.read_text(encoding="utf-8"))
        self.assertEqual(set(known), {"small find quick", "small stack"})
        self.assertTrue(all(0 < v < 3600 for v in known.values()))
        self.assertTrue(Path(told["output"]).exists() and JobContext().workers)
