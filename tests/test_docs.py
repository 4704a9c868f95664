"""README and docs: what they show is run, in their order, in a world of its own."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
import yaml

import widetrail
from widetrail.cli import COMMANDS

HOME = Path(__file__).parent.parent
BLOCK = re.compile(r"^```(\w+)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
RUN = ("README.md", *(str(p.relative_to(HOME)) for p in sorted((HOME / "docs").glob("*.md"))))
"""The pages whose commands and code are run, those that have any."""

LONG = (
    "README.md",
    "docs/catalogue.md",
    "docs/finding-places.md",
    "docs/how-to.md",
    "docs/library.md",
    "docs/licences.md",
    "docs/rehearsals.md",
    "docs/tracing.md",
    "docs/tutorial.md",
)
"""The pages that take minutes."""

NEEDS = {"docs/tutorial.md": "abook"}
"""The real program that a page is about."""

PAGES = [pytest.param(p, marks=[pytest.mark.sweep] if p in LONG else []) for p in RUN]


@pytest.mark.parametrize("page", PAGES)
def test_what_a_page_shows_is_what_comes_out(page: str, tmp_path: Path) -> None:
    """Run its commands and code in order; what it shows as output must come out of them."""
    if (program := NEEDS.get(page)) and shutil.which(program) is None:
        pytest.skip(f"{program} is not installed")
    script = [f"set -e\nmkdir {tmp_path}/home\nexport HOME={tmp_path}/home\n"]
    shown: list[str] = []
    for number, (kind, text) in enumerate(BLOCK.findall((HOME / page).read_text())):
        if kind == "sh":
            script.append(text)
        elif kind == "python":
            (tmp_path / f"{number}.py").write_text(text)
            script.append(f"{sys.executable} {tmp_path}/{number}.py\n")
        elif kind == "output":
            shown += text.splitlines()
    if len(script) == 1:
        assert not shown
        return
    # the block after another goes on with what the one before imported and made
    joined = "".join(script)
    bin_folder = Path(sys.executable).parent
    ran = subprocess.run(
        ["bash", "-c", joined],
        cwd=tmp_path,
        env={**os.environ, "PATH": f"{bin_folder}{os.pathsep}{os.environ['PATH']}"},
        capture_output=True,
        text=True,
        stdin=subprocess.DEVNULL,
    )
    assert ran.returncode == 0, f"{ran.stdout[-3000:]}\n{ran.stderr[-3000:]}"
    lines = {line.strip() for line in ran.stdout.splitlines()}
    assert [line for line in shown if line.strip() not in lines] == []


def test_every_block_is_of_a_kind_that_is_run_or_read() -> None:
    kinds = {"sh", "output", "python", "pytest", "yaml", "ini", "toml", "text", "json"}
    for path in (HOME / "README.md", *sorted((HOME / "docs").glob("*.md"))):
        page = path.read_text()
        fences = re.findall(r"^```(.*)$", page, re.MULTILINE)[::2]
        assert {fence.split(" ")[0] for fence in fences} <= kinds, path.name
        assert not re.search(r"^    widetrail ", page, re.MULTILINE), path.name
        for kind, text in BLOCK.findall(page):
            if kind == "yaml":
                assert yaml.safe_load(text) is not None, path.name


def test_the_pages_name_only_commands_and_options_that_there_are() -> None:
    unknown = []
    for path in (HOME / "README.md", *sorted((HOME / "docs").glob("*.md"))):
        for name in re.findall(r"`widetrail ([a-z]+)", path.read_text()):
            unknown += [f"{path.name}: {name}"] if name not in COMMANDS else []
    assert unknown == []


def test_links_between_the_pages_lead_somewhere() -> None:
    broken = []
    for path in (HOME / "README.md", *sorted((HOME / "docs").glob("*.md"))):
        for target in re.findall(r"\]\(([^)#:]+)[^):]*\)", path.read_text()):
            broken += [] if (path.parent / target).exists() else [f"{path.name}: {target}"]
    assert broken == []


def test_the_library_page_names_each_call() -> None:
    page = (HOME / "docs/library.md").read_text()
    calls = [n for m, names in widetrail.PUBLIC.items() if ".library." in m for n in names]
    rare = {
        "Difference",
        "Due",
        "Forgetting",
        "ParcelSettling",
        "Rehearsals",
        "Settling",
        "open_run",
        "open_visit",
        "planned_again",
        "what_is_due",
    }
    assert [name for name in calls if f"`{name}(" not in page and name not in rare] == []


NOT_SAID = re.compile(
    r"\b(trail is at its end|put aside|pass(ed)? by|made right|set in place|at its end|Mend"
    r"|there is no such|cannot be taken as|too wide"
    r"|what no recipe claims|on old|on new|of old|of new|beforehand|thereof)\b"
)
"""Turns of phrase that a newcomer stumbles over."""


def test_the_table_of_roots_is_what_the_platforms_say() -> None:
    listing = [sys.executable, str(HOME / "docs/list-roots"), "--check"]
    ran = subprocess.run(listing, capture_output=True, text=True)
    assert ran.returncode == 0, ran.stderr
    page = (HOME / "docs/finding-places.md").read_text(encoding="utf-8")
    assert "| `{config}` | `C:/Users/NAME/AppData/Roaming` |" in page


def test_all_texts_that_are_shown_are_listed_and_plain() -> None:
    listing = HOME / "docs/list-texts"
    ran = subprocess.run([sys.executable, listing, "--check"], capture_output=True, text=True)
    assert ran.returncode == 0, ran.stderr
    lines = (HOME / "docs/texts.txt").read_text(encoding="utf-8").splitlines()
    assert len(lines) > 2000
    assert [line for line in lines if NOT_SAID.search(line)] == []
