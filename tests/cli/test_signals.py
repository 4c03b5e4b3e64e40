"""A command that is told to end, or killed, leaves no worker and no half file behind."""

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

from tools.cases import files_under

from tests.cli.support import Command

# Whoever runs the tests in the background of a shell has Ctrl+C ignored, and what they start inherits that.
_ULVAR = """
import signal
signal.signal(signal.SIGINT, signal.default_int_handler)
from ulvar.cli.main import main
main()
"""


def descendants(process: int) -> list[int]:
    """Return the processes that a process has started, and those that they have."""
    try:
        found = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    except OSError:
        return []
    return [each for number in map(int, found) for each in (number, *descendants(number))]


def spent(process: int) -> float:
    """Return the processor time of a process [s]."""
    try:
        fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0.0
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def lives(process: int) -> bool:
    """Whether a process runs still."""
    try:
        state = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return False
    return state not in ("Z", "X")


class Ended(Command):
    def begun(self, *, writing: bool = False) -> tuple[subprocess.Popen, list[int]]:
        """Start finding stars, and return the command and its workers while these find them, or when all are found and some are written."""
        lights = self.bare(40)
        command = subprocess.Popen(
            [sys.executable, "-c", _ULVAR, "stars", str(lights), "--table", str(self.folder / "t")],
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        self.addCleanup(command.wait)
        self.addCleanup(command.kill)
        workers: list[int] = []
        for _ in range(1200):
            if command.poll() is not None:
                break
            workers = descendants(command.pid)
            if len(list(self.folder.glob("t/*.csv"))) > 2 if writing else sum(spent(worker) > 0.05 for worker in workers) >= 3:
                break
            time.sleep(0.05)
        self.assertIsNone(command.poll(), "it was done before it could be stopped")
        self.assertGreaterEqual(len(workers), 3)
        self.assertEqual(self.folder.joinpath("t").exists(), writing)
        return command, workers

    def gone(self, workers: list[int]) -> bool:
        """Whether all workers end; long after any would have without being told to, this waits no more."""
        for _ in range(200):
            if not any(lives(worker) for worker in workers):
                return True
            time.sleep(0.05)
        return False

    def test_told_to_end(self) -> None:
        for number in (signal.SIGTERM, signal.SIGINT):
            with self.subTest(number.name):
                command, workers = self.begun(writing=number == signal.SIGTERM)
                command.send_signal(number)
                _, err = command.communicate(timeout=60)
                self.assertEqual(command.returncode, 130)
                self.assertNotIn("Traceback", err)
                self.assertTrue(self.gone(workers))
                self.assertEqual([f for f in files_under(self.folder / "t") if f.startswith(".")], [])
                shutil.rmtree(self.folder / "t", ignore_errors=True)

    def test_ctrl_c_in_unlucky_moments(self) -> None:
        """In an object's finalizer it is not lost; a lock that is taken at that moment, and a thread that waits for it, hold nothing up."""
        for moment in (
            "class Kept:\n  def __del__(self): os.kill(os.getpid(), signal.SIGINT)\n Kept()\n time.sleep(20)",
            "try: raise KeyboardInterrupt\n finally: raise RuntimeError('release unlocked lock')",
            "threading.Thread(target=threading.Event().wait).start()\n raise KeyboardInterrupt",
        ):
            with self.subTest(moment):
                words = (
                    "import os, signal, threading, time\n"
                    "signal.signal(signal.SIGINT, signal.default_int_handler)\nfrom ulvar.cli import main as entry\n"
                    f"def work():\n {moment}\nentry.app = work\nentry.main()\n"
                )
                done = subprocess.run([sys.executable, "-c", words], capture_output=True, text=True, timeout=60)
                self.assertEqual((done.returncode, done.stderr), (130, ""))

    def test_killed(self) -> None:
        command, workers = self.begun()
        command.kill()
        command.communicate(timeout=60)
        self.assertTrue(self.gone(workers))
