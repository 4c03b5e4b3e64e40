"""What killed processes leave, tables, pools that are kept, time left, counts in words."""

import csv
import ctypes
import math
import os
import signal
import subprocess
import sys
import threading
import unittest
import warnings
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
from tools.cases import FolderCase, files_under

from ulvar.engine import (
    Job,
    JobContext,
    PoolKeeper,
    StopRequested,
    StopToken,
    atomic_path,
    available_bytes,
    counted,
    keep_large_blocks,
    pools,
    told_chi2,
    true_minus,
    write_csv,
)
from ulvar.engine.atomic import _begun, clear_leftovers, temporary_name
from ulvar.engine.threads import in_parts, in_rows


def process_of(_: int) -> int:
    """Return the worker's process id."""
    return os.getpid()


def priority_of(_: int) -> int:
    """Return the worker's priority: 19 gives way to everyone."""
    return os.getpriority(os.PRIO_PROCESS, 0)


class Leftovers(FolderCase):
    """Half-written files of dead processes go; those of living ones, and every other file, stay."""

    def test_only_those_of_the_dead(self) -> None:
        ended = subprocess.Popen([sys.executable, "-c", ""])
        zombie = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        os.waitid(os.P_PID, zombie.pid, os.WEXITED | os.WNOWAIT)
        below = self.folder / "a" / "b"
        below.mkdir(parents=True)
        mine = temporary_name("y.csv")
        number, begun = mine.split("-")[1:3]
        self.assertEqual((int(number), int(begun)), (os.getpid(), _begun(os.getpid())))
        gone = [
            below / f".ulvar-{ended.pid}-5-0a1b2c3d.fits", self.folder / f".ulvar-{zombie.pid}-77-scratch",
            # The number was given to another process since.
            self.folder / f".ulvar-{os.getpid()}-{int(begun) + 1}-0a1b2c3d.csv",
        ]  # fmt: skip
        stay = [
            self.folder / mine, self.folder / ".settings-1.txt", below / f"ulvar-{ended.pid}-5-0a1b2c3d.fits",
            below / f".{ended.pid}-notes.txt", below / ".2027-02-11.txt", below / f".ulvar-{ended.pid}-5-My File.fits",
        ]  # fmt: skip
        for path in (*gone, *stay):
            path.touch()
        try:
            self.assertEqual(clear_leftovers(self.folder), 3)
        finally:
            zombie.wait()
        self.assertEqual([path.exists() for path in gone], [False] * 3)
        self.assertEqual([path.exists() for path in stay], [True] * 6)
        self.assertEqual(clear_leftovers(self.folder), 0)

    def test_a_whole_folder_of_a_dead_process_goes_and_links_are_not_followed(self) -> None:
        ended = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        outside = self.folder / "outside"
        outside.mkdir()
        (outside / f".ulvar-{ended.pid}-5-0a1b2c3d.fits").touch()
        inside = self.folder / "inside"
        inside.mkdir()
        (inside / "link").symlink_to(outside)
        scratch = inside / f".ulvar-{ended.pid}-5-scratch"
        scratch.mkdir()
        (scratch / "0.f32").write_bytes(b"1234")
        self.assertEqual(clear_leftovers(inside), 1)
        self.assertEqual(files_under(self.folder), {f"outside/.ulvar-{ended.pid}-5-0a1b2c3d.fits"})

    def test_whoever_writes_into_a_folder_clears_it(self) -> None:
        ended = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        for name in (f".ulvar-{ended.pid}-5-0a1b2c3d.fits", ".mine"):
            (self.folder / name).touch()
        write_csv(self.folder / "t.csv", ["a"], [])
        self.assertEqual(files_under(self.folder), {"t.csv", ".mine"})

    def test_names_while_writing(self) -> None:
        self.assertRegex(temporary_name("a [x].fits"), r"^\.ulvar-\d+-\d+-[0-9a-f]{8}\.fits$")
        self.assertRegex(temporary_name("n" * 250 + ".csv"), r"^.{1,60}\.csv$")
        self.assertRegex(temporary_name("a.\u00e9\u00e9"), r"^\.ulvar-\d+-\d+-[0-9a-f]{8}$")
        self.assertNotEqual(temporary_name("a.csv"), temporary_name("b.csv"))
        # Names may hold any bytes.
        self.assertTrue(temporary_name(os.fsdecode(b"\xff.fits")).isascii())

    def test_a_body_that_writes_nothing_leaves_nothing(self) -> None:
        path = self.folder / "out.txt"
        path.write_text("old")
        with self.assertRaises(FileNotFoundError), atomic_path(path):
            pass
        self.assertEqual([p.name for p in self.folder.iterdir()], ["out.txt"])
        self.assertEqual(path.read_text(), "old")

    def test_a_finished_file_replaces_the_old_one_unless_told(self) -> None:
        path = self.folder / "new" / "out.txt"
        for text in ("first", "second"):
            with atomic_path(path) as temporary:
                self.assertEqual(temporary.name, temporary_name("out.txt"))
                temporary.write_text(text)
            self.assertEqual(path.read_text(), text)

    def test_bytes_are_on_the_disk_before_the_name_is(self) -> None:
        path = self.folder / "out.txt"
        path.write_text("old")
        seen = []

        def flushed(handle: int) -> None:
            seen.append((os.fstat(handle).st_ino, os.fstat(handle).st_size, path.read_text()))

        with mock.patch("ulvar.engine.atomic.os.fsync", flushed), atomic_path(path) as temporary:
            temporary.write_text("new one")
        self.assertEqual(seen, [(path.stat().st_ino, 7, "old")])
        self.assertEqual(path.read_text(), "new one")

    def test_table(self) -> None:
        path = self.folder / "table.csv"
        write_csv(path, ["name", "remark"], [["A", 'says "yes", twice'], ["B", ""]])
        with path.open(newline="", encoding="utf-8") as handle:
            self.assertEqual(list(csv.reader(handle)), [["name", "remark"], ["A", 'says "yes", twice'], ["B", ""]])
        with self.assertRaises(FileExistsError):
            write_csv(path, ["name"], [], replace=False)


class Pools(unittest.TestCase):
    """One pool serves job after job; a discarded one is gone."""

    def test_life_of_a_pool(self) -> None:
        keeper = PoolKeeper(1)
        self.addCleanup(keeper.close)
        self.assertEqual(keeper.pids, [])
        keeper.discard()
        first = keeper.get()
        self.assertIs(keeper.get(), first)
        pid = first.submit(process_of, 0).result()
        self.assertEqual(keeper.pids, [pid])
        self.assertTrue(_begun(pid))
        self.assertEqual(first.submit(priority_of, 0).result(), 19)
        keeper.discard()
        self.assertEqual(keeper.pids, [])
        self.assertFalse(_begun(pid))
        second = keeper.get()
        self.assertIsNot(second, first)
        other = second.submit(process_of, 0).result()
        self.assertNotEqual(other, pid)
        keeper.close()
        self.assertFalse(_begun(other))

    def test_stop_is_heard_between_the_results_of_workers(self) -> None:
        stop, got = StopToken(), []
        with ThreadPoolExecutor(2) as pool:
            context = JobContext(executor=pool, stop=stop, workers=2)
            with self.assertRaises(StopRequested):
                for _, result in context.each(lambda item: item, range(40), "Working"):
                    got.append(result)
                    stop.stop()
        # What had come back with the first may still be given; nothing new begins.
        self.assertLess(len(got), 6)
        with self.assertRaises(StopRequested):
            list(JobContext(stop=stop).each(lambda item: item, range(3), "Working"))


class Workers(unittest.TestCase):
    """What is done in a worker before its first item, and when its parent is gone."""

    def test_a_worker_is_prepared(self) -> None:
        for polite in (True, False):
            with (
                mock.patch("ulvar.engine.pools.signal.signal") as heard, mock.patch("ulvar.engine.pools.keep_large_blocks") as kept,
                mock.patch("ulvar.engine.pools.os.nice") as nice, mock.patch("ulvar.engine.pools.threading.Thread") as thread,
                mock.patch("cv2.setNumThreads") as threads, warnings.catch_warnings(),
            ):  # fmt: skip
                warnings.simplefilter("error")
                pools._prepare_worker(polite)
                # What cannot be computed is no value, and no error.
                self.assertTrue(np.isnan(np.array([0.0]) / 0.0).all())
            self.assertEqual(heard.call_args_list, [mock.call(signal.SIGTERM, pools._end_worker), mock.call(signal.SIGINT, signal.SIG_IGN)])
            self.assertEqual((kept.call_count, thread.return_value.start.call_count, nice.call_args_list), (1, 1, [mock.call(19)] * polite))
            self.assertEqual((thread.call_args.kwargs["target"], thread.call_args.kwargs["daemon"]), (pools._end_with_parent, True))
            threads.assert_called_once_with(1)

    def test_it_ends_with_its_parent(self) -> None:
        for parent in (mock.Mock(sentinel=7), None):
            with (
                mock.patch("multiprocessing.parent_process", return_value=parent), mock.patch("ulvar.engine.pools.connection.wait") as waited,
                mock.patch("ulvar.engine.pools.os.kill") as told, mock.patch("ulvar.engine.pools.os._exit") as ended,
            ):  # fmt: skip
                pools._end_with_parent()
            there = [mock.call([7])] if parent else []
            self.assertEqual(waited.call_args_list, there)
            self.assertEqual(told.call_args_list, [mock.call(os.getpid(), signal.SIGTERM)] * len(there))
            self.assertEqual(ended.call_args_list, [mock.call(1)] * len(there))

    def test_as_many_as_there_are_processors(self) -> None:
        for processors, count in (({0, 1, 2, 3, 4}, 5), (set(), 1)):
            with mock.patch("os.sched_getaffinity", return_value=processors):
                self.assertEqual((PoolKeeper().workers, PoolKeeper(3).workers), (count, 3))
                self.assertEqual(pools.worker_pool()._max_workers, count)
        keeper = PoolKeeper(1)
        pool = keeper.get()
        keeper.discard()
        # It was shut down in order, not broken: nobody waits for what will not come.
        with self.assertRaisesRegex(RuntimeError, "after shutdown"):
            pool.submit(process_of, 0)

    def test_a_stop_is_heard_beside_an_item_that_is_tried_alone(self) -> None:
        stop = StopToken()
        stop.stop()
        never = mock.Mock(submit=lambda *_: Future())
        context = JobContext(executor=never, renew=lambda: never, stop=stop)
        with self.assertRaises(StopRequested):
            context._alone(process_of, 0, {}, lambda item, reason: item)


class TimeLeft(unittest.TestCase):
    """The estimate is the pace of this phase times what is left."""

    def test_estimate(self) -> None:
        keeper = mock.Mock(workers=1)
        go, reached = threading.Event(), threading.Event()

        def body(context: JobContext) -> str:
            context.progress(0, 10, "Reading")
            context.progress(4, 10, "Reading")
            reached.set()
            go.wait(20)
            context.progress(1, 10, "Writing")
            return "made"

        job = Job("test", body, pools=keeper)
        self.assertFalse(job.finished)
        with mock.patch("ulvar.engine.executors.time.monotonic", side_effect=lambda: clock[0]):
            clock = [100.0]
            job.start()
            self.assertTrue(reached.wait(20))
            clock[0] = 108.0
            # Four took 8 s: the six that are left take 12.
            self.assertAlmostEqual(job.seconds_left or 0.0, 12.0)
            go.set()
            job.join(20)
            self.assertEqual((job.state, job.result, job.finished), ("done", "made", True))
            self.assertIsNone(job.seconds_left, "one item of a new phase tells nothing yet")
            job.done = 2
            clock[0] = 109.0
            self.assertAlmostEqual(job.seconds_left or 0.0, 4.0, msg="the phase began when its text changed")
            # A phase may begin between two looks at a number.
            with mock.patch.object(Job, "done", mock.PropertyMock(side_effect=[2, 0, 0]), create=True):
                self.assertAlmostEqual(job.seconds_left or 0.0, 4.0)


class Parts(unittest.TestCase):
    """As many threads as may be used, and none for one part."""

    def test_threads(self) -> None:
        before = cv2.getNumThreads()
        self.addCleanup(cv2.setNumThreads, before)

        def where(_: int, __: int) -> int:
            return threading.get_ident()

        meet = threading.Barrier(2)

        def together(start: int, end: int) -> int:
            # Neither part ends before the other has begun.
            meet.wait(20)
            return where(start, end)

        cv2.setNumThreads(1)
        self.assertEqual(in_parts(where, 10), [threading.get_ident()])
        cv2.setNumThreads(2)
        self.assertEqual(len(set(in_parts(together, 10))), 2)
        self.assertEqual(in_parts(where, 10, smallest=6), [threading.get_ident()])
        self.assertEqual(in_parts(where, 0), [])
        self.assertEqual(len(set(in_rows(together, (400, 600)))), 2)
        # Too little for a thread to gain by it, or too few rows.
        self.assertEqual(in_rows(where, (300, 400)), [threading.get_ident()])
        self.assertEqual(in_rows(where, (100, 9000)), [threading.get_ident()])


class Memory(unittest.TestCase):
    """What the system says, and what the C library is told."""

    def test_unknown_system(self) -> None:
        with mock.patch.object(Path, "read_text", return_value="MemTotal: 1 kB\n"):
            self.assertEqual(available_bytes(), 2 * 1024**3)

    def test_large_blocks_are_kept(self) -> None:
        library = mock.Mock()
        library.mallopt.return_value = 1
        with mock.patch.object(ctypes, "CDLL", return_value=library):
            self.assertTrue(keep_large_blocks(4096))
            # malloc.h: -3 is the size from which blocks are mapped, -1 the free memory from which it is given back.
            self.assertEqual([call.args for call in library.mallopt.mock_calls], [(-3, 4096), (-1, 4096)])
            library.mallopt.return_value = 0
            self.assertFalse(keep_large_blocks())
        with mock.patch.object(ctypes, "CDLL", side_effect=OSError):
            self.assertFalse(keep_large_blocks())

    def test_counts_in_words(self) -> None:
        self.assertEqual([counted(n, "file") for n in (0, 1, 2)], ["0 files", "1 file", "2 files"])

    def test_a_reduced_chi_squared_is_never_told_as_nothing(self) -> None:
        told = [told_chi2(value) for value in (12.344, 1.0, 0.0051, 0.0049, 0.00049, 0.0, math.nan)]
        self.assertEqual(told, ["12.34", "1.00", "0.01", "0.005", "under 0.001", "under 0.001", "nan"])

    def test_numbers_have_a_minus_and_names_their_hyphens(self) -> None:
        for text, shown in (
            ("-3", "−3"), ("at -10 °C (-0.5 of it)", "at −10 °C (−0.5 of it)"), ("+0.2 to -.5", "+0.2 to −.5"), ("1e-09", "1e−09"), ("-inf", "−inf"),
            ("UM-17 on 2026-03-14", "UM-17 on 2026-03-14"), ("check-star, x-1, -", "check-star, x-1, -"),
        ):  # fmt: skip
            self.assertEqual(true_minus(text), shown)
