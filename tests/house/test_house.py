"""The code's own rules: one name for one thing, short modules and functions, pages that name files that are there."""

from __future__ import annotations

import ast
import functools
import graphlib
import re
import statistics
import subprocess
import sys
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

import grimp
import pytest

from yatagan.portable import modules

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "yatagan"
MODULES = sorted(SOURCE.rglob("*.py"))
FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]


@functools.cache
def parsed(module: Path) -> list[ast.AST]:
    """All that a module is made of."""
    return list(ast.walk(ast.parse(module.read_text())))


@functools.cache
def definitions(kind: type | tuple[type, ...]) -> list[tuple[Path, ast.AST]]:
    return [(module, node) for module in MODULES for node in parsed(module) if isinstance(node, kind)]


def test_futures_fail_in_one_way() -> None:
    """An error that nobody takes any more is logged as a defect; `futures.fail` sees to that."""
    sources = [path for path in MODULES if ".set_exception(" in path.read_text(encoding="utf-8")]
    assert [path.name for path in sources] == ["futures.py"]


def test_a_class_name_means_one_thing() -> None:
    places = defaultdict(list)
    for module, node in definitions(ast.ClassDef):
        places[node.name].append(module.relative_to(SOURCE).as_posix())  # type: ignore[attr-defined]
    twice = {name: found for name, found in places.items() if len(found) > 1}
    assert not twice, twice


def test_a_module_name_means_one_thing() -> None:
    """But for the commands, which are named as they are typed."""
    places = defaultdict(list)
    for module in MODULES:
        if not module.name.startswith("__") and module.parent.name != "commands":
            places[module.name].append(module.parent.name)
    assert not {name: found for name, found in places.items() if len(found) > 1}


def test_no_module_needs_itself() -> None:
    """Imports within functions and for types alone count too: a circle of either kind is read as one module."""
    imports = grimp.build_graph("yatagan")
    graphlib.TopologicalSorter(
        {module: imports.find_modules_directly_imported_by(module) for module in imports.modules}
    ).prepare()  # raises CycleError, which names the circle


def test_modules_and_functions_are_short() -> None:
    long = {module.name: lines for module in MODULES if (lines := len(module.read_text().splitlines())) > 450}
    assert not long, long
    functions = [
        node.end_lineno - node.lineno + 1  # type: ignore[attr-defined]
        for _, node in definitions((ast.FunctionDef, ast.AsyncFunctionDef))
    ]
    assert statistics.median(functions) <= 7
    assert statistics.quantiles(functions, n=10)[-1] <= 20


@functools.cache
def prose() -> list[tuple[Path, str]]:
    """Every page, and the docstrings of every module, tests included."""
    return [(page, page.read_text()) for page in PAGES] + list(docstrings())


def docstrings() -> Iterator[tuple[Path, str]]:
    for module in (*MODULES, *sorted((ROOT / "tests").rglob("*.py"))):
        for node in parsed(module):
            if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
                yield module, ast.get_docstring(node) or ""


def test_what_belongs_together_is_handed_over_together() -> None:
    """A function has fewer than eight parameters; but commands, which have one for each option."""
    many = []
    for module, node in definitions(FUNCTIONS):
        assert isinstance(node, FUNCTIONS)
        given = node.args
        names = [each.arg for each in (*given.posonlyargs, *given.args, *given.kwonlyargs)]
        is_command = any(
            "option" in ast.unparse(each) or "argument" in ast.unparse(each) for each in node.decorator_list
        )
        if len([name for name in names if name not in ("self", "cls")]) >= 8 and not is_command:
            many.append(f"{module.name}: {node.name}")
    assert not many, many


def test_an_object_keeps_few_things() -> None:
    """Fewer than fifteen attributes; but values, which have a field for each thing that they say."""
    many = []
    for module, node in definitions(ast.ClassDef):
        assert isinstance(node, ast.ClassDef)
        if any("dataclass" in ast.unparse(each) for each in node.decorator_list):
            continue
        given = (each for each in ast.walk(node) if isinstance(each, ast.Attribute) and isinstance(each.ctx, ast.Store))
        own = {each.attr for each in given if isinstance(each.value, ast.Name) and each.value.id == "self"}
        if len(own) >= 15:
            many.append(f"{module.name}: {node.name} {len(own)}")
    assert not many, many


def test_every_class_that_is_named_is_there() -> None:
    """Written as a class, or as one of its attributes; what a library or ssh_config has is named with it or here."""
    classes, attributes = {"HostKeyAlgorithms", "Notes"}, set()
    for _, node in definitions((ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef, ast.Attribute, ast.Name)):
        if isinstance(node, ast.ClassDef):
            classes.add(node.name)
        attributes |= {getattr(node, "name", None), getattr(node, "attr", None), getattr(node, "id", None)}
    missing = []
    for place, text in prose():
        for name, attribute in re.findall(r"`([A-Z][a-z]+\w*)(?:\.(\w+))?(?:\([^`]*\))?`", text):
            if name not in classes or (attribute and attribute not in attributes):
                missing.append(f"{place.relative_to(ROOT)}: {name} {attribute}")
    assert not missing, missing


def test_every_file_that_is_named_is_there() -> None:
    """In pages and docstrings: a path below src/yatagan or below the root, or a name that some file has."""
    known = {path.name for folder in ("src", "tests", "benchmarks") for path in (ROOT / folder).rglob("*.py")}
    known |= {"hashlib.py"}  # somebody else's, in an example
    missing = []
    for place, text in prose():
        for name in re.findall(r"`([\w/]+\.py)`", text):
            there = any((base / name).exists() for base in (ROOT, SOURCE)) if "/" in name else name in known
            if not there:
                missing.append(f"{place.relative_to(ROOT)}: {name}")
    assert not missing, missing


def test_what_runs_on_nodes_needs_no_more_than_python_3_6() -> None:
    done = subprocess.run(
        [
            str(Path(sys.executable).with_name("vermin")),
            "-t=3.6-",
            "--no-tips",
            "--eval-annotations",
            str(SOURCE / "portable"),
        ],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout


@pytest.mark.parametrize("name", sorted(vars(modules)))
def test_a_node_is_sent_modules_of_one_room_in_order(name: str) -> None:
    """Each after those that it imports; and besides those nothing but the standard library."""
    sent = getattr(modules, name)
    if not name.isupper():
        return
    loaded: list[str] = [] if name == "PROGRAM" else list(modules.PROGRAM)
    for module in sent:
        path = ROOT / "src" / (module.replace(".", "/") + ".py")
        for node in parsed(path):
            if isinstance(node, ast.ImportFrom) and node.module is not None and node.module.startswith("yatagan"):
                imported = (
                    [f"{node.module}.{each.name}" for each in node.names]
                    if node.module == "yatagan.portable"
                    else [node.module]
                )
                assert set(imported) <= {*loaded, module}, f"{module} imports {imported}"
            elif isinstance(node, ast.Import | ast.ImportFrom):
                first = node.module if isinstance(node, ast.ImportFrom) else node.names[0].name
                assert (first or "").partition(".")[0] in sys.stdlib_module_names, f"{module} imports {first}"
        loaded.append(module)


def test_tests_look_through_all_processes_in_one_place() -> None:
    """Many tests run at once: one that took those of another for its own would end them."""
    looking = re.compile(r"""(listdir|scandir|walk)\(b?"/proc"|Path\("/proc"\)|pgrep|pkill|killall""")
    found = [path.name for path in sorted((ROOT / "tests").rglob("*.py")) if looking.search(path.read_text())]
    assert sorted(found) == ["processes.py", "test_house.py"]


def test_a_method_is_documented_where_its_name_is_defined() -> None:
    """One of an interface of ours has its docstring there; one of a library's interface, in the library."""
    classes = [(module, node) for module, node in definitions(ast.ClassDef) if isinstance(node, ast.ClassDef)]
    known, missing = {node.name for _, node in classes}, []
    methods = [(module, node, each) for module, node in classes for each in node.body if isinstance(each, FUNCTIONS)]
    documented = {each.name for _, _, each in methods if ast.get_docstring(each)}
    for module, node, method in methods:
        foreign = any(ast.unparse(base).split("[")[0] not in {*known, "Protocol", "ABC"} for base in node.bases)
        hidden = method.name.startswith("_") or node.name.startswith("_") or module.is_relative_to(SOURCE / "practice")
        if not (hidden or foreign or ast.get_docstring(method) or method.name in documented):
            missing.append(f"{module.relative_to(SOURCE)}: {node.name}.{method.name}")
    assert not missing, missing


def test_questions_are_asked_in_one_place() -> None:
    """Where Ctrl-C works: in a coroutine the first one would only cancel it, and the question would stay."""
    asking = [path.name for path in MODULES if re.search(r"click\.(confirm|prompt)\(|getpass\(", path.read_text())]
    assert asking == ["login_questions.py"]
