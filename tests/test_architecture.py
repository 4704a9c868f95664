"""The house: imports between packages point one way, and the core shows nothing."""

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import widetrail
from widetrail.steps import KINDS, RULES

HOME = Path(widetrail.__file__).parent
ORDER = (
    "formats",
    "machine",
    "recipe",
    "finding",
    "survey",
    "licence",
    "records",
    "steps",
    "planning",
    "trust",
    "parcel",
    "walking",
    "rehearsing",
    "field",
    "tracing",
    "testing",
    "publishing",
    "catalogue",
    "reporting",
    "library",
    "cli",
)


ALL = sorted((HOME.parent).glob("widetrail*/**/*.py"))
TREES = {path: ast.parse(path.read_text()) for path in ALL}


def imported(path: Path) -> Iterator[str]:
    for node in ast.walk(TREES[path]):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


def modules() -> list[Path]:
    found = [path for path in ALL if path.is_relative_to(HOME)]
    assert len(found) > 40
    return found


def package_of(path: Path) -> str:
    parts = path.relative_to(HOME).parts
    return parts[0] if len(parts) > 1 else ""


def test_every_package_has_its_place_in_the_order() -> None:
    assert {package_of(p) for p in modules()} - {""} <= set(ORDER)


def test_no_group_of_an_expression_is_repeated_possessively() -> None:
    """Python 3.11.2 matches such a group wrongly; an atomic one it matches."""
    wrong = re.compile(r"\)(?:[*+?]|\{[0-9,]+\})\+(?!\s)")
    found = [
        (path.name, node.value[:60])
        for path, tree in TREES.items()
        for node in ast.walk(tree)
        if isinstance(node, ast.Constant)
        and isinstance(node.value, str | bytes)
        and path.is_relative_to(HOME)
        and wrong.search(
            node.value if isinstance(node.value, str) else node.value.decode("latin-1")
        )
    ]
    assert found == [("path_notation.py", "/:!$&'()*+,;=@~")]


def test_the_picture_of_the_house_shows_each_package_where_it_stands() -> None:
    picture = (Path(__file__).parent.parent / "docs/architecture.svg").read_text()
    drawn = re.findall(r'<text x="(\d+)" y="(\d+)" class="n">(\w+)<', picture)
    lower = [name for _, _, name in sorted(drawn, key=lambda d: (-int(d[1]), int(d[0])))]
    there = {package_of(path) for path in modules()} - {""}
    assert set(lower) == there
    for path in modules():
        used = {name.split(".")[1] for name in imported(path) if name.startswith("widetrail.")}
        for other in used & there if package_of(path) in there else ():
            assert lower.index(other) <= lower.index(package_of(path)), path


def test_imports_between_packages_point_one_way() -> None:
    wrong = []
    for path in modules():
        own = package_of(path)
        for name in imported(path):
            parts = name.split(".")
            if parts[0] != "widetrail" or len(parts) < 2 or parts[1] not in ORDER:
                continue
            if not own:  # the package itself gives the library's names, once they are asked for
                given = path.name in ("__init__.py", "__main__.py")
                wrong += [] if given else [f"{path.name} imports {name}"]
            elif ORDER.index(parts[1]) > ORDER.index(own):
                wrong.append(f"{own}/{path.name} imports {name}")
    assert wrong == []


def test_the_core_imports_no_interface_library_and_no_demo() -> None:
    for path in modules():
        names = {name.split(".")[0] for name in imported(path)}
        if package_of(path) not in ("cli", ""):
            assert not names & {"click", "rich"}, path
        if path != HOME / "cli" / "demo.py":
            assert "widetrail_demo" not in names, path


TOUCHING = {
    "open",
    "listdir",
    "remove",
    "unlink",
    "rename",
    "renames",
    "replace",
    "rmdir",
    "removedirs",
    "mkdir",
    "makedirs",
    "link",
    "symlink",
    "stat",
    "lstat",
    "chmod",
    "chown",
    "lchown",
    "utime",
    "readlink",
    "walk",
    "fwalk",
    "truncate",
    "mkfifo",
    "setxattr",
    "getxattr",
    "listxattr",
    "copy",
    "copy2",
    "copyfile",
    "copytree",
    "move",
    "rmtree",
}
"""What opens, lists, changes or removes names, in ``os`` and ``shutil``."""

OWN_FILES = {
    "finding/readings.py": "a copy in a folder that it made itself",
    "formats/hive.py": "a copy in a folder that it made itself",
    "machine/live.py": "a scratch home that it made itself, and the system's own files",
    "recipe/recipe_files.py": "the folder of recipes that a person named, and the tool's own index",
    "machine/medium.py": "where a person says the medium is",
}
"""Files that touch what is not from outside by other ways, and what that is."""


def test_only_one_package_opens_lists_and_removes_what_comes_from_outside() -> None:
    inside = ("formats", "machine", "finding", "recipe", "steps", "planning", "parcel", "walking")
    wrong = []
    for path in modules():
        name = path.relative_to(HOME).as_posix()
        if (
            package_of(path) not in inside
            or name.startswith("formats/outside/")
            or name in OWN_FILES
        ):
            continue
        for node in ast.walk(TREES[path]):
            if not isinstance(node, ast.Call):
                continue
            match node.func:
                case ast.Attribute(ast.Name("os" | "shutil"), called) if called in TOUCHING:
                    wrong.append(f"{name}:{node.lineno} {called}")
                case ast.Name("open"):
                    wrong.append(f"{name}:{node.lineno} open")
                case ast.Attribute(ast.Call(ast.Name("Path"), _), called) if called in {
                    "open",
                    "unlink",
                    "mkdir",
                    "read_bytes",
                    "write_bytes",
                    "read_text",
                    "iterdir",
                    "rename",
                    "rmdir",
                    "chmod",
                }:
                    wrong.append(f"{name}:{node.lineno} Path().{called}")
    assert wrong == []


def test_files_and_functions_stay_small() -> None:
    for path, tree in TREES.items():
        assert path.read_text().count("\n") <= 400, path
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef):
                body = node.body[1:] if ast.get_docstring(node) else node.body
                lines = (node.end_lineno or 0) - body[0].lineno + 1 if body else 0
                given = node.args
                count = len(given.posonlyargs) + len(given.args) + len(given.kwonlyargs)
                assert lines <= 50, (path, node.name)
                assert count <= 8, (path, node.name)
    assert sum(path.read_text().count("fmt: skip") for path in ALL) <= 20


def module_of(path: Path) -> str:
    parts = path.relative_to(HOME.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


def test_no_modules_import_each_other_in_a_circle() -> None:
    names = {module_of(path) for path in ALL}
    needs: dict[str, set[str]] = {}
    for path, tree in TREES.items():
        found: set[str] = set()
        for node in tree.body:
            if isinstance(node, ast.ImportFrom) and node.module:
                inner = {f"{node.module}.{alias.name}" for alias in node.names}
                found |= inner & names or {node.module}
        needs[module_of(path)] = (found & names) - {module_of(path)}
    while free := {name for name, wanted in needs.items() if not wanted & needs.keys()}:
        for name in free:
            del needs[name]
    assert needs == {}


def test_what_is_private_stays_so_and_what_is_used_in_one_file_is_private() -> None:
    used: dict[str, set[Path]] = {}
    top = Path(__file__).parent.parent
    others = [path for folder in ("tests", "benchmarks") for path in (top / folder).glob("*.py")]
    for path, tree in (TREES | {path: ast.parse(path.read_text()) for path in others}).items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("widetrail"):
                for alias in node.names:
                    assert not alias.name.startswith("_") or alias.name == "__version__", path
                    used.setdefault(alias.name, set()).add(path)
            elif isinstance(node, ast.Attribute):
                used.setdefault(node.attr, set()).add(path)
    for path, tree in TREES.items():
        for node in tree.body:
            if not isinstance(node, ast.FunctionDef) or node.name.startswith(("_", "pytest_")):
                continue
            called_by_others = any("command" in ast.dump(d) for d in node.decorator_list)
            of_a_form = path.parent.name == "formats"  # its value holds it
            if not called_by_others and not of_a_form and path.is_relative_to(HOME):
                assert used.get(node.name, set()) - {path}, (path, node.name)


def test_what_a_package_gives_is_taken_from_it() -> None:
    given: dict[str, set[str]] = {}
    for path, tree in TREES.items():
        listed = [n for n in tree.body if isinstance(n, ast.Assign) and "__all__" in ast.dump(n)]
        if path.name == "__init__.py" and listed and path.parent.parent == HOME:
            given[path.parent.name] = set(ast.literal_eval(listed[0].value))
    assert len(given) > 10
    for path, tree in TREES.items():
        for node in ast.walk(tree):
            parts = (getattr(node, "module", "") or "").split(".")
            deep = isinstance(node, ast.ImportFrom) and parts[0] == "widetrail" and len(parts) > 2
            if deep and parts[1] != package_name(path):
                names = {alias.name for alias in node.names}  # type: ignore[attr-defined]
                assert not names & given.get(parts[1], set()), (path, names)


def package_name(path: Path) -> str:
    return path.relative_to(HOME.parent).parts[1]


def test_what_a_recipe_says_of_a_kind_is_what_its_rule_takes() -> None:
    assert {kind: KINDS[kind] for kind in RULES} == {k: rule.settings for k, rule in RULES.items()}
