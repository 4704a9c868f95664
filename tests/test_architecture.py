"""The house: imports between packages point one way, and the core shows nothing."""

import ast
from collections.abc import Iterator
from pathlib import Path

import widetrail

HOME = Path(widetrail.__file__).parent
ORDER = (
    "formats", "machine", "recipe", "finding", "licence", "steps", "planning", "parcel",
    "walking", "rehearsing", "tracing", "reporting", "cli",
)  # fmt: skip


def imported(path: Path) -> Iterator[str]:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


def modules() -> list[Path]:
    found = sorted(HOME.rglob("*.py"))
    assert len(found) > 40
    return found


def package_of(path: Path) -> str:
    parts = path.relative_to(HOME).parts
    return parts[0] if len(parts) > 1 else ""


def test_every_package_has_its_place_in_the_order() -> None:
    assert {package_of(p) for p in modules()} - {""} <= set(ORDER)


def test_imports_between_packages_point_one_way() -> None:
    wrong = []
    for path in modules():
        own = package_of(path)
        for name in imported(path):
            parts = name.split(".")
            if parts[0] != "widetrail" or len(parts) < 2 or parts[1] not in ORDER:
                continue
            if not own:
                wrong += [f"{path.name} imports {name}"] if path.name != "__main__.py" else []
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
