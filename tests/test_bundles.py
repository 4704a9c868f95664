"""Bundles of recipes: the same bytes wherever they are made, whole or refused when read."""

from __future__ import annotations

import hashlib
import io
import json
import shutil
import subprocess
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import widetrail
import widetrail_demo
from conftest import World, contents
from conftest import widetrail as command
from widetrail.publishing import read_bundle

DEMO = Path(widetrail_demo.__file__).parent / "recipes"
BUNDLE = widetrail.bundle([DEMO / "huemoss.trail.yaml", DEMO / "sporelog.trail.yaml"])


def test_the_same_recipes_give_the_same_bytes_wherever_they_lie(world: World) -> None:
    recipes = world.folder / "recipes"
    named = [recipes / "sporelog.trail.yaml", recipes / "huemoss.trail.yaml"]
    for path in named:
        path.touch()
    assert widetrail.bundle(named) == BUNDLE


def test_a_bundle_is_made_shown_and_unpacked(world: World, tmp_path: Path) -> None:
    archive, folder = tmp_path / "recipes.zip", tmp_path / "unpacked"
    made = command("bundle", "write", world.folder / "recipes", "--to", archive)
    assert made.status == 0, made.err
    shown = command("bundle", "show", archive)
    assert hashlib.sha256(archive.read_bytes()).hexdigest() in shown.out
    told = json.loads(command("bundle", "show", archive, "--json").out)
    assert len(told["recipes"]) == len(list(DEMO.glob("*.trail.yaml")))
    assert command("bundle", "unpack", archive, folder).status == 0
    for recipe in told["recipes"]:
        own = (folder / recipe["file"]).read_bytes()
        assert own == (world.folder / "recipes" / Path(recipe["file"]).name).read_bytes()
        assert (folder / f"sheets/{recipe['id']}.html").is_file()
    assert command("lint", folder / "recipes").status == 0
    again = command("bundle", "write", world.folder / "recipes", "--to", archive)
    assert again.status == 2 and "cannot be written" in again.err


@pytest.mark.skipif(shutil.which("sha256sum") is None, reason="sha256sum is not installed")
def test_the_plain_tool_accepts_its_sums(tmp_path: Path) -> None:
    (tmp_path / "b.zip").write_bytes(BUNDLE)
    widetrail.unpack_archive(tmp_path / "b.zip", tmp_path / "b")
    check = ["sha256sum", "--strict", "-c", "SHA256SUMS"]
    done = subprocess.run(check, cwd=tmp_path / "b", capture_output=True, text=True, check=True)
    files = [path for path in (tmp_path / "b").rglob("*") if path.is_file()]
    assert done.stdout.count(": OK\n") == len(files) - 1


Files = dict[str, bytes]


def forged(change: Callable[[Files], None], *, listed: bool = False) -> bytes:
    """Return the bundle with its files changed; ``listed`` has the index tell of that rightly."""
    with zipfile.ZipFile(io.BytesIO(BUNDLE)) as whole:
        files = {name: whole.read(name) for name in whole.namelist()}
    change(files)
    if listed:
        index = json.loads(files["bundle.json"])
        own = {n: d for n, d in files.items() if n not in ("bundle.json", "SHA256SUMS")}
        index["files"] = {
            n: {"size": len(d), "sha256": hashlib.sha256(d).hexdigest()} for n, d in own.items()
        }
        files["bundle.json"] = json.dumps(index).encode()
        sums = {n: d for n, d in files.items() if n != "SHA256SUMS"}
        told = (f"{hashlib.sha256(d).hexdigest()}  {n}\n" for n, d in sorted(sums.items()))
        files["SHA256SUMS"] = "".join(told).encode()
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return held.getvalue()


def changed(name: str, was: bytes, now: bytes) -> Callable[[Files], None]:
    def change(files: Files) -> None:
        assert was in files[name]
        files[name] = files[name].replace(was, now)

    return change


def added(name: str) -> Callable[[Files], None]:
    return lambda files: files.update({name: b"moss"})


def without(name: str) -> Callable[[Files], None]:
    def change(files: Files) -> None:
        del files[name]

    return change


HUEMOSS = "recipes/huemoss.trail.yaml"


@pytest.mark.parametrize(
    ("change", "listed", "why"),
    [
        (changed(HUEMOSS, b"revision: 2", b"revision: 3"), False, "is not as the index lists"),
        (changed("SHA256SUMS", b"0", b"1"), False, "SHA256SUMS is not that of its files"),
        (added("recipes/other.trail.yaml"), False, "is not listed"),
        (added("recipes/other.trail.yaml"), True, "are not those that it lists"),
        (added("../outside"), True, "no file of a bundle"),
        (added("recipes/../../outside"), True, "no file of a bundle"),
        (added("/outside"), True, "no file of a bundle"),
        (added("recipes/a/b"), True, "no file of a bundle"),
        (added("recipes\\a"), True, "no file of a bundle"),
        (without(HUEMOSS), False, "is missing"),
        (without(HUEMOSS), True, "is missing"),
        (without("SHA256SUMS"), False, "SHA256SUMS"),
        (without("bundle.json"), False, ""),
        (changed("bundle.json", b'"format": 1', b'"format": 2'), False, "newer"),
        (changed("bundle.json", b'"format": 1', b'"format": []'), False, "format"),
    ],
)
def test_a_bundle_that_was_changed_is_refused(
    change: Callable[[Files], None], listed: bool, why: str, tmp_path: Path
) -> None:
    assert read_bundle(forged(lambda files: None), "").recipes  # what is only made anew is not
    (tmp_path / "b.zip").write_bytes(forged(change, listed=listed))
    before = contents(tmp_path)
    refused = command("bundle", "unpack", tmp_path / "b.zip", tmp_path / "to")
    assert refused.status == 2 and why in refused.err, refused.err
    assert contents(tmp_path) == before


def packed(compression: int = zipfile.ZIP_STORED) -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", compression) as archive:
        archive.writestr("recipes/a.trail.yaml", b"0" * 2**20)
    return held.getvalue()


@pytest.mark.parametrize(
    "archive",
    [b"", b"moss" * 100, BUNDLE[:-30], BUNDLE[:2000], packed(zipfile.ZIP_DEFLATED), packed()],
)
def test_what_is_no_bundle_is_refused(archive: bytes) -> None:
    with pytest.raises(widetrail.InputUnusable):
        read_bundle(archive, "b.zip")


def test_two_files_of_one_name_are_refused() -> None:
    held = io.BytesIO(BUNDLE)
    with (
        zipfile.ZipFile(held, "a") as archive,
        pytest.warns(UserWarning, match="Duplicate"),
    ):
        archive.writestr("bundle.json", b"{}")
    with pytest.raises(widetrail.InputUnusable, match="two files"):
        read_bundle(held.getvalue(), "b.zip")


@settings(max_examples=300, deadline=None)
@given(st.integers(0, len(BUNDLE) - 1), st.integers(1, 255))
def test_a_byte_that_is_another_is_noticed_or_changes_nothing(at: int, by: int) -> None:
    broken = bytearray(BUNDLE)
    broken[at] ^= by
    whole = read_bundle(BUNDLE, "").files
    try:
        read = read_bundle(bytes(broken), "")
    except widetrail.InputUnusable:
        return
    assert read.files == whole  # times and rights of files, which nothing is made from


def test_a_folder_that_is_there_is_left_alone(tmp_path: Path) -> None:
    (tmp_path / "b.zip").write_bytes(BUNDLE)
    (tmp_path / "there").mkdir()
    (tmp_path / "there/mine").write_text("mine")
    (tmp_path / "link").symlink_to("nowhere")
    before = contents(tmp_path)
    for name in ("there", "link", "no/such/folder/below"):
        refused = command("bundle", "unpack", tmp_path / "b.zip", tmp_path / name)
        assert refused.status == 2
    assert contents(tmp_path) == before
