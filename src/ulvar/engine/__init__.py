"""Executors, progress, stop, memory budget, atomic files. Knows no astronomy."""

from ulvar.engine.arrays import BoolArray, F32Array, F64Array, I64Array, MaskArray
from ulvar.engine.atomic import DiskFull, OutputExists, atomic_path, check_disk, clear_leftovers, write_csv, write_text
from ulvar.engine.executors import Job, JobContext, PoolKeeper, WorkerDied, worker_pool
from ulvar.engine.memory import available_bytes, default_budget, keep_large_blocks, row_bands
from ulvar.engine.progress import Progress, StopRequested, StopToken, silent
from ulvar.engine.results import Failed, counted, percent
from ulvar.engine.threads import in_parts

__all__ = [
    "BoolArray",
    "DiskFull",
    "F32Array",
    "F64Array",
    "Failed",
    "I64Array",
    "Job",
    "JobContext",
    "MaskArray",
    "OutputExists",
    "PoolKeeper",
    "Progress",
    "StopRequested",
    "StopToken",
    "WorkerDied",
    "atomic_path",
    "available_bytes",
    "check_disk",
    "clear_leftovers",
    "counted",
    "default_budget",
    "in_parts",
    "keep_large_blocks",
    "percent",
    "row_bands",
    "silent",
    "worker_pool",
    "write_csv",
    "write_text",
]
