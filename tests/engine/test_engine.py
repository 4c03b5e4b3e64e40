"""Atomic files, executors, progress, memory bands, findings."""

import errno
import os
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import cv2
from tools.cases import FolderCase, files_under

from ulvar.engine import (
    DiskFull,
    Failed,
    Job,
    JobContext,
    OutputExists,
    PoolKeeper,
    StopRequested,
    StopToken,
    WorkerDied,
    atomic_path,
    check_disk,
    row_bands,
    worker_pool,
    write_text,
)
from ulvar.inspection import Finding, Severity, sort_findings


def sleep_long(path: str) -> None:
    Path(path).touch()
    time.sleep(600)


def double(value: int) -> int:
    """Work of a test item."""
    return 2 * value


def wait_or_make(task: tuple[str, int]) -> int:
    """The first item ends after the last one."""
    path, value = Path(task[0]), task[1]
    if value == 4:
        path.touch()
    while value == 0 and not path.exists():
        time.sleep(0.01)
    return value


def die(value: int) -> int:
    """An item whose worker process is killed, as by the kernel when memory is short."""
    if value == 3:
        os._exit(9)
    return value


def die_at_first(task: tuple[str, int]) -> int:
    """An item whose worker is killed from outside the first time."""
    path, value = task
    if value == 3 and not Path(path).exists():
        Path(path).touch()
        os._exit(9)
    return value


def fail(value: int) -> int:
    """An item that meets what nobody foresaw."""
    if value == 3:
        raise ZeroDivisionError("by nothing")
    if value == 5:
        raise MemoryError
    return value


def full(value: int) -> int:
    """An item whose place takes nothing more."""
    raise OSError(errno.ENOSPC, "No space left on device", "place")


def write_long(path: str) -> None:
    """An item that is in the middle of writing until it is ended."""
    with atomic_path(Path(path)) as temporary:
        temporary.write_text("half")
        time.sleep(600)


def named(value: object, reason: str) -> str:
    """What stands for a lost item."""
    return f"{value}: {reason}"


def long_but_first(value: int) -> int:
    """Return the first item at once; the others sleep for ten minutes."""
    if value:
        time.sleep(600)
    return value


def slow(value: int) -> int:
    """An item that takes a moment."""
    time.sleep(0.05)
    return value


def write_slowly(task: tuple[str, int]) -> int:
    """An item that leaves a mark when it begins and when it ends."""
    folder, number = task
    (Path(folder) / f"{number}.begun").touch()
    time.sleep(0.4)
    (Path(folder) / f"{number}.ended").touch()
    return number


class AtomicFiles(FolderCase):
    """Files appear whole or not at all."""

    def test_success_leaves_only_the_file(self) -> None:
        write_text(self.folder / "deep" / "a.txt", "ä")
        self.assertEqual((self.folder / "deep" / "a.txt").read_text(encoding="utf-8"), "ä")
        self.assertEqual(files_under(self.folder), {"deep/a.txt"})

    def test_failure_leaves_nothing_and_keeps_the_old(self) -> None:
        path = self.folder / "a.fits"
        path.write_text("old")
        with self.assertRaises(RuntimeError), atomic_path(path) as temporary:
            temporary.write_text("half")
            raise RuntimeError("power cut")
        self.assertEqual(path.read_text(), "old")
        self.assertEqual(files_under(self.folder), {"a.fits"})

    def test_existing_file_is_kept_unless_replaced(self) -> None:
        path = self.folder / "a.txt"
        path.write_text("old")
        with self.assertRaises(OutputExists):
            write_text(path, "new", replace=False)
        self.assertEqual(path.read_text(), "old")
        write_text(path, "new")
        self.assertEqual(path.read_text(), "new")

    def test_temporary_name_keeps_the_ending(self) -> None:
        with atomic_path(self.folder / "x.fits.fz") as temporary:
            self.assertTrue(temporary.name.endswith(".fits.fz"))
            temporary.write_bytes(b"1")

    def test_full_disk_is_told_before_the_run(self) -> None:
        with self.assertRaisesRegex(DiskFull, "MB free"):
            check_disk(self.folder / "not" / "there", 10**18)
        check_disk(self.folder, 1)


class Running(FolderCase):
    """Items in the calling thread and in workers."""

    def test_inline_yields_in_order_with_progress(self) -> None:
        seen: list[tuple[int, int]] = []
        context = JobContext(progress=lambda done, total, text: seen.append((done, total)))
        self.assertEqual(list(context.each(double, [1, 2, 3], "Doubling")), [(1, 2), (2, 4), (3, 6)])
        self.assertEqual(seen, [(0, 3), (1, 3), (2, 3), (3, 3)])

    def test_stop_ends_between_items(self) -> None:
        token = StopToken()
        context = JobContext(stop=token)
        with self.assertRaises(StopRequested):
            for item, _ in context.each(double, range(10), "Doubling"):
                if item == 3:
                    token.stop()

    def test_a_stop_at_the_last_item_is_one_too(self) -> None:
        token = StopToken()
        with worker_pool(1) as pool, self.assertRaises(StopRequested):
            for item, _ in JobContext(executor=pool, workers=1, stop=token).each(double, range(2), "Doubling"):
                if item == 1:
                    token.stop()

    def test_as_many_workers_as_are_asked_for_each_with_one_thread(self) -> None:
        with worker_pool(3) as pool:
            self.assertEqual((pool._max_workers, pool.submit(cv2.getNumThreads).result(60)), (3, 1))

    def test_workers_give_every_result_once(self) -> None:
        with worker_pool(2) as pool:
            context = JobContext(executor=pool, workers=2)
            self.assertEqual(dict(context.each(double, range(20), "Doubling")), {i: 2 * i for i in range(20)})
            self.assertEqual(list(context.each(double, [], "Doubling")), [])

    def test_results_stand_in_the_order_of_the_items_whichever_worker_was_first(self) -> None:
        # The first is last: it waits for a file that the last one makes.
        items = [(f"{self.folder / 'last'}", k) for k in range(5)]
        with worker_pool(2) as pool:
            context = JobContext(executor=pool, workers=2)
            self.assertNotEqual([k for (_, k), _ in context.each(wait_or_make, items, "Waiting")], list(range(5)))
            (self.folder / "last").unlink()
            found = context.each_in_order(wait_or_make, items, "Waiting", lost=lambda item, reason: -1)
        self.assertEqual(found, [((path, k), k) for path, k in items])

    def test_dead_worker_is_told_and_finished_items_stay(self) -> None:
        got = []
        with worker_pool(1) as pool:
            context = JobContext(executor=pool, workers=1)
            with self.assertRaisesRegex(WorkerDied, "worker process ended"):
                for item, _ in context.each(die, range(8), "Working"):
                    got.append(item)
        self.assertTrue(set(got) <= {0, 1, 2})

    def kept(self, workers: int = 2) -> JobContext:
        """Return a context whose workers are replaced when they die."""
        pools = PoolKeeper(workers)
        self.addCleanup(pools.close)
        return JobContext(executor=pools.get(), workers=workers, renew=pools.renewed, abandon=pools.discard)

    def test_an_item_that_ends_its_worker_is_named_and_the_others_are_done(self) -> None:
        told = []
        context = self.kept()
        context.progress = lambda done, total, text: told.append(done)
        got = dict(context.each(die, range(8), "Working", lost=named))
        self.assertEqual(got.pop(3), "3: whatever works on it crashes: it was tried twice")
        self.assertEqual(got, {i: i for i in range(8) if i != 3})
        self.assertEqual(told, list(range(9)))
        # The context goes on with workers that live.
        self.assertEqual(dict(context.each(double, range(3), "Doubling")), {0: 0, 1: 2, 2: 4})

    def test_a_worker_that_was_killed_costs_nothing(self) -> None:
        tasks = [(str(self.folder / "mark"), i) for i in range(8)]
        got = dict(self.kept().each(die_at_first, tasks, "Working", lost=named))
        self.assertEqual(got, {task: task[1] for task in tasks})

    def test_an_item_that_raises_is_named_with_workers_and_without(self) -> None:
        for context in (JobContext(), self.kept()):
            got = dict(context.each(fail, range(8), "Working", lost=named))
            self.assertEqual(got.pop(3), "3: it cannot be worked on (ZeroDivisionError: by nothing)")
            self.assertEqual(got.pop(5), "5: it needs more memory than there is")
            self.assertEqual(got, {i: i for i in (0, 1, 2, 4, 6, 7)})
            with self.assertRaises((ZeroDivisionError, MemoryError)):
                list(context.each(fail, range(8), "Working"))
            # What is wrong with the place would be wrong with the next item too.
            with self.assertRaises(OSError) as caught:
                list(context.each(full, range(8), "Working", lost=named))
            self.assertEqual(caught.exception.filename, "place")

    def test_a_worker_that_is_ended_takes_its_half_file_away(self) -> None:
        pools = PoolKeeper(1)
        self.addCleanup(pools.close)
        job = Job("long", lambda c: list(c.each(write_long, [str(self.folder / "a.txt")], "Writing")), pools=pools)
        self.assertEqual((job.state, job.done, job.total), ("waiting", 0, 0))
        job.start()
        end = time.monotonic() + 60
        while not files_under(self.folder) and time.monotonic() < end:
            time.sleep(0.02)
        self.assertEqual(len(files_under(self.folder)), 1)
        job.stop()
        job.join(60)
        self.assertEqual(job.state, "stopped")
        self.assertEqual(files_under(self.folder), set())

    def test_only_workers_beside_a_window_give_way(self) -> None:
        own = os.nice(0)
        for polite, wanted in ((False, own), (True, 19)):
            with worker_pool(1, polite=polite) as pool:
                self.assertEqual(pool.submit(os.nice, 0).result(60), wanted)

    def test_job_stops_and_pool_serves_the_next(self) -> None:
        pools = PoolKeeper(2)
        self.addCleanup(pools.close)
        ended = threading.Event()

        def watch(job: Job) -> None:
            if job.done >= 4 and not job.finished:
                job.stop()
            if job.finished:
                ended.set()

        job = Job("slow", lambda c: list(c.each(slow, range(500), "Waiting")), pools=pools, on_change=watch)
        job.start()
        self.assertTrue(ended.wait(60))
        job.join(10)
        self.assertEqual(job.state, "stopped")
        self.assertLess(job.done, 500)
        again = Job("double", lambda c: dict(c.each(double, range(5), "Doubling")), pools=pools)
        again.start()
        again.join(60)
        self.assertEqual((again.state, again.result), ("done", {i: 2 * i for i in range(5)}))

    def test_an_interrupt_while_a_result_is_stored_does_not_wait_either(self) -> None:
        context = self.kept()
        with self.assertRaises(KeyboardInterrupt):
            for _ in context.each(long_but_first, range(6), "Sleeping"):
                raise KeyboardInterrupt
        # The others, which sleep for ten minutes, were ended: new ones serve the next.
        self.assertEqual(dict(self.kept().each(double, range(3), "Doubling")), {0: 0, 1: 2, 2: 4})

    def test_a_stop_does_not_wait_for_work_that_takes_long(self) -> None:
        pools = PoolKeeper(2)
        self.addCleanup(pools.close)
        started = self.folder / "started"
        job = Job("long", lambda c: list(c.each(sleep_long, [str(started)] * 8, "Sleeping")), pools=pools)
        job.start()
        end = time.monotonic() + 60
        while not started.exists() and time.monotonic() < end:
            time.sleep(0.02)
        job.stop()
        # Each item sleeps for 600 s: only by ending the workers can it stop.
        job.join(120)
        self.assertEqual(job.state, "stopped")
        again = Job("double", lambda c: dict(c.each(double, range(5), "Doubling")), pools=pools)
        again.start()
        again.join(60)
        self.assertEqual((again.state, again.result), ("done", {i: 2 * i for i in range(5)}))

    def test_a_job_ends_only_when_nothing_of_it_runs(self) -> None:
        """What is under way when a stop is asked still writes; told as ended before, a new run would meet it."""
        folder = self.folder
        pools = PoolKeeper(2)
        self.addCleanup(pools.close)
        first = threading.Event()

        def watch(job: Job) -> None:
            if job.done >= 1:
                first.set()

        job = Job("write", lambda c: list(c.each(write_slowly, [(str(folder), i) for i in range(40)], "Writing")),
                  pools=pools, on_change=watch)  # fmt: skip
        job.start()
        self.assertTrue(first.wait(60))
        job.stop()
        job.join(60)
        self.assertEqual(job.state, "stopped")
        begun = {p.name for p in folder.glob("*.begun")}
        ended = {p.name for p in folder.glob("*.ended")}
        self.assertEqual({n.split(".")[0] for n in begun}, {n.split(".")[0] for n in ended})
        self.assertLess(len(begun), 40)

    def test_job_survives_a_dead_worker_and_the_next_runs(self) -> None:
        pools = PoolKeeper(1)
        self.addCleanup(pools.close)
        job = Job("die", lambda c: list(c.each(die, range(8), "Dying")), pools=pools)
        with self.assertLogs("ulvar.engine.executors", "ERROR"):
            job.start()
            job.join(60)
        self.assertEqual(job.state, "failed")
        self.assertIsInstance(job.error, WorkerDied)
        again = Job("double", lambda c: dict(c.each(double, [1], "Doubling")), pools=pools)
        again.start()
        again.join(60)
        self.assertEqual(again.result, {1: 2})


class Small(FolderCase):
    """Bands, results, findings."""

    def test_bands_cover_every_row_once_within_budget(self) -> None:
        for height, row, budget in ((10, 4, 12), (7, 100, 1), (1, 1, 10), (1000, 8, 8000)):
            bands = list(row_bands(height, row, budget))
            self.assertEqual([y for a, b in bands for y in range(a, b)], list(range(height)))
            self.assertTrue(all((b - a) * row <= max(budget, row) for a, b in bands))

    def test_failure_is_falsy_and_says_why(self) -> None:
        failure = Failed("too few stars", "a.fits")
        self.assertFalse(failure)
        self.assertEqual(failure.reason, "too few stars")

    def test_findings_sort_by_severity_and_keep_order(self) -> None:
        notes = [
            Finding(Severity.NOTE, "n1", "", ""), Finding(Severity.BLOCKS, "b", "", ""), Finding(Severity.NOTE, "n2", "", ""),
        ]  # fmt: skip
        self.assertEqual([f.code for f in sort_findings(notes)], ["b", "n1", "n2"])
        self.assertEqual(notes[1].as_json()["severity"], "blocks")

    def test_available_memory_is_read_from_the_system(self) -> None:
        from ulvar.engine import available_bytes, default_budget

        self.assertGreater(available_bytes(), 10**8)
        with mock.patch.object(Path, "read_text", return_value="MemAvailable: 2048 kB\n"):
            self.assertEqual(default_budget(), 1024 * 1024)


class Room(unittest.TestCase):
    """What an item holds in memory decides how many are in flight."""

    def flights(self, budget: int, item_bytes: int) -> int:
        """Return the largest number of items that ran at once."""
        lock, running, most = threading.Lock(), [0], [0]

        def work(item: int) -> int:
            with lock:
                running[0] += 1
                most[0] = max(most[0], running[0])
            time.sleep(0.02)
            with lock:
                running[0] -= 1
            return item

        with ThreadPoolExecutor(4) as pool:
            context = JobContext(executor=pool, budget_bytes=budget, workers=4)
            done = [result for _, result in context.each(work, range(12), "Working", item_bytes=item_bytes)]
        self.assertEqual(sorted(done), list(range(12)))
        return most[0]

    def test_small_budgets_run_fewer_at_once(self) -> None:
        self.assertEqual(self.flights(1000, 900), 1)
        self.assertLessEqual(self.flights(1000, 400), 2)
        self.assertEqual(self.flights(1000, 5000), 1, "one always runs")
        self.assertGreater(self.flights(1000, 0), 2)

    def test_two_items_a_worker_wait_and_no_more(self) -> None:
        with ThreadPoolExecutor(2) as pool, mock.patch.object(pool, "submit", wraps=pool.submit) as asked:
            context = JobContext(executor=pool, workers=2)
            next(iter(context.each(lambda item: time.sleep(0.2 * item), range(20), "Working")))
            self.assertEqual(asked.call_count, 4)

    def test_large_blocks(self) -> None:
        from ulvar.engine import keep_large_blocks

        self.assertIsInstance(keep_large_blocks(), bool)
