"""What the command line shows: widths, colours, how much it says, help and completion."""

import os
import re
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path

import pytest
from click.testing import CliRunner
from rich.cells import cell_len

from conftest import Ran, World
from widetrail.cli import COMMANDS, main
from widetrail.cli.fitting import cut, cut_path, cut_title, padded
from widetrail.cli.help import glossary

HOME = Path(__file__).parent.parent
SIDES = ("--old", "machines/potting-shed", "--new", "machines/glass-office")


def widetrail(*call: str, cwd: Path | None = None, env: Mapping[str, str] | None = None) -> Ran:
    """Call the command line in a process of its own, with its output piped."""
    own = {name: value for name, value in os.environ.items() if name not in ("COLUMNS", "NO_COLOR")}
    ran = subprocess.run(
        [Path(sys.executable).parent / "widetrail", *call],
        cwd=cwd,
        env={**own, **(env or {})},
        capture_output=True,
        text=True,
        stdin=subprocess.DEVNULL,
    )
    return Ran(ran.returncode, ran.stdout, ran.stderr)


def planned(world: World, *more: str, columns: int = 100) -> str:
    parcel = f"media/usb-stick/{columns}{len(more)}"
    ran = widetrail(
        *("plan", "recipes", *SIDES, "--parcel", parcel, *more),
        *("--without", "loamlens.licence", "--without", "mistvane.licence"),
        cwd=world.folder,
        env={"COLUMNS": str(columns)},
    )
    assert ran.status == 0, ran.err
    return ran.out


@pytest.mark.parametrize("columns", [80, 100, 160])
def test_a_plan_of_a_dozen_programs_is_a_line_or_two_for_each_item(
    world: World, columns: int
) -> None:
    text = planned(world, columns=columns)
    table = text[: text.index("\nOne trip")].splitlines()
    rows = [line for line in table if line.startswith("  ") and not line.startswith("    ")]
    assert len(rows) == 21  # one says what the columns are
    head = rows[0]
    for title in ("route", "size"):
        assert title in head
    sizes = {re.search(r"[\d.]+ (B|KiB)(?=  |$)", row).end() for row in rows[1:]}  # type: ignore[union-attr]
    assert len(sizes) == 1, "the sizes line up"
    assert all(cell_len(line) <= columns for line in table)
    assert re.search(r"Quillbox: Mail, .* – Garden post", text)
    assert "Sporelog: the small pictures of the plates → Open each shelf once" in text
    assert "proved archive – version on the old computer must be >=5.4, but is 5.2" in text
    assert "(3 times)" in text
    assert not re.search(r"[{}]", text), "no template is shown"


def test_details_have_every_path_and_step(world: World) -> None:
    text = planned(world, "--details")
    assert "set in C:/Users/ines/AppData/Roaming/Sporelog/sporelog.ini, line 7" in text
    assert "- Check sporelog.views against the old computer: views (same)" in text
    assert "- You: Sign in to Seedling Quest as the teacher." in text


@pytest.mark.parametrize(
    ("path", "width", "shown"),
    [
        ("C:/Users/ines/Documents/Sporelog", 40, "C:/Users/ines/Documents/Sporelog"),
        ("C:/Users/ines/Documents/Sporelog", 26, "C:/…/Documents/Sporelog"),
        ("C:/Users/ines/Documents/Sporelog", 14, "C:/…/Sporelog"),
        ("C:/Users/ines/Documents/Sporelog", 5, "…/Sporelog"),
        ("HKEY_CURRENT_USER\\Software\\Desk\\Pointer", 30, "HKEY_CURRENT_USER\\…\\Pointer"),
        ("/srv/資料/とても長い名前のフォルダ/本", 20, "/…/本"),
        ("name", 2, "name"),
    ],
)
def test_a_path_is_cut_in_its_middle_and_never_in_its_name(
    path: str, width: int, shown: str
) -> None:
    assert cut_path(path, width) == shown


def test_texts_are_cut_and_padded_by_the_columns_that_they_take() -> None:
    assert cut("Überwinterung", 8) == "Überwin…"
    assert cell_len(cut("資料資料資料", 7)) <= 7
    assert padded("資", 4) == "資  "
    assert padded("7", 3, right=True) == "  7"
    assert cut_title("Mail and more – Garden", " – Garden", 15) == "Mail… – Garden"


def test_consent_is_asked_for_by_what_is_done(world: World) -> None:
    planned(world, columns=80)
    walk = ("walk", "media/usb-stick/800", "--machine", "machines/potting-shed")
    ran = widetrail(*walk, cwd=world.folder)
    assert ran.status == 3
    heads = [line.strip() for line in ran.err.splitlines() if line.endswith(":")]
    assert heads == [
        "Programs that will be started:",
        "What it waits for:",
        "What is read and copied into the parcel:",
    ]
    assert "quillbox.exe" in ran.err.partition("What it waits for:")[0]
    assert re.search(r"\d+ steps only record or check what is there", ran.err)
    detailed = widetrail(*walk, "--details", cwd=world.folder)
    assert "- Record oldest, plates, plates_named, shelves, specimens" in detailed.err


def test_a_walk_says_as_much_as_is_asked_for_and_logs_it(world: World, tmp_path: Path) -> None:
    plan = ("plan", "recipes/huemoss.trail.yaml", *SIDES, "--parcel", "media/usb-stick/said")
    assert widetrail(*plan, cwd=world.folder).status == 0
    walk = ("walk", "media/usb-stick/said", "--yes", "--machine")
    log = tmp_path / "support.log"
    told = widetrail(
        "--verbose", "--log", str(log), *walk, "machines/potting-shed", cwd=world.folder
    )
    steps = re.findall(r"step (\d) of 4: (\w+)", told.err)
    assert steps == [("1", "Record"), ("2", "Copy"), ("3", "Record"), ("4", "Copy")]
    lines = log.read_text().splitlines()
    assert re.match(r"\d{4}-\d\d-\d\dT[\d:]+\+00:00 widetrail \d", lines[0])
    assert any("step 2 of 4: Copy huemoss.palettes" in line for line in lines)
    assert any(line.endswith("packed: Huemoss: Palettes") for line in lines)
    silent = widetrail("--quiet", *walk, "machines/glass-office", cwd=world.folder)
    assert silent.status == 0
    assert "step" not in silent.err.partition("Backups and the journal")[2]
    refused = widetrail("--log", str(tmp_path / "no/where"), "lint", "recipes", cwd=world.folder)
    assert refused.status == 2
    assert "cannot be written" in refused.err


def test_colour_is_there_where_it_is_asked_for_and_nowhere_else(world: World) -> None:
    lint = ("lint", "recipes/none.trail.yaml")
    for options, env, coloured in (
        ((), {}, False),
        (("--color", "always"), {}, True),
        (("--color", "never"), {}, False),
        (("--color", "always"), {"NO_COLOR": "1"}, False),
    ):
        ran = widetrail(*options, *lint, cwd=world.folder, env=env)
        assert ("\x1b[" in re.sub(r"\x1b\[[01]?m", "", ran.err)) is coloured, options


def test_the_version_tells_what_is_optional_and_present() -> None:
    ran = widetrail("--version")
    assert re.match(r"widetrail [\d.]+, Python 3\.\d+\.\d+", ran.out)
    assert re.search(r"^pytest [\d.]+ \(", ran.out, re.MULTILINE)


def test_help_explains_words_codes_statuses_and_commands() -> None:
    words = glossary()
    assert len(words) > 60
    for word in ("parcel", "claims", "3"):
        assert words[word][:40] in widetrail("help", word).out
    for command in COMMANDS:
        told = CliRunner().invoke(main, ["help", command]).stdout
        assert "Usage:" in told or command in words
    missing = widetrail("help", "parsel")
    assert missing.status == 2
    assert 'Did you mean "parcel"?' in missing.err
    assert "Words" in widetrail("help").out


def test_every_code_of_the_docs_is_in_the_glossary() -> None:
    table = (HOME / "docs/rehearsals.md").read_text().partition("| code |")[2].partition("\n\n")[0]
    codes = {
        code
        for row in table.splitlines()
        for code in re.findall(r"`([^`]+)`", row[: row.find("|", 2)])
    }
    assert len(codes) > 20
    assert codes - glossary().keys() - {"rejected"} == set()


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion_is_printed_for_each_shell(shell: str, tmp_path: Path) -> None:
    script = widetrail("completion", shell).out
    assert "_WIDETRAIL_COMPLETE" in script
    if shell == "bash":
        (tmp_path / "script").write_text(script)
        subprocess.run(["bash", "-n", str(tmp_path / "script")], check=True)
        ran = widetrail(
            env={
                "_WIDETRAIL_COMPLETE": "bash_complete",
                "COMP_WORDS": "widetrail re",
                "COMP_CWORD": "1",
            }
        )
        assert {line.partition(",")[2] for line in ran.out.split()} == {"rehearse", "report"}
