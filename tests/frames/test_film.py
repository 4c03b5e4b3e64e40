"""Films: SER, AVI, cubes and single files give the same frames and times; words are found; what is broken is told."""

import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

import cv2
import fitsio
import numpy as np
from tools.same import kept

from ulvar.frames import FrameError, burnt_words, open_film
from ulvar.simulation import MadeUpFilm, write_ser

_FILM = MadeUpFilm(width=48, height=32, frames=30, stars=((20.0, 15.0, 800.0),), out_s=0.4, back_s=0.6, noise=1.0)
_BEGINS = _FILM.begins.timestamp()


class FilmTest(unittest.TestCase):
    """One made-up film in all formats."""

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory(prefix="ulvar-film-")
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        cls.frames = np.stack(list(_FILM.pictures()))
        cls.eight = np.clip(np.round(cls.frames), 0, 255).astype(np.uint8)
        write_ser(cls.folder / "eight.ser", _FILM)

    def _all(self, film) -> np.ndarray:  # type: ignore[no-untyped-def]
        return np.concatenate([block for _, block in film.blocks()])

    def test_ser_gives_pixels_and_times(self) -> None:
        film = open_film([str(self.folder / "eight.ser")])
        np.testing.assert_array_equal(self._all(film), self.eight)
        self.assertEqual((film.kind, film.full_adu, film.count), ("SER", 255.0, 30))
        np.testing.assert_allclose(film.times, _BEGINS + _FILM.starts(), atol=1e-6)
        np.testing.assert_array_equal(film.read(3, 5, slice(10, 12)), self.eight[3:5, 10:12])

    def test_three_colours_a_pixel(self) -> None:
        raw = bytearray((self.folder / "eight.ser").read_bytes())
        raw[18:22], raw[38:42] = (100).to_bytes(4, "little"), (10).to_bytes(4, "little")
        (self.folder / "colours.ser").write_bytes(raw)
        film = open_film([str(self.folder / "colours.ser")])
        self.assertEqual((film.count, film.read(2, 4).shape[:3]), (10, (2, 32, 48)))
        flat = self.eight.reshape(10, 32, 48, 3).astype(float)
        np.testing.assert_allclose(film.read(2, 4), flat[2:4].mean(axis=-1), atol=1)
        kept(self, film, flat)

    def test_sixteen_bits_in_either_order(self) -> None:
        wanted = np.clip(np.round(self.frames), 0, 65535)
        for big in (False, True):
            path = self.folder / f"{big}.ser"
            write_ser(path, _FILM, bits=12, big_endian=big)
            film = open_film([str(path)])
            np.testing.assert_array_equal(self._all(film), wanted)
            self.assertEqual(film.full_adu, 4095.0)

    def test_a_ser_file_that_was_cut_gives_what_is_whole(self) -> None:
        whole = (self.folder / "eight.ser").read_bytes()
        path = self.folder / "cut.ser"
        path.write_bytes(whole[: 178 + 48 * 32 * 10 + 100])
        film = open_film([str(path)])
        self.assertEqual(film.count, 10)
        self.assertIn("10 of 30 frames", film.notes[0])
        self.assertAlmostEqual(film.times[0], _BEGINS, places=5)
        self.assertTrue(np.isnan(film.times[1:]).all())

    def test_what_is_no_film_is_told(self) -> None:
        for name, content, reason in (
            ("a.ser", b"LUCAM-RECORDER" + b"\0" * 200, "makes no sense"),
            ("b.ser", b"nothing", "not a SER file"),
            ("c.avi", b"nothing", "not an AVI file"),
            ("d.fits", b"nothing", "not a FITS file"),
        ):
            path = self.folder / name
            path.write_bytes(content)
            with self.subTest(name), self.assertRaisesRegex(FrameError, reason):
                open_film([str(path)])
        with self.assertRaisesRegex(FrameError, "no such file"):
            open_film([str(self.folder / "gone.ser")])

    def test_avi_gives_pixels_and_rate(self) -> None:
        path = self.folder / "film.avi"
        writer = cv2.VideoWriter(str(path), cv2.VideoWriter.fourcc(*"FFV1"), 25.0, (48, 32), isColor=False)
        self.assertTrue(writer.isOpened())
        for frame in self.eight:
            writer.write(frame)
        writer.release()
        film = open_film([str(path)])
        self.assertEqual((film.count, film.rate, film.width, film.height), (30, 25.0, 48, 32))
        np.testing.assert_array_equal(self._all(film), self.eight)
        np.testing.assert_array_equal(film.read(4, 6), self.eight[4:6])

    def test_a_cube_with_a_time_axis(self) -> None:
        path = self.folder / "cube.fits"
        header = {
            "DATE-OBS": "2026-03-14T21:05:12.000", "EXPTIME": 0.04, "CTYPE3": "TIME", "CDELT3": 40.0, "CUNIT3": "ms",
        }  # fmt: skip
        fitsio.write(path, np.round(self.frames).astype(np.uint16), header=header)
        film = open_film([str(path)])
        self.assertEqual((film.kind, film.count, film.exposure_s, film.stamp), ("FITS cube", 30, 0.04, "start"))
        np.testing.assert_array_equal(self._all(film), np.round(self.frames))
        np.testing.assert_allclose(film.times, _BEGINS + _FILM.starts(), atol=1e-6)

    def test_a_cube_without_one_dates_its_first_frame(self) -> None:
        path = self.folder / "plain.fits"
        fitsio.write(path, self.frames, header={"DATE-OBS": "2026-03-14T21:05:12.000"})
        film = open_film([str(path)])
        self.assertAlmostEqual(film.times[0], _BEGINS, places=5)
        self.assertTrue(np.isnan(film.times[1:]).all())
        np.testing.assert_array_equal(self._all(film), self.frames)

    def test_single_files_come_in_the_order_of_their_times(self) -> None:
        paths = []
        for k in (2, 0, 1):
            path = self.folder / f"{9 - k}.fits"
            when = datetime(2026, 3, 14, 21, 5, 12, tzinfo=UTC) + timedelta(seconds=0.04 * k)
            fitsio.write(path, self.frames[k], header={"DATE-OBS": when.isoformat()[:-6], "EXPTIME": 0.04})
            paths.append(str(path))
        film = open_film(paths)
        np.testing.assert_array_equal(self._all(film), self.frames[:3])
        self.assertEqual(film.label(0), "9.fits")
        self.assertEqual(film.exposure_s, 0.04)
        # One whose numbers are of another kind is read along, as it is.
        again = self.folder / "2.fits"
        fitsio.write(
            again, np.round(self.frames[5]).astype(np.uint16), header={"DATE-OBS": "2026-03-14T23:00:00", "EXPTIME": 0.5},
        )  # fmt: skip
        mixed = open_film([*paths, str(again)])
        np.testing.assert_allclose(self._all(mixed)[3], np.round(self.frames[5]))
        self.assertAlmostEqual(mixed.times[3] - mixed.times[0], 6888.0, places=3)
        self.assertTrue(np.isnan(mixed.exposure_s))
        other = self.folder / "other.fits"
        fitsio.write(other, self.frames[0][:10], header={"DATE-OBS": "2026-03-14T22:00:00"})
        with self.assertRaisesRegex(FrameError, r"other.fits: it is 48 x 10 px"):
            self._all(open_film([*paths, str(other)]))


class BurntWordsTest(unittest.TestCase):
    """Clocks are found, stars are not."""

    def test_words_are_boxed_and_full_stars_are_not(self) -> None:
        star = (100.0, 60.0, 60000.0)
        film = MadeUpFilm(width=200, height=100, frames=20, stars=(star,), out_s=99, back_s=99, clock=True, drift_px=0)
        frames = np.clip(np.stack(list(film.pictures())), 0, 255)
        words = burnt_words(frames)
        self.assertGreater((frames[:, 60, 100] >= 255).mean(), 0.9)
        self.assertFalse(words[40:].any())
        ink = (frames[:, :30] >= 200).mean(axis=0) > 0.5
        self.assertTrue(words[:30][ink].all())
        self.assertLess(words.mean(), 0.2)
        self.assertFalse(burnt_words(frames[:, 40:]).any())
        # Three full stars in a row are none, nor is a block of marks as high as wide.
        row = np.full((5, 60, 80), 20.0)
        for x in (20, 30, 40):
            row[:, 28:34, x : x + 6] = 255.0
        self.assertFalse(burnt_words(row).any())
        for x in (20, 30, 40):
            for y in (8, 18, 38, 48):
                row[:, y : y + 8, x : x + 6] = 255.0
        self.assertFalse(burnt_words(row).any())
