"""A running stack: files taken when they are complete, exposures added one by one, rejection that catches up."""

import json
import os
import signal
import threading
import time
from pathlib import Path
from unittest import mock

import cv2
import fitsio
import numpy as np
from bench.made_arrivals import HEIGHT, NOISE, SKY, WIDTH, Sky
from tools.cases import FolderCase, files_under

from tests.cli.support import Command
from ulvar.engine import JobContext
from ulvar.flows import Arrivals, Event, RunningStack, StackOptions, Watch, find_all, stack_exposures
from ulvar.frames import ExposureFacts, Role, header_of, read_plane, robust_spread, scan_file
from ulvar.simulation import Psf, add_stars


class Arriving(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.raw, self.out, self.now = self.folder / "raw", self.folder / "raw" / "out", 0.0
        self.out.mkdir(parents=True)
        self.sky = Sky(self.raw)
        self.arrivals = Arrivals(self.raw, self.out, patience_s=10, clock=lambda: self.now)

    def poll(self) -> tuple[list[str], list[str]]:
        self.now += 1
        taken, failed = self.arrivals.poll()
        return [Path(f.path).name for f in taken], [Path(f.file).name for f in failed]

    def test_a_file_is_taken_once_when_it_is_complete(self) -> None:
        whole = self.sky.write(0).read_bytes()
        path = self.raw / "light-0.fits"
        path.write_bytes(whole[:30000])
        self.assertEqual(self.poll(), ([], []))
        self.assertEqual(self.poll(), ([], []), "it stands still, but is shorter than its header says")
        self.assertEqual(self.arrivals.waiting, 1)
        path.write_bytes(whole)
        self.assertEqual(self.poll(), ([], []), "it has just changed")
        self.assertEqual(self.poll(), (["light-0.fits"], []))
        self.assertEqual(self.poll(), ([], []))
        self.assertEqual(self.arrivals.waiting, 0)

    def test_what_is_no_exposure_is_given_up_in_time(self) -> None:
        (self.raw / "junk.fits").write_bytes(b"no picture")
        (self.raw / "notes.txt").write_text("x")
        (self.raw / ".hidden.fits").write_bytes(b"x")
        for _ in range(10):
            self.assertEqual(self.poll(), ([], []))
        self.assertEqual(self.poll(), ([], ["junk.fits"]))
        self.assertEqual(self.poll(), ([], []))

    def test_results_are_no_exposures_and_the_oldest_comes_first(self) -> None:
        self.sky.write(0, "out/stack.fits")
        late, early = self.sky.write(1, "a.fits"), self.sky.write(2, "below/b.fits")
        os.utime(early, (1e9, 1e9))
        os.utime(late, (2e9, 2e9))
        self.poll()
        self.assertEqual(self.poll(), (["b.fits", "a.fits"], []))


class Running(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.sky = Sky(self.folder)

    def score(self, *paths: Path) -> list:
        found = find_all([scan_file(str(p)) for p in paths], JobContext())[0]
        return sorted(found, key=lambda one: one.facts.path)

    def test_stars_of_another_seeing_are_no_outliers(self) -> None:
        wider = np.full((HEIGHT, WIDTH), SKY)
        add_stars(wider, self.sky.x, self.sky.y, self.sky.flux, Psf.with_fwhm(3.2))
        paths = [self.sky.write(k) for k in range(3)]
        paths.append(self.sky.write(3, data=(wider + self.sky.rng.normal(0, NOISE, wider.shape)).astype(np.float32)))
        inside = (self.sky.x > 20) & (self.sky.x < WIDTH - 20) & (self.sky.y > 20) & (self.sky.y < HEIGHT - 20)
        with RunningStack(self.folder / "V.fits", JobContext()) as stack:
            for one in self.score(*paths):
                stack.add(one)
            assert stack._count is not None
            # Their middles are lower by a tenth of the light there, tens of times the noise.
            for star in np.flatnonzero(inside)[np.argsort(-self.sky.flux[inside])[:5]]:
                x, y = round(self.sky.x[star]), round(self.sky.y[star])
                self.assertEqual(stack._count[y - 1 : y + 2, x - 1 : x + 2].tolist(), [[4] * 3] * 3)

    def test_it_comes_to_what_a_stack_of_all_is(self) -> None:
        paths = []
        for k in range(9):
            data = self.sky.data(k)
            if k in (3, 7):
                data[60, 80:83] += 4000.0
            paths.append(self.sky.write(k, data=data))
        out = self.folder / "out" / "V.fits"
        counts, noises, compared = [], [], []
        scored = self.score(*paths)
        with RunningStack(out, JobContext()) as stack:
            for one in scored:
                self.assertEqual(stack.add(one), [])
                assert stack.progressed is not None
                counts.append(header_of(str(out))["NCOMBINE"])
                noises.append(stack.progressed.noise_adu)
                compared.append(stack.progressed.rejecting)
                if len(counts) == 4:
                    # Too few to be compared with each other; what stands off the stack so far did not count.
                    x, y = (81, 60)
                    shift = stack.members[3].aligned.transform
                    u, v = (round(float(c)) for c in shift(np.array(float(x)), np.array(float(y))))
                    self.assertLess(float(np.abs(read_plane(str(out))[v - 1 : v + 2, u - 1 : u + 2] - SKY).max()), 150.0)
            done = stack.finish()
        assert done is not None
        self.assertEqual(counts, list(range(1, 10)))
        self.assertTrue(done.rejecting)
        # With five, and with a third more.
        self.assertEqual(compared, [k in (4, 6) for k in range(9)])
        self.assertEqual((done.exposures, done.exposure_s), (9, 180.0))
        # Noise falls with the number of exposures.
        self.assertAlmostEqual(noises[8] / noises[0] * 3, 1.0, delta=0.2)
        picture = cv2.imread(str(out.with_suffix(".png")), cv2.IMREAD_GRAYSCALE)
        self.assertEqual(picture.shape, (HEIGHT, WIDTH))
        brightest = int(
            np.argmax(np.where((self.sky.x > 20) & (self.sky.x < 240) & (self.sky.y > 20) & (self.sky.y < 180), self.sky.flux, 0))
        )
        x, y = round(self.sky.x[brightest]), round(self.sky.y[brightest])
        self.assertGreater(int(picture[HEIGHT - 1 - y, x]), 200)
        exposures = [scan_file(str(p)) for p in paths]
        whole = stack_exposures(exposures, self.folder / "whole.fits", JobContext(), options=StackOptions(reference=exposures[0].path))
        one, other = read_plane(str(out)), read_plane(whole.output)
        np.testing.assert_array_equal(np.isnan(one), np.isnan(other))
        np.testing.assert_allclose(one, other, rtol=1e-4, atol=0.01)
        with fitsio.FITS(out) as handle:
            self.assertIn("COUNT MAP", [str(h.get_extname()) for h in handle])
        self.assertFalse([f for f in files_under(self.folder) if ".ulvar" in f], "nothing is left")

    def test_it_begins_anew_with_those_that_agree(self) -> None:
        empty = self.sky.write(0, "a.fits", data=self.sky.data(0, stars=False))
        good = [self.sky.write(k, f"b{k}.fits") for k in (1, 2, 3)]
        other = Sky(self.folder, seed=50).write(4, "c.fits")
        scored = {Path(s.facts.path).name: s for s in self.score(empty, *good, other)}
        with RunningStack(self.folder / "s.fits", JobContext()) as stack:
            stack.add(scored["a.fits"])
            told = stack.add(scored["b1.fits"])
            self.assertEqual(len(told), 1)
            stack.add(scored["b2.fits"])
            self.assertEqual([Path(m.aligned.scored.facts.path).name for m in stack.members], ["b1.fits", "b2.fits"])
            self.assertEqual(stack.add(scored["b3.fits"]), [])
            self.assertEqual(len(stack.add(scored["c.fits"])), 1)
            self.assertEqual(len(stack.members), 3)
            done = stack.finish()
        assert done is not None
        self.assertEqual(header_of(done.output)["NCOMBINE"], 3)
        with RunningStack(self.folder / "none.fits", JobContext()) as nothing:
            self.assertIsNone(nothing.finish())


class Watching(Command):
    """The whole way, beside a program that goes on writing."""

    def setUp(self) -> None:
        super().setUp()
        self.raw, self.out = self.folder / "raw", self.folder / "out"
        self.raw.mkdir()
        self.sky = Sky(self.raw)

    def steps(self, watched: Watch, times: int = 2) -> list[Event]:
        return [event for _ in range(times) for event in watched.step()]

    def test_filters_fields_and_masters_as_they_arrive(self) -> None:
        watched = Watch(self.raw, self.out, JobContext())
        pattern = np.random.default_rng(9).normal(0, 30, (HEIGHT, WIDTH))
        for k in range(3):
            self.sky.write(k, data=(self.sky.data(k) + pattern).astype(np.float32), FILTER="VR"[k % 2])
        events = self.steps(watched)
        self.assertEqual([e.kind for e in events], ["added"] * 3)
        self.assertEqual(sorted(p.name for p in self.out.glob("*.fits")), ["R.fits", "V.fits"])
        before = robust_spread(read_plane(str(self.out / "V.fits"))[30:150, 40:200].ravel())
        # Darks of the same length come: all is calibrated with them, what was there before, too.
        for k in range(4):
            dark = (pattern + 100 + self.sky.rng.normal(0, 3, pattern.shape)).astype(np.float32)
            self.sky.write(k, f"dark-{k}.fits", dark, IMAGETYP="dark", FILTER="")
        events = self.steps(watched, 3)
        kinds = [e.kind for e in events]
        self.assertEqual((kinds.count("master"), kinds.count("begun anew"), kinds.count("added")), (1, 2, 3))
        after = robust_spread(read_plane(str(self.out / "V.fits"))[30:150, 40:200].ravel())
        self.assertLess(after, 0.5 * before)
        self.sky.write(5, data=(self.sky.data(5) + pattern).astype(np.float32), FILTER="R")
        alien = Sky(self.raw, seed=70)
        alien.write(6, FILTER="R")
        (self.raw / "half.fits").write_bytes((self.raw / "light-0.fits").read_bytes()[:40000])
        events = self.steps(watched)
        self.assertEqual([(e.kind, Path(e.file).name) for e in events], [("added", "light-5.fits"), ("not added", "light-6.fits")])
        self.assertRegex(events[1].reason, "pattern|stars")
        self.assertEqual(watched.arrivals.waiting, 1)
        stacks = watched.finish()
        self.assertEqual(sorted((Path(s.output).name, s.exposures) for s in stacks), [("R.fits", 2), ("V.fits", 2)])
        self.assertTrue((self.out / "masters").is_dir() and (self.out / "calibrated").is_dir())
        self.assertFalse([f for f in files_under(self.folder) if ".ulvar" in f])

    def test_masters_wait_while_their_frames_arrive(self) -> None:
        watched, made = Watch(self.raw, self.out, JobContext()), []
        arrivals = [([ExposureFacts(f"{k}", role=Role.DARK) for k in range(count)], []) for count in (1, 2, 0)]
        with (
            mock.patch.object(watched.arrivals, "poll", side_effect=arrivals),
            mock.patch.object(watched, "_make_masters", side_effect=lambda: made.append(len(watched._frames)) or ()),
        ):
            for _ in arrivals:
                list(watched.step())
        self.assertEqual(made, [3])

    def test_fields_that_overlap_are_stacks_of_their_own(self) -> None:
        for k in range(4):
            # The same stars, moved: they would match.
            self.sky.write(k, OBJECT="Part 1" if k < 2 else "Part 2")
        self.sky.write(4, OBJECT="PART-1", FILTER="R")
        watched = Watch(self.raw, self.out, JobContext())
        self.steps(watched)
        done = sorted((Path(s.output).name, s.exposures) for s in watched.finish())
        self.assertEqual(done, [("Part-2-V.fits", 2), ("R.fits", 1), ("V.fits", 2)])

    def test_equal_names_in_folders_below_are_told_apart(self) -> None:
        for k in range(3):
            dark = (100 + self.sky.rng.normal(0, 3, (HEIGHT, WIDTH))).astype(np.float32)
            self.sky.write(k, f"darks/d{k}.fits", dark, IMAGETYP="dark", FILTER="")
        watched = Watch(self.raw, self.out, JobContext())
        self.steps(watched, 3)
        for k, name in ((0, "first/l.fits"), (1, "second/l.fits")):
            self.sky.write(k, name)
        self.assertEqual([e.kind for e in self.steps(watched)], ["added", "added"])
        made = sorted(str(p.relative_to(self.out / "calibrated")) for p in (self.out / "calibrated").rglob("*.fits"))
        self.assertEqual(made, ["first/l-cal.fits", "second/l-cal.fits"])
        self.assertEqual(watched.finish()[0].exposures, 2)

    def test_what_lies_there_is_kept(self) -> None:
        self.out.mkdir()
        (self.out / "V.fits").write_bytes(b"mine")
        self.sky.write(0)
        watched = Watch(self.raw, self.out, JobContext())
        events = self.steps(watched)
        self.assertEqual((events[0].kind, events[0].reason), ("not added", "V.fits exists; it is kept"))
        self.assertEqual(watched.finish(), [])
        self.assertEqual((self.out / "V.fits").read_bytes(), b"mine")
        again = Watch(self.raw, self.out, JobContext(), replace_existing=True)
        self.assertEqual(self.steps(again)[0].kind, "added")
        self.assertEqual(len(again.finish()), 1)

    def test_names_of_filters_make_no_paths(self) -> None:
        self.sky.write(0, FILTER="../../x y")
        watched = Watch(self.raw, self.out, JobContext())
        self.steps(watched)
        self.assertEqual(len(watched.finish()), 1)
        self.assertEqual([p.name for p in self.out.glob("*.fits")], ["x-y.fits"])

    def written(self, count: int, pause: float) -> threading.Thread:
        """Write exposures like a capture program, in pieces."""
        pictures = [(k, self.sky.data(k)) for k in range(count)]

        def work() -> None:
            for k, data in pictures:
                path = self.sky.write(k, f"../made-{k}.fits", data)
                whole = path.read_bytes()
                with (self.raw / f"light-{k}.fits").open("wb") as handle:
                    for piece in (whole[:50000], whole[50000:]):
                        handle.write(piece)
                        handle.flush()
                        time.sleep(pause)

        thread = threading.Thread(target=work)
        self.addCleanup(thread.join)
        thread.start()
        return thread

    def test_the_command_follows_a_capture_program(self) -> None:
        self.written(5, 0.15)
        code, out, err = self.ulvar("watch", self.raw, "--out", self.out, "--until", "5", "--idle", "60", "--every", "0.1", "--json")
        lines = [json.loads(line) for line in out.splitlines()]
        self.assertEqual(code, 0, err)
        self.assertEqual([line["event"] for line in lines], ["added"] * 5 + ["end"])
        self.assertEqual([line["stack"]["exposures"] for line in lines[:5]], [1, 2, 3, 4, 5])
        self.assertEqual(lines[-1]["stacks"][0]["exposures"], 5)
        self.assertEqual(header_of(str(self.out / "V.fits"))["NCOMBINE"], 5)

    def test_ctrl_c_ends_it_with_what_is_there(self) -> None:
        self.sky.write(0), self.sky.write(1)

        def press() -> None:
            for _ in range(600):
                if (self.out / "V.fits").exists() and header_of(str(self.out / "V.fits"))["NCOMBINE"] == 2:
                    break
                time.sleep(0.1)
            os.kill(os.getpid(), signal.SIGINT)

        pressing = threading.Thread(target=press)
        pressing.start()
        before = signal.getsignal(signal.SIGINT)
        code, out, _ = self.ulvar("watch", self.raw, "--out", self.out, "--every", "0.1")
        pressing.join()
        self.assertEqual(code, 0)
        self.assertIn("V.fits: 2 exposures, 40 s", out.splitlines()[-1])
        self.assertIs(signal.getsignal(signal.SIGINT), before)

    def test_wrong_usage_and_nothing_to_stack(self) -> None:
        for words, reason in (
            (("watch", self.folder / "none", "--out", self.out), "no such folder"),
            (("watch", self.raw, "--out", self.raw), "cannot lie where"),
            (("watch", self.raw, "--out", self.folder), "cannot lie where"),
            (("watch", self.raw, "--out", self.out, "--until", "0"), "above 0"),
            (("watch", self.raw, "--out", self.out, "--masters", self.folder / "none"), "no such folder"),
        ):
            code, _, err = self.ulvar(*words)
            self.assertEqual(code, 2, err)
            self.assertIn(reason, err)
        code, out, _ = self.ulvar("watch", self.raw, "--out", self.out, "--idle", "0.3", "--every", "0.1")
        self.assertEqual((code, out.strip()), (3, "nothing was stacked"))
        # What never became complete is named in the end, and is not waited for.
        whole = self.sky.write(0).read_bytes()
        (self.raw / "half.fits").write_bytes(whole[:40000])
        code, out, _ = self.ulvar("watch", self.raw, "--out", self.out, "--idle", "0.5", "--every", "0.1")
        self.assertEqual(code, 1)
        self.assertRegex(out, "half.fits: cannot be used; .*cut short")
