"""What people type and what files hold beside the usual: taken as it is meant, or refused with the reason."""

import contextlib
import os
import types
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import cv2
import fitsio
import numpy as np
import tifffile
from bench.made_files import write_dng
from tools.cases import FolderCase

from ulvar.frames import (
    KNOWN_OTHERWISE,
    ExposureFacts,
    FrameError,
    TagRule,
    find_files,
    identity,
    open_film,
    parse_position,
    read_plane,
    scan_file,
    scan_images,
    split_position,
    with_user_facts,
    write_table_again,
)
from ulvar.frames.camera import exif_facts, raw_pixels, scan_raw
from ulvar.frames.clipped import clipped_at
from ulvar.frames.dialects import facts_from_header
from ulvar.frames.fits_rows import FileRows
from ulvar.frames.tiff import scan_tiff, tiff_pixels
from ulvar.frames.verifying import has_checksum
from ulvar.simulation import MadeUpFilm, write_ser

FILM = MadeUpFilm(width=48, height=32, frames=12, stars=((20.0, 15.0, 20000.0),), out_s=0.1, back_s=0.2, noise=1.0)
FACTS = """role=dark flat;role=spoon;is_master=yes;is_master=0;is_master=maybe;cfa=rggb;cfa=rgb;cfa=rgbx;cfa=;start_utc=2027-02-11T21:04:00;start_utc=noon;
mid_utc=2027-02-11T21:04:00;focal_length_mm=800;focal_length_mm=0;focal_length_mm=long;pixel_size_um=3.76;binning=2;binning=1.5;count=0;exposure_s=30;
exposure_s=inf;gain_e_per_adu=0;gain_e_per_adu=1.4;clock_s=-3;row_us=nan;ra_deg=7h42m10s;ra_deg=115.5;dec_deg=+41 18;dec_deg=north;site=61,9;site=61,9,640;
site=61;site=a,b;scale_arcsec_px=1.1;scale_arcsec_px=-1;filter=V;camera=Kvist;read_noise_e=6;saturation_adu=65535;nonsense=1"""
PLACES = """7 42 41 18;7 42 10 41 18 3;115.5 41.3;115.5 -41.3;RA=07:42 Dec=+41:18;ra 7 dec 4;7h42m10.5s 41d18m03s;J074210.5+411803;J074210-411803.25;1,2,3;1,2;a b c;
;RA 07 42 10.5 Dec −41 18 03;7 42;07:42:10 -00:00:30;400 10;10 91;25h 10d;-1 5"""


def tried(function: Callable[..., Any], *given: Any) -> Any:
    """Return what comes of it; what is refused is held, too, with its reason."""
    with contextlib.suppress(FrameError, ValueError):
        return function(*given)
    return None


class Typed(FolderCase):
    def test_facts(self) -> None:
        plain = ExposureFacts("x", exposure_s=20.0, pixel_size_um=4.0, focal_length_mm=500.0)
        told = {text: tried(with_user_facts, plain, dict([text.strip().split("=")])) for text in FACTS.split(";")}
        refused = {text.strip() for text, facts in told.items() if facts is None}
        self.assertEqual({text.partition("=")[0] for text in refused}, {
            "role", "is_master", "cfa", "start_utc", "focal_length_mm", "binning", "count", "exposure_s", "gain_e_per_adu", "row_us", "dec_deg",
            "site", "scale_arcsec_px", "nonsense",
        })  # fmt: skip
        self.assertEqual(len(refused), 17)
        # A telescope of 800 mm with pixels of 4 um.
        self.assertAlmostEqual(told["focal_length_mm=800"].scale_arcsec_px, 1.0313, places=4)

    def test_places(self) -> None:
        for text in PLACES.split(";"):
            tried(split_position, text.strip())
            tried(parse_position, text.strip())
        self.assertEqual(split_position("7 42 41 18"), ("7 42", "41 18"))
        self.assertEqual(parse_position("RA 07 42 00 Dec −41 18 00"), (115.5, -41.3))

    def test_headers_with_numbers_that_cannot_be(self) -> None:
        for card, value in (
            ("UT", "25:70"), ("UT", "21:04:05"), ("NOISECOR", 0.01), ("NOISECOR", 2.0), ("FLATNOIS", 1.0), ("FLATNOIS", 0.999), ("NCOMBINE", -2),
            ("NOISECOR", 0.1), ("NOISECOR", 100.0), ("NOISECOR", 100.5), ("FLATNOIS", 0.0), ("FLATNOIS", -0.1),
        ):  # fmt: skip
            facts_from_header({"DATE-OBS": "2027-02-11", card: value}, "x.fits")

    def test_how_many_pixels_at_the_top_are_a_pile(self) -> None:
        for count, top in ((5, None), (6, 3000.0), (7, 3000.0)):
            data = np.random.default_rng(3).normal(200, 5, (80, 90)).round().astype(np.float32)
            data.flat[100 : 100 + count] = 3000.0
            self.assertEqual([clipped_at(data, bits) for bits in (16, -32)], [top, None])
        self.assertEqual(clipped_at(np.full((9, 9), np.nan, np.float32), 16), None)

    def test_what_counts_of_a_file(self) -> None:
        facts = ExposureFacts(
            "x", gain_e_per_adu=1.5, clock_s=3.0, origins={"gain_e_per_adu": "measured", "clock_s": "user", "filter": "header"}
        )
        for origins in (KNOWN_OTHERWISE, ("user",)):
            self.assertEqual("clock_s" in identity(facts, origins, timed=True)[3], True)
            self.assertEqual("clock_s" in identity(facts, origins)[3], False)
            self.assertEqual("gain_e_per_adu" in identity(facts, origins)[3], "measured" in origins)
        for rule, path, value in (
            ("", "/r/a/b/f", ""), ("{}", "/r/a/b/f", "a"), ("x{}", "/r/xa/b/f", "a"), ("x{}", "/r/a/b/f", ""), ("*/{}", "/r/a/b/f", "b"),
            ("*/*/{}", "/r/a/b/f", ""), ("n{}/b", "/r/n7/b/f", "7"), ("n{}/b", "/r/n7/c/f", ""),
        ):  # fmt: skip
            self.assertEqual(TagRule("t", rule).value(path, ["/r"]), value, (rule, path))
        error = FrameError("a.fits", "it is cut")
        again = error.__reduce__()
        self.assertEqual((again[0](*again[1]).reason, str(again[0](*again[1]))), ("it is cut", str(error)))


class Files(FolderCase):
    def test_pictures_in_tiff(self) -> None:
        rng = np.random.default_rng(1)
        for name, shape, more in (
            ("grey", (6, 8), {}), ("rgb", (6, 8, 3), {"photometric": "rgb"}), ("rgba", (6, 8, 4), {"photometric": "rgb", "extrasamples": ["unassalpha"]}),
            ("deep", (3, 6, 8), {"volumetric": True, "tile": (16, 16, 16), "photometric": "minisblack"}), ("two", (2, 6, 8), {"photometric": "minisblack"}), ("cut", (60, 80), {}),
            ("planes", (3, 6, 8), {"photometric": "rgb", "planarconfig": "separate"}),
        ):  # fmt: skip
            path = self.folder / f"{name}.tif"
            tifffile.imwrite(path, rng.integers(0, 60000, shape).astype(np.uint16), **more)
            if name == "cut":
                path.write_bytes(path.read_bytes()[:2000])
            for address in (f"{path}", f"{path}[0]", f"{path}[1]", f"{path}[0,2]", f"{path}[0,4]", f"{path}[7]"):
                tried(scan_tiff, address)
                tried(tiff_pixels, address)
        # Zeros are packed a thousand times smaller.
        tifffile.imwrite(self.folder / "zeros.tif", np.zeros((3000, 3000), np.uint16), compression="zlib")
        self.assertEqual(tiff_pixels(str(self.folder / "zeros.tif")).shape, (3000, 3000))
        with self.assertRaisesRegex(FrameError, "deep.tif.*no plane of pixels"):
            scan_tiff(str(self.folder / "deep.tif"))
        self.assertEqual([f.filter for f in scan_tiff(str(self.folder / "rgba.tif"))], list("RGBA"))

    def test_what_a_camera_s_file_may_say(self) -> None:
        tags = {"EXIF FocalLength": types.SimpleNamespace(values=[80.0]), "EXIF FNumber": types.SimpleNamespace(values=[4.0])}
        path = write_dng(self.folder / "a.dng", np.full((64, 96), 900, np.uint16))
        for more in (
            {},
            {"EXIF ExposureTime": types.SimpleNamespace(values=["x"])},
            {"EXIF DateTimeOriginal": "2027:02:11 21:00:00", "EXIF OffsetTime": "soon"},
        ):
            with mock.patch("exifread.process_file", return_value=tags | more):
                facts = exif_facts(path, width=96)
            self.assertEqual((facts.focal_length_mm, facts.aperture_mm, facts.exposure_s), (80.0, 20.0, None))
        with mock.patch("exifread.process_file", side_effect=RuntimeError):
            self.assertIsNone(exif_facts(path, width=96).focal_length_mm)
        good = types.SimpleNamespace(raw_width=4, raw_height=3, width=4, height=3)
        raw = types.SimpleNamespace(
            sizes=good, raw_pattern=None, white_level=0, black_level_per_channel=[], raw_image_visible=np.arange(12.0).reshape(3, 4), color_desc=b"RGBG",
        )  # fmt: skip
        for change in (
            {}, {"raw_pattern": np.array([[0, 1], [3, 2]])}, {"raw_pattern": np.zeros((6, 6))}, {"sizes": replaced(good, raw_width=0)},
            {"sizes": replaced(good, raw_width=10**6, raw_height=10**6)}, {"sizes": replaced(good, height=0)}, {"raw_image_visible": None},
            {"raw_image_visible": np.zeros((3, 4, 3))}, {"white_level": 900, "black_level_per_channel": [10, 12]},
        ):  # fmt: skip
            with mock.patch("ulvar.frames.camera._opened", lambda _, c=change: contextlib.nullcontext(replaced(raw, **c))):
                tried(scan_raw, path)
                tried(raw_pixels, path)

    def test_rows_that_come_in_pieces(self) -> None:
        """The system may give fewer bytes than it is asked for."""
        data = np.random.default_rng(2).normal(100, 5, (40, 60))
        paths = [self.write(f"{k}.fits", data.astype(kind)) for k, kind in enumerate((np.float32, np.uint16, np.int16, np.float64))]
        paths += [
            self.write("blank.fits", data.astype(np.int16), BLANK=100),
            self.write("cube.fits", np.stack([data, data + 7]).astype(np.float32)),
        ]
        whole = [FileRows(path).rows(3, 30) for path in paths[:5]]
        really = os.preadv
        with mock.patch("os.preadv", lambda handle, buffers, at: really(handle, [buffers[0][:999]], at)):
            for path, wanted in zip(paths, whole):
                np.testing.assert_array_equal(FileRows(path).rows(3, 30), wanted)
        self.assertTrue(np.isnan(whole[4]).any())
        for address in (paths[5], f"{paths[5]}[0,1]", f"{paths[5]}[0,2]"):
            tried(read_plane, address)
            tried(FileRows, address)
        for text in ("", "SIMPLE  =", "II*\0"):
            (self.folder / "odd").write_text(text)
            tried(has_checksum, str(self.folder / "odd"))
        self.assertFalse(tried(has_checksum, paths[0]))
        (self.folder / "x.csv").write_text("a,b\n1,2\n")
        fitsio.write(self.folder / "tiles.fz", np.round(data).astype(np.int16), header={"BLANK": 103}, compress="rice", tile_dims=(8, 60))
        tiled = FileRows(str(self.folder / "tiles.fz")).rows(3, 30)
        np.testing.assert_array_equal(np.isnan(tiled), np.round(data)[3:30] == 103)
        with self.assertRaisesRegex(ValueError, "x.csv is not such a table"):
            write_table_again(self.folder / "x.csv", self.folder / "y.csv", [("file", "", None, "")])
        files, other = find_files([str(self.folder / "*")])
        self.assertEqual((len(files), {Path(o).name for o in other}), (7, {"odd", "x.csv"}))


def replaced(told: types.SimpleNamespace, **change: Any) -> types.SimpleNamespace:
    return types.SimpleNamespace(**{**vars(told), **change})


class Films(FolderCase):
    def films(self) -> Iterator[Path]:
        """Write films as programs may: colours, a mosaic, more bits than are told, none promised, none there."""
        for name, bits, big, header in (
            ("rgb", 12, False, {18: 100, 38: 4}), ("swapped", 12, True, {18: 100, 38: 4}), ("mosaic", 8, False, {18: 8}), ("more", 12, False, {34: 9}),
            ("open", 8, False, {38: 0}), ("none", 8, False, {26: 4000, 30: 4000}), ("deep", 8, False, {34: 17}),
        ):  # fmt: skip
            path = self.folder / f"{name}.ser"
            write_ser(path, FILM, bits=bits, big_endian=big)
            raw = bytearray(path.read_bytes())
            for at, value in header.items():
                raw[at : at + 4] = value.to_bytes(4, "little")
            path.write_bytes(raw)
            yield path

    def test_ser(self) -> None:
        found = {path.stem: tried(open_film, [str(path)]) for path in self.films()}
        for name, film in found.items():
            if film is not None:
                np.testing.assert_array_equal(np.concatenate([block for _, block in film.blocks()]), film.read(0, film.count), name)
        pictures = np.stack(list(FILM.pictures()))
        colours = np.clip(np.round(pictures), 0, 65535).reshape(4, 32, 48, 3).mean(axis=-1)
        for name in ("rgb", "swapped"):
            np.testing.assert_allclose(found[name].read(0, 4), colours, rtol=1e-6)
        self.assertEqual((found["more"].full_adu, found["open"].count, found["none"], found["deep"]), (65535.0, 12, None, None))
        self.assertIn("colour mosaic", found["mosaic"].notes[0])
        (self.folder / "folder.ser").mkdir()
        for wrong in ([], [str(self.folder / "folder.ser")], [str(self.folder)]):
            self.assertIsNone(tried(open_film, wrong))

    def test_avi(self) -> None:
        path = self.folder / "film.avi"
        writer = cv2.VideoWriter(str(path), cv2.VideoWriter.fourcc(*"FFV1"), 25.0, (48, 32), isColor=True)
        frames = np.random.default_rng(4).integers(0, 250, (6, 32, 48, 3)).astype(np.uint8)
        for frame in frames:
            writer.write(frame)
        writer.release()
        film = open_film([str(path)])
        # The packing keeps colours in another space: to a step or two.
        np.testing.assert_allclose(film.read(1, 3, slice(4, 9)), frames[1:3, 4:9].mean(axis=-1), atol=2.0)
        for first, last in ((8, 9), (4, 8)):
            self.assertIsNone(tried(film.read, first, last))
        real = cv2.VideoCapture

        def without_index(path: str) -> mock.Mock:
            capture = real(path)
            return mock.Mock(wraps=capture, get=lambda what: 0.0 if what == cv2.CAP_PROP_FRAME_COUNT else capture.get(what))

        with mock.patch("cv2.VideoCapture", without_index):
            self.assertEqual(open_film([str(path)]).count, 6)

    def test_cubes(self) -> None:
        cube = np.random.default_rng(5).normal(500, 9, (4, 12, 16)).astype(np.float32)
        dated = {"DATE_OBS": "2026-03-14T21:05:12", "EXPTIME": 0.5}
        for k, axis in enumerate((
            {}, {"CTYPE3": "TIME", "CDELT3": 0.5}, {"CTYPE3": "UTC", "CDELT3": 2.0, "CUNIT3": "min"}, {"CTYPE3": "WAVE", "CDELT3": 2.0},
            {"CTYPE3": "TIME", "CDELT3": -1.0}, {"CTYPE3": "TT", "CDELT3": 1.0, "CUNIT3": "a"}, {"CTYPE3": "TAI", "CDELT3": 1e-5, "CUNIT3": "d"},
        )):  # fmt: skip
            film = open_film([self.write(f"{k}.fits", cube, **dated, **axis)])
            np.testing.assert_array_equal(film.read(0, 4), cube)
        wide = self.write("int.fits", np.round(cube).astype(np.int32), BZERO=10.0, BSCALE=0.5)
        np.testing.assert_allclose(open_film([wide]).read(1, 2)[0], read_plane(f"{wide}[0,1]"))
        fitsio.write(self.folder / "tiles.fits", np.round(cube).astype(np.int32), compress="rice")
        np.testing.assert_array_equal(open_film([str(self.folder / "tiles.fits")]).read(0, 4), np.round(cube))
        fitsio.write(self.folder / "packed.fits.gz", cube)
        self.assertIsNone(tried(open_film, [str(self.folder / "packed.fits.gz")]))

    def test_single_files(self) -> None:
        frame = np.random.default_rng(6).normal(500, 9, (12, 16)).astype(np.float32)
        first = self.write("a.fits", frame, EXPTIME=0.5, OBJECT="A", FLAG=True, COUNT_=3, DATE_OBS="2026-03-14T21:05:12")
        for k, cards in enumerate((
            {}, {"EXPTIME": 0.25}, {"OBJECT": "it's"}, {"FLAG": False}, {"COUNT_": -4}, {"MORE": 1}, {"DATE_OBS": "later"}, {"COUNT_": "many"},
            {"DATE_OBS": "2026-03-14T21:05:10"}, {"BLANK": 3}, {"BSCALE": 2.0},
        )):  # fmt: skip
            same = {"EXPTIME": 0.5, "OBJECT": "A", "FLAG": True, "COUNT_": 3, "DATE_OBS": "2026-03-14T21:05:13"}
            other = self.write(f"{k}.fits", frame + k, **{**same, **cards})
            film = open_film([first, other])
            wanted = [read_plane(film.path if n == 0 else other) for n in range(2)] if film.path == first else [read_plane(other), frame]
            np.testing.assert_allclose(film.read(0, 2), wanted, err_msg=f"{cards}")
            self.assertEqual(film.exposure_s == 0.5, cards.get("EXPTIME") is None)
        text, cut = self.folder / "text.fits", self.folder / "cut.fits"
        text.write_text("SIMPLE")
        cut.write_bytes(Path(other).read_bytes())
        film = open_film([other, str(cut)])
        cut.write_bytes(cut.read_bytes()[:3000])
        self.assertIsNone(tried(film.read, 0, 2))
        cut.unlink()
        self.assertIsNone(tried(film.read, 0, 2))
        for wrong in ([str(text), first], [first, str(text)], [first, str(self.folder / "gone.fits")]):
            self.assertIsNone(tried(open_film, wrong))
        self.assertEqual(replace(scan_file(first), mtime_ns=0), replace(scan_images(first)[0], mtime_ns=0))
