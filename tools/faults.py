"""Plants faults in a copy of a room, one at a time, and runs the tests that should see them.

Usage: faults.py ROOM [--count N] [--seed S] [--workers W] [--own] [--budget SECONDS]

ROOM is a folder under src/ulvar (``photometry``, ``desktop/picture``). Each fault is one small change: an operator, a
constant, a dropped statement, two swapped arguments, a negated condition. It is shown to the tests that run its line, those
first that name its file or are of its room; a line that no test runs is told as such. The last line counts.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import re
import shutil
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from queue import SimpleQueue

from fault_lines import Lines, compiled, tests_of_line, traced
from forked import Runner, Runners
from run_tests import environment, modules

ROOT = Path(__file__).resolve().parent.parent
_ARITHMETIC = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.FloorDiv: ast.Mult, ast.Mod: ast.Mult,
    ast.Pow: ast.Mult, ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip
_COMPARISON = {
    ast.Lt: ast.GtE, ast.GtE: ast.Lt, ast.Gt: ast.LtE, ast.LtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip

# Calls whose first two arguments may be swapped without harm.
_COMMUTES = {"max", "min", "hypot", "maximum", "minimum", "isclose", "gcd"}


@dataclass(frozen=True)
class Fault:
    """One change of one file: characters ``start`` to ``end`` become `after`."""

    file: str
    line: int
    start: int
    end: int
    before: str
    after: str

    def planted(self, text: str) -> str:
        """Return the file's text with the fault in it."""
        return text[: self.start] + self.after + text[self.end :]


@dataclass(frozen=True)
class Group:
    """Tests that run in one process, `plain` with compiling off."""

    names: tuple[str, ...]
    plain: bool = False

    def without(self, other: Group) -> Group:
        """Return what is left where another's tests are left out."""
        out = [
            n
            for n in self.names
            if any(f"{n}.".startswith(f"{o}.") or f"{o}.".startswith(f"{n}.") for o in other.names)
        ]
        return self if self.plain != other.plain else Group(tuple(n for n in self.names if n not in out), self.plain)

    def modules(self) -> list[Group]:
        """Return the tests of each module as a group."""
        found: dict[str, list[str]] = {}
        for name in self.names:
            found.setdefault(".".join(name.split(".")[:3]), []).append(name)
        return [Group(tuple(names), self.plain) for names in found.values()]


# How unittest tells what failed: a test, a class that could not be set up, a module that could not be loaded.
_FAILED = re.compile(r"^(?:FAIL|ERROR): (\S+) \((?:unittest\.loader\._FailedTest\.)?([\w.]+)\)", re.MULTILINE)
# So many tests run in a process [number].
_TOGETHER = 25


def _changes(node: ast.AST) -> Iterator[ast.AST]:
    """Yield a node's faulty forms."""
    if isinstance(node, ast.BinOp) and type(node.op) in _ARITHMETIC:
        yield ast.BinOp(node.left, _ARITHMETIC[type(node.op)](), node.right)
    elif isinstance(node, ast.Compare) and type(node.ops[0]) in _COMPARISON:
        yield ast.Compare(node.left, [_COMPARISON[type(node.ops[0])](), *node.ops[1:]], node.comparators)
    elif isinstance(node, ast.BoolOp):
        yield ast.BoolOp(ast.And() if isinstance(node.op, ast.Or) else ast.Or(), node.values)
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.Not):
        yield node.operand
    elif isinstance(node, ast.Constant) and isinstance(node.value, bool):
        yield ast.Constant(not node.value)
    elif isinstance(node, ast.Constant) and isinstance(node.value, int | float):
        yield ast.Constant(node.value + 1 if isinstance(node.value, int) else node.value * 2 or 1.0)
    elif isinstance(node, ast.Call) and len(node.args) >= 2 and not any(isinstance(a, ast.Starred) for a in node.args):
        first, second, *rest = node.args
        if ast.dump(first) != ast.dump(second) and ast.unparse(node.func).rpartition(".")[2] not in _COMMUTES:
            yield ast.Call(node.func, [second, first, *rest], node.keywords)
    elif isinstance(node, ast.IfExp):
        yield ast.IfExp(ast.UnaryOp(ast.Not(), node.test), node.body, node.orelse)


def _left_alone(node: ast.AST) -> bool:
    """Whether a part of the code is no behaviour: annotations, decorators, messages of the log, names."""
    if isinstance(node, ast.Call):
        name = ast.unparse(node.func)
        return name.startswith(("log.", "numba.", "logging.", "Annotated", "field", "Field", "dataclass"))
    if isinstance(node, ast.If):
        return ast.unparse(node.test) == "TYPE_CHECKING"
    return isinstance(node, ast.Import | ast.ImportFrom | ast.Raise | ast.Assert | ast.JoinedStr)


def _walk(node: ast.AST) -> Iterator[ast.AST]:
    for name, value in ast.iter_fields(node):
        if name in ("annotation", "returns", "decorator_list"):
            continue
        for child in value if isinstance(value, list) else [value]:
            if isinstance(child, ast.AST) and not _left_alone(child):
                yield child
                yield from _walk(child)


def faults_of(path: Path, root: Path) -> list[Fault]:
    """Return every fault that can be planted in a file."""
    text = path.read_text(encoding="utf-8")
    tree = ast.parse(text)
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))
    raw = text.encode()

    def place(line: int, column: int) -> int:
        return len(raw[: starts[line - 1] + column].decode())

    found = []

    def add(node: ast.AST, after: str) -> None:
        start = place(node.lineno, node.col_offset)  # type: ignore[attr-defined]
        end = place(node.end_lineno, node.end_col_offset)  # type: ignore[attr-defined]
        before = text[start:end]
        # What is put in may stand inside a larger expression.
        if not isinstance(node, ast.stmt):
            after = f"({after})"
        found.append(Fault(str(path.relative_to(root)), node.lineno, start, end, before, after))  # type: ignore[attr-defined]

    for node in _walk(tree):
        for change in _changes(node):
            add(node, ast.unparse(ast.fix_missing_locations(change)))
        if isinstance(node, ast.If | ast.While):
            add(node.test, f"not ({ast.unparse(node.test)})")
        if isinstance(node, ast.AugAssign) or (
            isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and not _left_alone(node.value)
        ):
            add(node, "pass")
    return found


def chosen(room: str, count: int, seed: int) -> list[Fault]:
    """Return `count` faults of a room by chance, the same for a seed."""
    folder = ROOT / "src" / "ulvar" / room
    every = [f for path in sorted(folder.rglob("*.py")) if path.name != "__init__.py" for f in faults_of(path, ROOT)]
    return random.Random(seed).sample(every, min(count, len(every)))


def own_tests(room: str) -> list[str]:
    """Return the test modules of a room itself."""
    top = room.partition("/")[0]
    return [name for name in modules([]) if name.split(".")[1] == top]


def users(room: str) -> list[str]:
    """Return the further test modules that may run the room's lines: those of the rooms that stand above it."""
    own, needle = set(own_tests(room)), room.partition("/")[0]
    found = []
    for name in modules([]):
        text = (ROOT / Path(*name.split(".")).with_suffix(".py")).read_text(encoding="utf-8")
        # Nothing stands above the commands.
        above = name == "tests.test_docs" or (
            needle != "cli" and name.split(".")[1] in ("night", "flows", "cli", "desktop", "simulation")
        )
        # Of some the room is asked by what its own tests share; commands are called by the program's name, too.
        named = f"ulvar.{needle}" in text or f"tests.{needle}." in text or (needle == "cli" and '"ulvar"' in text)
        if name not in own and (above or named):
            found.append(name)
    return found


class Copy:
    """A copy of the tree in which faults are planted; kernels that are compiled stay so."""

    def __init__(self, *, demo: bool) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="ulvar-faults-"))
        self._running: Runners | None = None
        self._planted = 0
        # Whether tests pass without a fault; of those that caught one.
        self._sound: dict[Group, bool] = {}
        for name in ("src", "tests", "tools", "bench", "pyproject.toml"):
            source = ROOT / name
            target = self.folder / name
            if source.is_dir():
                shutil.copytree(source, target, copy_function=shutil.copy2)
            else:
                shutil.copy2(source, target)
        made = ROOT / "build" / "test-demo"
        if demo and made.is_dir():
            shutil.copytree(made, self.folder / "build" / "test-demo", copy_function=shutil.copy2)

    def _runner(self) -> Runner:
        """Return the process in which tests run, started where there is none."""
        if self._running is None or not self._running.lives:
            # Of two faults planted within a second the second would be taken for the first, where modules are kept compiled.
            self._running = Runners(self.folder, environment(self.folder) | {"PYTHONDONTWRITEBYTECODE": "1"})
        return self._running.each[0]

    def _run(self, group: Group, budget: float) -> tuple[bool, float, Group]:
        """Return whether tests pass, their processor time [s], and the test that did not pass.

        What takes longer by the clock than three times the budget of processor time hangs, and does not pass.
        """
        with tempfile.NamedTemporaryFile(prefix="ulvar-faults-") as told:
            code, cpu = self._runner().run(group.names, 3 * budget, Path(told.name), first=True, plain=group.plain)
            failed = _FAILED.search(Path(told.name).read_text(encoding="utf-8", errors="replace"))
        return code == 0, cpu, group if failed is None or code is None else Group((failed[2],), group.plain)

    def failing(self, tests: Sequence[Group], budget: float) -> Group | None:
        """Return the first test that does not pass, or None where time is up before."""
        spent = 0.0
        for group in tests:
            if spent > budget:
                break
            passed, cpu, failed = self._run(group, budget)
            spent += cpu
            if passed:
                continue
            if len(parts := group.modules()) == 1 or not self._run(failed, budget)[0]:
                return failed
            # It fails beside others only, which is not the fault's doing.
            if (failed := self.failing(parts, budget - spent)) is not None:
                return failed
        return None

    def fate(self, fault: Fault, tests: Sequence[Group], budget: float) -> str:
        """Return what became of a fault: caught, survived, or seen by tests only that fail without it, too."""
        left = list(tests)
        while (failed := self._shown(fault, left, budget)) is not None:
            if failed not in self._sound:
                self._sound[failed] = self._run(failed, budget)[0]
            if self._sound[failed]:
                return "caught"
            left = [rest for group in left if (rest := group.without(failed)).names]
        return "SURVIVED" if left or not tests else "BROKEN"

    def _shown(self, fault: Fault, tests: Sequence[Group], budget: float) -> Group | None:
        """Return which test does not pass with a fault in the copy."""
        path = self.folder / fault.file
        text, status = path.read_text(encoding="utf-8"), path.stat()
        path.write_text(fault.planted(text), encoding="utf-8")
        # Compiled code is told by the file's second and size, which two faults may share.
        self._planted += 1
        os.utime(path, (self._planted, self._planted))
        try:
            return self.failing(tests, budget)
        finally:
            path.write_text(text, encoding="utf-8")
            # Compiled kernels belong to the file of this time.
            os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))

    def close(self) -> None:
        """Take the copy away."""
        if self._running is not None:
            self._running.close()
        shutil.rmtree(self.folder, ignore_errors=True)


def _far(module: str, fault: Fault, room: str) -> tuple[int, bool]:
    """Return 0 for tests that name a fault's file, are named after it or see every page that it may
    stand on; 1 for those of its room, 2 for others.

    With it stands whether they do not name its function.
    """
    text = (ROOT / Path(*module.split("."))).with_suffix(".py").read_text(encoding="utf-8")
    silent = not re.search(rf"\b{re.escape(_function(fault))}\b", text)
    pages = "/" in room and module == "tests.desktop.test_views"
    if (
        pages
        or ".".join(Path(fault.file).with_suffix("").parts[1:]) in text
        or module.endswith(f".test_{Path(fault.file).stem}")
    ):
        return 0, silent
    # The window's tests lie in one folder: those of a room name it.
    own = f"ulvar.{room.replace('/', '.')}" in text if "/" in room else module.startswith(f"tests.{room}.")
    return (1 if own else 2), silent


@cache
def _function(fault: Fault) -> str:
    """Return the name of the innermost function or class that a fault stands in; that of its file where there is none."""
    name = Path(fault.file).stem
    for node in ast.walk(ast.parse((ROOT / fault.file).read_text(encoding="utf-8"))):
        if (
            isinstance(node, ast.FunctionDef | ast.ClassDef)
            and node.lineno <= fault.line <= (node.end_lineno or node.lineno)
            and not node.name.startswith("__")
        ):
            name = node.name
    return name


def groups(fault: Fault, lines: dict[str, Lines], seconds: dict[str, float], room: str) -> list[Group]:
    """Return the tests to show a fault to, in the order of `_far`, of equal ones those first that take the least time.

    `seconds` are those of a test of each module. Those that drive the window run in a process for each module, others
    together. Faults in compiled routines are shown to the tests of these with compiling off before, which sees them in
    routines, too, that have others compiled in.
    """
    last = fault.line + fault.before.count("\n")
    seen = tests_of_line(fault.file, fault.line, last, lines)
    order = sorted(
        seen, key=lambda module: (_far(module, fault, room), seconds[module] * (len(seen[module]) or 30), module)
    )
    found: list[list[str]] = []
    together: list[str] = []
    for module in order:
        names = seen[module] or [module]
        if module.startswith("tests.desktop.") or names == [module]:
            found.append(names)
            together = []
        elif together and len(together) + len(names) <= _TOGETHER:
            together += names
        else:
            together = list(names)
            found.append(together)
    plain = [n for n in uncompiled() if n.startswith(f"tests.{room}.")] if compiled(fault.file, fault.line) else []
    return [*([Group(tuple(plain), plain=True)] if plain else []), *(Group(tuple(names)) for names in found)]


def uncompiled() -> tuple[str, ...]:
    """Return the tests of compiled routines that run with compiling off."""
    tree = ast.parse((ROOT / "tests" / "test_without_compiler.py").read_text(encoding="utf-8"))
    assigned = (n for n in tree.body if isinstance(n, ast.Assign) and ast.unparse(n.targets[0]) == "KERNELS")
    return tuple(ast.literal_eval(next(assigned).value))


def main() -> int:
    """Plant, run, tell."""
    parser = argparse.ArgumentParser(prog="./run faults", description="Do the tests see faults in a room?")
    parser.add_argument("room")
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--workers", type=int, default=max(1, len(os.sched_getaffinity(0))))
    parser.add_argument("--own", action="store_true", help="Only the room's own tests, not those of its users.")
    parser.add_argument(
        "--budget", type=float, default=60.0, help="Processor seconds of passing tests after which a fault lives."
    )
    given = parser.parse_args()
    if not (ROOT / "src" / "ulvar" / given.room).is_dir():
        parser.error(f"there is no room {given.room}")
    faults = chosen(given.room, given.count, given.seed)
    shown = [*own_tests(given.room), *([] if given.own else users(given.room))]
    lines, seconds = traced(shown, given.workers)
    copies: SimpleQueue[Copy] = SimpleQueue()
    # A fault in what makes the demo night shows in a night that is made with it only.
    made = [Copy(demo=given.room != "simulation") for _ in range(given.workers)]
    for copy in made:
        copies.put(copy)
    caught = 0
    try:

        def lives(fault: Fault) -> str:
            tests = groups(fault, lines, seconds, given.room)
            if not tests:
                return "NOT RUN"
            copy = copies.get()
            try:
                return copy.fate(fault, tests, given.budget)
            finally:
                copies.put(copy)

        with ThreadPoolExecutor(given.workers) as pool:
            for fault, fate in zip(faults, pool.map(lives, faults)):
                caught += fate == "caught"
                words = f"{' '.join(fault.before.split())[:70]}  ->  {' '.join(fault.after.split())[:70]}"
                print(f"{fate:8}  {fault.file}:{fault.line}  {words}", flush=True)
    finally:
        for copy in made:
            copy.close()
    print(f"{given.room}: {caught} of {len(faults)} caught ({caught / max(1, len(faults)):.0%}), seed {given.seed}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
