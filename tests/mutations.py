"""Would the tests notice? Changes one place of a module that decides, and runs the tests of its room.

    python tests/mutations.py --seed 7 --count 100

Each change is made in a copy of the sources, whose tests are run on their own. One that no test notices is printed with
the line as it was and as it became; there should be few. A change that means the same (or that only makes something
slower) has to be told apart by a person.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
_STAGED = [f"program/stage/test_{each}.py" for each in ("metadata", "gone", "stage")]
#: Modules that decide, and the tests that one would run for them.
ROOMS: list[tuple[list[str], list[str]]] = [
    (
        [
            "engine/scheduler.py",
            "engine/executor.py",
            "engine/opening_ends.py",
            "engine/retry.py",
            "batches/states.py",
            "engine/last_look.py",
            "engine/part_files.py",
        ],
        ["unit/engine", "unit/batches", "simulation/test_simulation.py"],
    ),
    (
        [
            "engine/file_worker.py",
            "engine/step_context.py",
            "engine/kept_files.py",
            "transfer/extents.py",
            "transfer/part_on_disk.py",
        ],
        ["unit/engine", "unit/transfer", "simulation/test_simulation.py", "program/stage/test_interruptions.py"],
    ),
    (
        ["batches/queueing.py", "background/routine_decisions.py", "background/routine_runs.py", "batches/moments.py"],
        ["unit/background", "unit/batches", "simulation/test_standing.py"],
    ),
    (
        [
            "verdicts/verification.py",
            "verdicts/claims.py",
            "verdicts/moved.py",
            "verdicts/comparison.py",
            "verdicts/scope.py",
            "verdicts/since.py",
        ],
        ["unit/verdicts", "program/verify", "program/stage/test_facts.py"],
    ),
    (
        [
            "trees/compare.py",
            "planning/planner.py",
            "planning/gone.py",
            "planning/metadata.py",
            "planning/restoring.py",
        ],
        ["unit/trees", "unit/planning", "simulation/test_trees.py", *_STAGED, "program/verify/test_restore.py"],
    ),
    (
        ["ledger/chain.py", "ledger/checking.py", "ledger/merging.py", "ledger/memory.py"],
        ["unit/ledger"],
    ),
    (
        ["operations/request_json.py", "operations/verify.py", "operations/verify_place.py", "operations/restore.py"],
        ["unit/operations", "program/verify", "program/test_library.py"],
    ),
]
_SWAPPED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}

Change = Callable[[], None]


def changes(tree: ast.AST) -> Iterator[tuple[ast.AST, Change]]:
    """What can be changed in a module, a place each."""
    decorators = (each for node in ast.walk(tree) for each in getattr(node, "decorator_list", []))
    alike = {id(part) for decorator in decorators for part in ast.walk(decorator)}
    for node in ast.walk(tree):
        if id(node) in alike:  # whether a value is frozen or has slots changes nothing that it does
            continue
        match node:
            case ast.If() | ast.While() | ast.IfExp():
                yield node, lambda node=node: setattr(node, "test", ast.UnaryOp(ast.Not(), node.test))
            case ast.Compare(ops=[op]) if type(op) in _SWAPPED:
                yield node, lambda node=node, op=op: setattr(node, "ops", [_SWAPPED[type(op)]()])
            case ast.BoolOp(op=op):
                other = ast.Or() if isinstance(op, ast.And) else ast.And()
                yield node, lambda node=node, other=other: setattr(node, "op", other)
            case ast.Constant(value=bool() as value):
                yield node, lambda node=node, value=value: setattr(node, "value", not value)
            case ast.Set(elts=[_, _, *_]) | ast.Tuple(elts=[_, _, *_], ctx=ast.Load()):
                if all(isinstance(each, ast.Attribute) for each in node.elts):  # of an enumeration
                    yield node, lambda node=node: node.elts.pop()
            case ast.FunctionDef() | ast.AsyncFunctionDef() if len(node.body) > 1:
                for at, each in enumerate(node.body):
                    called = each.value if isinstance(each, ast.Expr) else None
                    if isinstance(called, ast.Call | ast.Await):
                        yield each, lambda node=node, at=at: node.body.__setitem__(at, ast.Pass())


def mutants(rng: random.Random) -> Iterator[tuple[Path, str, str, str, list[str]]]:
    """Changes without end: the module, the line before and after, all of it changed, and the tests to run."""
    while True:
        modules, tests = rng.choice(ROOMS)
        module = ROOT / "src" / "yatagan" / rng.choice(modules)
        tree = ast.parse(module.read_text())
        possible = list(changes(tree))
        node, change = rng.choice(possible)
        before = ast.unparse(node).splitlines()[0]
        change()
        ast.fix_missing_locations(tree)
        line, after = getattr(node, "lineno", 0), ast.unparse(node).splitlines()[0]
        yield module, f"{line}: {before}", after if after != before else "(left out)", ast.unparse(tree), tests


def is_noticed(copy: Path, tests: list[str]) -> bool:
    """Whether a test of the copied sources fails, or none of them comes to an end."""
    environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "-n", "2"]
    try:
        done = subprocess.run(
            [*command, *(f"tests/{each}" for each in tests)],
            cwd=copy,
            env=environment,
            capture_output=True,
            timeout=400,
        )
    except subprocess.TimeoutExpired:
        return True
    if done.returncode not in (0, 1, 2):
        raise RuntimeError(done.stdout.decode()[-2000:] + done.stderr.decode()[-2000:])
    return done.returncode != 0


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--count", type=int, default=100)
    asked = options.parse_args()
    survivors = 0
    with tempfile.TemporaryDirectory() as place:
        copy = Path(place, "copy")
        ignored = shutil.ignore_patterns(".git", ".venv", "__pycache__", "yatagan-demo")
        shutil.copytree(ROOT, copy, ignore=ignored)
        for number, (module, before, after, text, tests) in zip(
            range(asked.count), mutants(random.Random(asked.seed)), strict=False
        ):
            changed = copy / module.relative_to(ROOT)
            changed.write_text(text)
            noticed = is_noticed(copy, tests)
            shutil.copy(module, changed)
            survivors += not noticed
            name = module.relative_to(ROOT / "src" / "yatagan")
            print(f"{number:3} {'noticed ' if noticed else 'SURVIVED'} {name}:{before}  →  {after}", flush=True)
    print(f"{survivors} of {asked.count} were not noticed")


if __name__ == "__main__":
    main()
