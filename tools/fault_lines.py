"""Which tests run which lines: what a planted fault has to be shown to.

Each test module is run once under coverage with the running test as context (worker processes count as well, without one).
What it found lies in build/lines, one file a module, until the code or the module changes.
"""

from __future__ import annotations

import ast
import hashlib
import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from coverage import CoverageData

from run_tests import environment

ROOT = Path(__file__).resolve().parent.parent
_RC = """[run]
source_pkgs = ulvar
parallel = true
concurrency = multiprocessing,thread
patch = subprocess
dynamic_context = test_function
data_file = {folder}/data
"""

# Lines of a compiled kernel are seen by no tracer.
_COMPILED = ("njit", "jit", "vectorize", "kernel")

# file -> line -> names of tests; "" is a line run outside a test (a set-up, a worker, an import).
Lines = dict[str, dict[int, list[str]]]


def _code_key() -> str:
    key = hashlib.sha256()
    for path in sorted((ROOT / "src" / "ulvar").rglob("*.py")):
        key.update(path.relative_to(ROOT).as_posix().encode() + path.read_bytes())
    return key.hexdigest()


def _made_up(module: str) -> dict[str, list[str]]:
    """Return the tests' names by those under which coverage would know them as tests of made-up examples.

    These run in a function of their library's own, which is all that coverage sees.
    """
    tree = ast.parse((ROOT / Path(*module.split(".")).with_suffix(".py")).read_text(encoding="utf-8"))
    found: dict[str, list[str]] = {}
    for case in (node for node in tree.body if isinstance(node, ast.ClassDef)):
        for test in (node for node in case.body if isinstance(node, ast.FunctionDef)):
            found.setdefault(f"{module}.accept.<locals>.{test.name}", []).append(f"{module}.{case.name}.{test.name}")
    return found


def _traced(module: str, code_key: str) -> tuple[Lines, float]:
    path = ROOT / Path(*module.split(".")).with_suffix(".py")
    key = hashlib.sha256(code_key.encode() + path.read_bytes()).hexdigest()
    kept = ROOT / "build" / "lines" / f"{module}.json"
    if kept.is_file():
        stored = json.loads(kept.read_text(encoding="utf-8"))
        if stored["key"] == key:
            found = {file: {int(n): t for n, t in lines.items()} for file, lines in stored["lines"].items()}
            return found, stored["seconds"]
    with tempfile.TemporaryDirectory(prefix="ulvar-lines-") as name:
        folder = Path(name)
        (folder / "rc").write_text(_RC.format(folder=folder), encoding="utf-8")
        command = [sys.executable, "-m", "coverage", "run", f"--rcfile={folder / 'rc'}", "-m", "unittest", module]
        begun = time.monotonic()
        subprocess.run(
            command, cwd=ROOT, env=environment(ROOT), capture_output=True, timeout=1200, check=False,
        )  # fmt: skip
        seconds = time.monotonic() - begun
        lines: Lines = {}
        made = _made_up(module)
        for data_file in folder.glob("data.*"):
            data = CoverageData(str(data_file))
            try:
                data.read()
            except Exception:  # A killed worker leaves half a file; what it ran is counted as not run.
                continue
            for file in data.measured_files():
                if not file.startswith(str(ROOT / "src")):
                    continue
                into = lines.setdefault(str(Path(file).relative_to(ROOT)), {})
                for line, contexts in data.contexts_by_lineno(file).items():
                    into[line] = sorted({*into.get(line, ()), *(own for c in contexts for own in made.get(c, [c]))})
    kept.parent.mkdir(parents=True, exist_ok=True)
    kept.write_text(json.dumps({"key": key, "lines": lines, "seconds": seconds}), encoding="utf-8")
    return lines, seconds


def traced(modules: Sequence[str], workers: int) -> tuple[dict[str, Lines], dict[str, float]]:
    """Return the lines that each test module runs, and how long a test of it takes under coverage, on average [s].

    What was found before is taken from the store where it still holds.
    """
    key = _code_key()
    lines, each = {}, {}
    with ThreadPoolExecutor(workers) as pool:
        for module, (ran, seconds) in zip(modules, pool.map(lambda module: _traced(module, key), modules)):
            tests = {t for by_line in ran.values() for names in by_line.values() for t in names if t}
            lines[module], each[module] = ran, seconds / max(1, len(tests))
    return lines, each


def _spans(path: Path) -> tuple[list[range], list[range]]:
    """Return the lines of functions, and those of compiled kernels."""
    functions, compiled = [], []
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            span = range(node.body[0].lineno, (node.end_lineno or node.lineno) + 1)
            functions.append(span)
            if any(word in ast.unparse(d) for d in node.decorator_list for word in _COMPILED):
                compiled.append(span)
    return functions, compiled


def _statement(path: Path, first: int, last: int) -> tuple[int, int]:
    """Return first and last line of the innermost statement that holds lines; of one that holds others those of its head."""
    spans = [
        (n.lineno, n.body[0].lineno - 1 if isinstance(getattr(n, "body", None), list) else n.end_lineno or n.lineno)
        for n in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(n, ast.stmt)
    ]
    return max(((a, b) for a, b in spans if a <= first and last <= b), default=(first, last))


def compiled(file: str, line: int) -> bool:
    """Whether a line stands in a compiled routine."""
    return any(line in span for span in _spans(ROOT / file)[1])


def tests_of_line(file: str, first: int, last: int, lines: dict[str, Lines]) -> dict[str, list[str]]:
    """Return the tests that can see a change of a file's lines.

    Args:
        file: Path below the tree's root.
        first: First line of the change.
        last: Last line of it.
        lines: What `traced` told.

    Returns:
        The tests' names by module; an empty list means the whole module. A module that cannot see the change is missing.
    """
    functions, compiled = _spans(ROOT / file)
    inside = any(first in span for span in functions)
    kernel = any(first in span for span in compiled)
    # A constant in a statement of several lines leaves no trace of its own: who runs the statement runs it.
    begin, end = _statement(ROOT / file, first, last) if inside else (first, last)
    room = str(Path(file).parent)
    found: dict[str, list[str]] = {}
    for module, ran in lines.items():
        here = ran.get(file, {})
        if kernel:
            # Whoever runs a line of a function beside the kernel may run the kernel.
            files = [f for f in ran if str(Path(f).parent) == room]
            wanted = {f: [n for span in _spans(ROOT / f)[0] for n in span] for f in files}
            tests = {t for f in files for n in wanted[f] for t in ran[f].get(n, ())}
            if Path(file).stem in (ROOT / Path(*module.split("."))).with_suffix(".py").read_text(encoding="utf-8"):
                # It calls kernels itself, which leaves no trace.
                found[module] = [module]
                continue
        elif inside:
            tests = {t for n in range(begin, end + 1) for t in here.get(n, ())}
        elif (
            here
            and "desktop" not in file
            and (module == "tests.test_docs" or module.split(".")[1] == Path(file).parts[2])
        ):
            # Tables and defaults are there for whoever imports them; pages of docs/ are made of them.
            found[module] = [module]
            continue
        else:
            # What is worked out at import shows where the file's functions run.
            tests = {t for span in functions for n in span for t in here.get(n, ())}
            if not tests and first in here:
                tests = {""}
        named = sorted(t for t in tests if t.startswith(f"{module}.") and t.count(".") == module.count(".") + 2)
        if tests:
            # What a set-up or a worker runs is seen by tests that do not run it themselves.
            found[module] = [] if "" in tests else named
    return found
