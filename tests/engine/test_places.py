"""What cannot be written says where, why, and how much room there is."""

import errno
import io
import os
import pickle
from pathlib import Path
from unittest import mock

from tools.cases import FolderCase

from ulvar.engine import DiskFull, OutputExists, atomic_path, copy_file, place_words, temporary_name
from ulvar.engine.places import with_place


class Words(FolderCase):
    def test_reasons(self) -> None:
        for number, told in (
            (errno.EROFS, "its disk can only be read"),
            (errno.EACCES, "the rights to it are missing"),
            (errno.ENOTDIR, "a file is in the way where a folder is needed"),
            (errno.EEXIST, "a file is in the way where a folder is needed"),
            (errno.EFBIG, "files of this size are not allowed there"),
            (errno.ENOTEMPTY, "directory not empty"),
        ):
            with self.subTest(told):
                self.assertEqual(place_words(OSError(number, os.strerror(number), "a/b")), f"a/b: {told}")

    def test_room_is_that_of_the_nearest_folder_that_is_there(self) -> None:
        place = self.folder / "none" / "yet" / "a.fits"
        asked = []

        def usage(path: Path) -> mock.Mock:
            asked.append(path)
            return mock.Mock(free=3_400)

        with mock.patch("ulvar.engine.places.shutil.disk_usage", usage):
            text = place_words(OSError(errno.ENOSPC, "No space left on device", str(place)))
        self.assertEqual(text, f"{place}: its disk is full (3 kB free)")
        self.assertEqual(asked, [self.folder])
        with mock.patch("ulvar.engine.places.shutil.disk_usage", return_value=mock.Mock(free=25_400_000)):
            self.assertIn("(25 MB free)", place_words(OSError(errno.EDQUOT, "", str(place))))

    def test_without_a_number_it_is_as_it_was_said(self) -> None:
        self.assertEqual(place_words(DiskFull("out needs 3 MB")), "out needs 3 MB")


class Copied(FolderCase):
    def test_an_error_names_the_file_it_is_about(self) -> None:
        source, target = self.folder / "a", self.folder / "b"
        source.write_bytes(b"x" * 3_000_000)
        copy_file(source, target)
        self.assertEqual(target.read_bytes(), source.read_bytes())
        with self.assertRaises(OutputExists):
            copy_file(source, target, replace=False)

        class Torn(io.BufferedIOBase):
            """A file on a disk that fails: it opens, and gives, or takes, nothing."""

            def read(self, size: int = -1) -> bytes:
                raise OSError(errno.EIO, os.strerror(errno.EIO))

            def write(self, data: object) -> int:
                raise OSError(errno.EFBIG, os.strerror(errno.EFBIG))

        opened = Path.open
        for mode, told in (("rb", f"{source}: its disk does not answer"), ("wb", f"{target}: files of this size are not allowed there")):

            def torn(path: Path, how: str = "r", *rest: object, mode: str = mode, **given: object) -> object:
                return Torn() if how == mode and path.suffix == "" and "lock" not in path.name else opened(path, how, *rest, **given)  # type: ignore[call-overload]

            with self.subTest(told), mock.patch.object(Path, "open", torn), self.assertRaises(OSError) as caught:
                copy_file(source, target)
            self.assertEqual(place_words(caught.exception), told)
            self.assertEqual(target.read_bytes(), source.read_bytes())
            self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["a", "b"])


class Named(FolderCase):
    """An error of writing names the file that was to be, not the temporary one."""

    def failing(self, error: OSError) -> OSError:
        path = self.folder / "a.fits"
        with self.assertRaises(OSError) as caught, atomic_path(path) as temporary:
            temporary.write_text("half")
            raise error
        self.assertEqual(list(self.folder.iterdir()), [])
        # It comes from a worker as it was.
        return pickle.loads(pickle.dumps(caught.exception))

    def test_a_write_that_fails(self) -> None:
        path = str(self.folder / "a.fits")
        self.assertEqual(self.failing(OSError(errno.ENOSPC, "No space left on device")).filename, path)
        own = OSError(errno.EACCES, "Permission denied", "another/file")
        self.assertEqual(self.failing(own).filename, "another/file")
        temporary = str(self.folder / temporary_name("a.fits"))
        self.assertEqual(self.failing(OSError(errno.EIO, "", temporary)).filename, path)

    def test_an_error_of_a_library_gets_a_reason(self) -> None:
        for free, number in ((1000, errno.ENOSPC), (10**9, errno.EIO)):
            with mock.patch("ulvar.engine.places.shutil.disk_usage", return_value=mock.Mock(free=free)):
                error = self.failing(OSError("FITSIO status = 106: error writing to FITS file"))
                self.assertEqual((error.errno, error.filename), (number, str(self.folder / "a.fits")))
                self.assertNotIn("106", place_words(error).replace(str(self.folder), ""))

    def test_refusals_stay_what_they_are(self) -> None:
        for refusal in (OutputExists("it exists"), DiskFull("no room")):
            self.assertIs(type(self.failing(refusal)), type(refusal))

    def test_a_disk_that_says_nothing(self) -> None:
        with mock.patch("ulvar.engine.places.shutil.disk_usage", side_effect=OSError):
            error = with_place(OSError("status 1"), self.folder / "a")
            self.assertEqual(error.errno, errno.EIO)
            self.assertEqual(place_words(OSError(errno.ENOSPC, "", "a/b")), "a/b: its disk is full")
