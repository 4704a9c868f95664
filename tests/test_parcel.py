"""The parcel's parts: hostile indices, the journal's frames, the seam, names and sizes."""

import itertools
import json
import os
import random
import shutil
import subprocess
import tarfile
import tempfile
import tracemalloc
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from io import BytesIO
from pathlib import Path
from typing import Any

import bagit
import pytest
from hypothesis import given
from hypothesis import strategies as st

from build import Trail, item, outcomes, trail
from conftest import SWEEP, World, contents, widetrail
from widetrail.errors import InputUnusable, ParcelUnusable
from widetrail.formats.canonical import canonical, digest
from widetrail.formats.outside import SafePath
from widetrail.formats.quantities import parse_size, show_size
from widetrail.machine import EffectFailed, Effects, Entry, medium_of
from widetrail.machine.paths import is_within, join, trouble_with_name, written_by_machine
from widetrail.parcel import Parcel, Seal, parcel_files
from widetrail.parcel.cargo_runs import in_order
from widetrail.parcel.file_reading import attributes_told
from widetrail.parcel.index import read_index, write_index
from widetrail.parcel.tar_headers import tar_header
from widetrail.rehearsing.stage import fast_folder
from widetrail.steps import CargoEntry
from widetrail.walking import make_report
from widetrail.walking.journal import RunJournal
from widetrail.walking.walk_events import MadeFolders, read_record

HASH = "0" * 64
SOUND = (
    CargoEntry("a.b", "x", "folder", 0, 1, 0o755),
    CargoEntry("a.b", "x/y", "file", 3, 1, 0o644, sha256=HASH, segment="000001.tar", offset=512),
    CargoEntry("a.b", "x/l", "link", 0, 1, 0o777, target="../../z"),
)


def written(*entries: CargoEntry) -> bytes:
    return b"".join(write_index(entries))


def index(*entries: CargoEntry, **changes: Any) -> bytes:
    document = json.loads(written(*entries))
    columns, row = document["columns"], document["entries"][-1]
    for name, value in changes.items():
        if name in columns:
            row[columns.index(name)] = value
        else:
            row.append(value)
    lines = b",\n".join(canonical(row) for row in document.pop("entries"))
    return b'%b,"entries":[\n%b\n]}\n' % (canonical(document).removesuffix(b"}"), lines)


def read(data: bytes, platform: Any = "windows") -> tuple[CargoEntry, ...]:
    return read_parts([data], platform)


def read_parts(
    parts: list[bytes], platform: Any = "windows", size: int = 4096
) -> tuple[CargoEntry, ...]:
    files, segments = [BytesIO(data) for data in parts], {"000001.tar": size}
    return tuple(in_order(read_index(files, "index", {"a.b": {}}, segments, platform)))


def test_a_sound_index_comes_back() -> None:
    assert read(written(*SOUND)) == SOUND


HOSTILE: dict[str, dict[str, Any]] = {
    "climbs": {"path": "../y"},
    "climbs below": {"path": "x/../../y"},
    "absolute": {"path": "/etc/passwd"},
    "drive": {"path": "C:/x"},
    "another item": {"item": "c.d"},
    "no parent": {"path": "q/y"},
    "below a link": {"path": "x/l/y"},
    "stream": {"path": "x/y:stream"},
    "reserved": {"path": "x/NUL.txt"},
    "trailing dot": {"path": "x/y."},
    "zero": {"path": "x/\0"},
    "backslash": {"path": "x\\y"},
    "twice": {"path": "X/L"},
    "size lies": {"size": 10_000},
    "negative": {"size": -1},
    "offset": {"offset": 4095},
    "segment": {"segment": "../../secret"},
    "bytes of another": {"offset": 514},
    "no digest": {"sha256": ""},
    "kind": {"kind": "device"},
    "type": {"size": "3"},
    "truth": {"size": True},
    "more": {"more": 1},
}


@pytest.mark.parametrize("changes", HOSTILE.values(), ids=HOSTILE)
def test_a_hostile_index_is_refused_as_a_whole(changes: dict[str, Any]) -> None:
    one = CargoEntry("a.b", "x/z", "file", 3, 1, 0o644, "", HASH, "000001.tar", 1024)
    assert read(index(*SOUND, one))[-1] == one
    with pytest.raises(ParcelUnusable):
        read(index(*SOUND, one, **changes))


def test_an_index_on_one_line_is_read_too() -> None:
    """As releases before wrote it."""
    assert read(canonical(json.loads(written(*SOUND)))) == SOUND


def test_an_index_that_ends_half_way_is_refused_wherever_that_is() -> None:
    whole = written(*SOUND)
    for size in range(len(whole) - 1):
        with pytest.raises(ParcelUnusable):
            read(whole[:size])
    with pytest.raises(ParcelUnusable):
        read(whole + whole)


@pytest.mark.sweep
def test_an_index_of_many_names_is_judged_as_a_small_one_is() -> None:
    folders = [CargoEntry("a.b", f"{n:05}", "folder", 0, 1, 0o755) for n in range(6000)]
    inner = [
        CargoEntry("a.b", f"{n:05}/f", "file", 3, 1, 0o644, "", HASH, "000001.tar", n * 512)
        for n in reversed(range(6000))
    ]
    many = (*folders, *inner)
    assert read_parts([written(*many)], size=1 << 30) == many
    for odd, why in (
        (inner[0], "twice"),
        (inner[0]._replace(path="00001/F", offset=1 << 29), "twice"),
        (inner[9]._replace(path="00001/g", offset=inner[9].offset + 2), "same bytes"),
        (inner[9]._replace(path="0000x/g"), "not a folder"),
        (inner[9]._replace(path="00001/f/g"), "not a folder"),
        (CargoEntry("a.b", "h", "hard", 0, 1, 0o644, "00001"), "no file before"),
    ):
        with pytest.raises(ParcelUnusable, match=why):
            read_parts([written(*many, odd)], size=1 << 30)


@pytest.mark.sweep
def test_an_index_takes_as_much_memory_whatever_its_size(tmp_path: Path) -> None:
    def of(count: int) -> int:
        entries = (
            CargoEntry("a.b", f"{n:07}", "file", 3, 1, 0o644, "", HASH, "000001.tar", n * 512)
            for n in range(count)
        )
        path = tmp_path / "index"
        tracemalloc.start()
        try:
            with path.open("wb") as file:
                file.writelines(write_index(entries))
            with path.open("rb") as part:
                runs = read_index([part], "x", {"a.b": {}}, {"000001.tar": 1 << 40}, "linux")
            assert sum(1 for _ in in_order(runs)) == runs["a.b"].names == count
            return tracemalloc.get_traced_memory()[1]
        finally:
            tracemalloc.stop()

    assert of(24_000) < 1.2 * of(6_000)


def test_what_was_packed_since_takes_the_place_of_what_was() -> None:
    again = SOUND[1]._replace(size=4, offset=1024)
    more = SOUND[2]._replace(path="x/m")
    parts = [written(*SOUND), written(again), written(more, again)]
    assert read_parts(parts, "linux") == (SOUND[0], again, SOUND[2], more)


@pytest.mark.parametrize(
    "data", [b"", b"[]", b"{}", b'{"format":2,"entries":[]}', b"[" * 99999, b"[\n"]
)
def test_no_index_at_all_is_refused(data: bytes) -> None:
    with pytest.raises(ParcelUnusable):
        read(data)


def test_names_for_linux_may_be_what_windows_refuses() -> None:
    odd = CargoEntry("a.b", "NUL: no text \udcff", "folder", 0, 1, 0o755)
    assert read(written(odd), "linux") == (odd,)
    assert odd.path.endswith("\udcff")


def opened(path: Path) -> RunJournal:
    return RunJournal(SafePath(path), "journal", Effects(), read_record)


def test_the_journal_cuts_a_torn_tail_and_stops_at_damage(tmp_path: Path) -> None:
    path = tmp_path / "journal"
    journal = opened(path)
    for number in range(3):
        journal.add(MadeFolders(count=number))
    whole = path.read_bytes()
    for cut in range(1, len(whole.splitlines(keepends=True)[-1])):
        path.write_bytes(whole[:-cut])
        again = opened(path)
        assert again.records == journal.records[:2]
        again.add(MadeFolders(count=9))
        assert [r.count for r in opened(path).all(MadeFolders)] == [0, 1, 9]
    damaged = bytearray(whole)
    damaged[len(whole) // 2] ^= 1
    path.write_bytes(damaged)
    with pytest.raises(InputUnusable, match="the journal of this station is damaged"):
        opened(path)


def test_the_seam_never_replaces(tmp_path: Path) -> None:
    effects, one, two = Effects(), tmp_path / "one", tmp_path / "two"
    effects.put(one, b"1")
    effects.put(two, b"2")
    with pytest.raises(EffectFailed) as error:
        effects.rename(one, two)
    assert error.value.status == 3
    with pytest.raises(EffectFailed):
        effects.put(two, b"3")
    assert (one.read_bytes(), two.read_bytes()) == (b"1", b"2")
    (tmp_path / "folder").mkdir()
    with pytest.raises(EffectFailed):
        effects.rename(one, tmp_path / "folder")


def test_links_in_an_item_travel_as_links(world: World) -> None:
    collection = world.old / "disks/D/Herbarium/Sporelog"
    (collection / "plates/again.png").symlink_to("plate-0032.png")
    (collection / "out").symlink_to("/etc")
    (collection / "hollow").mkdir()
    assert world.plan().status == 0
    assert world.walk(world.old).status == 0
    assert world.walk(world.new).status == 0
    new = contents(world.new / "disks/C/Users/imarsh/Documents/Sporelog")
    assert new["plates/again.png"].startswith("-> plate-0032.png")
    assert new["out"].startswith("-> /etc")
    assert new["hollow"].startswith("folder")


def test_a_medium_is_the_folder_that_plays_it(world: World) -> None:
    medium = medium_of(world.parcel)
    assert medium.name == "the green memory stick"
    assert 15 << 30 < medium.free <= 16 << 30
    world.edit("media/usb-stick/medium.yaml", lambda s: s.replace("16 GiB", "large"))
    ran = world.plan()
    assert ran.status == 2
    assert 'medium.yaml:2:7: size: "large" is not a size' in ran.err


@pytest.mark.parametrize(
    ("call", "words"),
    [
        (["lintt"], 'command not found: "lintt". Did you mean "lint"?'),
        (["lint", "nowhere.trail.yaml"], "nowhere.trail.yaml: cannot be read: No such file"),
        (["report", "nowhere"], "nowhere: is not a parcel: it holds no logbook"),
        (["rehearse", "nowhere"], "nowhere: nothing to rehearse: file not found"),
        (["walk"], "Missing argument"),
    ],
)
def test_a_call_that_cannot_be_used_ends_with_2(call: list[str], words: str) -> None:
    ran = widetrail(*call)
    assert ran.status == 2
    assert words in ran.err
    assert "Traceback" not in ran.err


@given(st.integers(0, 2**50))
def test_sizes_are_shown_and_read(size: int) -> None:
    assert abs(parse_size(show_size(size)) - size) <= max(1, size // 15)


@given(st.text(max_size=30))
def test_a_name_that_windows_takes_linux_takes_too(name: str) -> None:
    if not trouble_with_name(name, "windows"):
        fits = len(name.encode("utf-8", "surrogateescape")) <= 255
        assert not fits or not trouble_with_name(name, "linux")


def test_paths_of_a_machine() -> None:
    assert join("C:", "a", "", "b/") == "C:/a/b"
    assert written_by_machine("d:\\a\\\\b\\", "windows") == "D:/a/b"
    assert written_by_machine(r"\\server\share\x", "windows") == "//server/share/x"
    assert is_within("c:/A/b", "C:/a", "windows")
    assert not is_within("C:/ab", "C:/a", "windows")
    assert not is_within("/a/B", "/a/b", "linux")


def _damaged(data: bytes, how: str, at: int) -> bytes:
    match how:
        case "changed":
            return data[:at] + bytes([data[at] ^ 1 << at % 8]) + data[at + 1 :]
        case "cut":
            return data[:at]
    return data[: at + 1] + data[at:]


DAMAGES = ("changed", "cut", "doubled")
DERIVED = ("bagit.txt", "bag-info.txt", "manifest-sha256.txt", "tagmanifest-sha256.txt")


def _damage_all(at: Path, names: list[str], seal: Seal | None, every: int) -> dict[str, int]:
    """Damage every so manieth byte of files of a parcel in each way, and count what is said.

    What is done here is all that a walk does before it changes anything.
    """
    told: Counter[str] = Counter()
    for path in (at / name for name in names):
        data = path.read_bytes()
        for how, place in itertools.product(DAMAGES, range(0, len(data), every)):
            path.write_bytes(_damaged(data, how, place))
            try:
                parcel = Parcel(at, Effects())
                parcel.seal = parcel.seal and seal
                parcel.check_cargo(begun=False)
                parcel.reader("linux")
                told["told" if parcel.wrong_in_bag() else f"missed: {path} {how} {place}"] += 1
            except ParcelUnusable:
                told["refused"] += 1
        path.write_bytes(data)
    return dict(told)


ALL = os.environ.get("WIDETRAIL_STOPS") == "all"
"""Whether every byte is damaged, and not every thirteenth."""

GIVEN = "run: [fernbook, give, '{parcel}/x'], makes: '{parcel}/x'"
GIVE_AND_COPY = f"        legs:\n          - old: [{{{GIVEN}}}]\n          - new: [copy]"


@pytest.mark.parametrize("every", [29, pytest.param(1 if ALL else 23, marks=SWEEP)])
@pytest.mark.parametrize(
    "sealed",
    [pytest.param("", id="plain"), pytest.param("reed bunting", id="sealed", marks=SWEEP)],
)
def test_every_byte_of_a_parcel_damaged_is_refused_or_told(sealed: str, every: int) -> None:
    with tempfile.TemporaryDirectory(dir=fast_folder()) as folder:
        parts = []
        for number in range(2):  # a copy for each core
            parts.append(trail(Path(folder) / str(number), item(GIVE_AND_COPY), sealed=sealed))
            assert set(outcomes(parts[-1].walk("old")).values()) == {"done"}
        jobs = []
        for number, one in enumerate(parts):
            parcel = one.parcel
            parcel.unseal(sealed)
            files = sorted(p for p in one.at.rglob("*") if p.is_file())
            names = [str(p.relative_to(one.at)) for p in files]
            jobs.append((one.at, names[number::2], parcel.seal, every))
        with ProcessPoolExecutor(2) as pool:
            told = [Counter(found) for found in pool.map(_damage_all, *zip(*jobs, strict=True))]
    total = told[0] + told[1]
    assert set(total) == {"refused", "told"}, [name for name in total if "missed" in name][:5]
    assert total["refused"] > 8 * total["told"]
    assert sum(total.values()) * every > 30_000


@pytest.mark.parametrize("name", DERIVED)
def test_damage_to_what_is_derived_is_reported_and_the_outcome_is_the_same(
    tmp_path: Path, name: str
) -> None:
    one = trail(tmp_path / "one", item(GIVE_AND_COPY, "    checks: {pages: {}}"))
    one.walk("old")
    for number, how in enumerate((*DAMAGES, "gone", "a link")):
        copy = Trail(shutil.copytree(one.folder, tmp_path / str(number)))
        path = copy.at / name
        if how in DAMAGES:
            path.write_bytes(_damaged(path.read_bytes(), how, 20))
        else:
            path.unlink()
        if how == "a link":
            path.symlink_to("/etc/passwd")
        assert set(outcomes(copy.walk("new")).values()) == {"done"}
        assert sorted(p.name for p in copy.notes("new").iterdir()) == ["one.txt", "two.txt"]
        told = [n for n in make_report(copy.parcel).notices if "missing or damaged" in n]
        assert any(n.startswith(name) for n in told)
        assert bagit.Bag(str(copy.at)).is_valid()


@pytest.mark.parametrize("way", ["", "data/", "data/cargo/", "logbook/"])
def test_what_nobody_packed_is_refused_before_anything_is_written(tmp_path: Path, way: str) -> None:
    one = trail(tmp_path, item(GIVE_AND_COPY))
    one.walk("old")
    (one.at / way / "fetch.txt").write_text("https://example.org/x 3 data/cargo/000002.tar\n")
    before = contents(one.folder / "new")
    with pytest.raises(ParcelUnusable):
        one.walk("new")
    assert contents(one.folder / "new") == before


def test_what_a_program_makes_is_split_where_it_is_large(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.parcel.made_files.PIECE_MOST", 3)
    take = "{run: [fernbook, take, '{parcel}/x'], changes: notes}"
    legs = GIVE_AND_COPY.replace("[copy]", f"[{take}]")
    for sealed in ("", "reed bunting"):
        one = trail(tmp_path / (sealed or "plain"), item(legs), sealed=sealed)
        one.walk("old")
        pieces = sorted(p.name for p in (one.at / "data/made").rglob("x*"))
        ending = ".age" if sealed else ""
        wanted = {f"x{ending}", f"x.piece-0002{ending}", f"x.piece-0003{ending}"}
        assert set(pieces) == wanted
        assert set(outcomes(one.walk("new")).values()) == {"done"}
        assert (one.notes("new") / "taken.txt").read_text() == "one\ntwo\n"


def test_a_file_that_no_segment_holds_is_packed_in_pieces_that_any_tool_joins(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.parcel.cargo.SEGMENT", 64 * 1024)
    monkeypatch.setattr("widetrail.parcel.cargo.HEADERS", 8 * 1024)
    notes = tmp_path / "old/root/home/ada/notes"
    notes.mkdir(parents=True)
    large = random.Random(5).randbytes(200_001)
    (notes / "large.bin").write_bytes(large)
    one = trail(tmp_path, item("        legs:\n          - new:\n              - copy"))
    one.walk("old")
    segments = sorted((one.folder / "parcel/data/cargo").iterdir())
    assert len(segments) == 5, "the place itself, and four pieces"
    assert max(segment.stat().st_size for segment in segments) <= 64 * 1024
    for segment in segments:
        subprocess.run(["tar", "-xf", segment, "-C", tmp_path], check=True)
    pieces = sorted((tmp_path / "fernbook.notes").glob("large.bin*"))
    assert [p.name for p in pieces][1:] == [f"large.bin.piece-{n:04d}" for n in (2, 3, 4)]
    assert b"".join(p.read_bytes() for p in pieces) == large
    one.walk("new")
    assert (one.notes("new") / "large.bin").read_bytes() == large


WRONG_PIECES = {
    "lie about the size": '[["000001.tar", 512, 1], ["000001.tar", 1024, 1]]',
    "lie outside": '[["000001.tar", 512, 2], ["000001.tar", 4096, 1]]',
    "of no segment": '[["../x.tar", 0, 3]]',
    "negative": '[["000001.tar", 512, 4], ["000001.tar", 512, -1]]',
    "no pieces": "[]",
    "no list": "{",
    "no pairs": "[1, 2]",
}


@pytest.mark.parametrize("pieces", WRONG_PIECES.values(), ids=WRONG_PIECES)
def test_pieces_that_lie_are_refused(pieces: str) -> None:
    with pytest.raises(ParcelUnusable):
        read(index(*SOUND[:2], pieces=pieces))


NAMES_IN_TAR = st.one_of(
    st.text(st.characters(codec="ascii", exclude_characters="\0"), min_size=1, max_size=120),
    st.text(
        st.characters(exclude_characters="\0", exclude_categories=["Cs"]), min_size=1, max_size=60
    ),
    st.binary(min_size=1, max_size=110).map(
        lambda b: b.replace(b"\0", b"x").decode("utf-8", "surrogateescape")
    ),
)


@given(
    name=NAMES_IN_TAR,
    kind=st.sampled_from(["file", "folder", "link", "hard"]),
    target=NAMES_IN_TAR,
    mode=st.integers(0, 0o7777),
    seconds=st.integers(-(2**40), 2**40),
    size=st.integers(0, 2**35),
    attributes=st.dictionaries(
        st.text("abc.äö", min_size=1, max_size=9).map("user.{}".format),
        st.binary(max_size=70).map(lambda b: b.replace(b"\0", b"x")),
        max_size=2,
    ),
)
def test_headers_are_those_of_the_standard_library(
    name: str,
    kind: Any,
    target: str,
    mode: int,
    seconds: int,
    size: int,
    attributes: dict[str, bytes],
) -> None:
    entry = Entry(name, kind, size, seconds * 10**9 + 7, mode, target)
    info = tarfile.TarInfo(f"a.b/{name}")
    info.mode, info.mtime = mode, seconds
    info.pax_headers = {
        f"SCHILY.xattr.{one}": value.decode("utf-8", "surrogateescape")
        for one, value in sorted(attributes.items())
    }
    if kind == "file":
        info.size = size
    else:
        types = {"folder": tarfile.DIRTYPE, "link": tarfile.SYMTYPE, "hard": tarfile.LNKTYPE}
        info.type, size = types[kind], 0
        info.linkname = {"folder": "", "link": target, "hard": f"a.b/{target}"}[kind]
    wanted = info.tobuf(tarfile.PAX_FORMAT, "utf-8", "surrogateescape")
    assert tar_header(f"a.b/{name}", entry, attributes_told(attributes), size) == wanted


def test_an_index_of_more_than_is_ever_read_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    notes = tmp_path / "old/root/home/ada/notes"
    notes.mkdir(parents=True)
    (notes / "one").write_text("moss")
    one = trail(tmp_path, item(GIVE_AND_COPY))
    one.walk("old")
    parcel = one.parcel
    assert parcel.reader("linux").get("fernbook.notes", "one") is not None
    monkeypatch.setattr(parcel_files, "JOURNAL_MOST", 100)
    with pytest.raises(ParcelUnusable, match="more than 100 bytes"):
        parcel.reader("linux")


def test_sealing_makes_as_many_effects_each_time(tmp_path: Path) -> None:
    counts = set[int]()
    for number in range(3):
        notes = tmp_path / str(number) / "old/root/home/ada/notes"
        notes.mkdir(parents=True)
        (notes / "large").write_bytes(random.Random(1).randbytes(5 << 20))
        one = trail(tmp_path / str(number), item(GIVE_AND_COPY), sealed="reed bunting")
        effects = Effects()
        one.walk("old", effects)
        counts.add(effects.count)
    assert len(counts) == 1


FORGED: dict[str, dict[str, Any]] = {
    "a file outside": {"files": {"../../x": HASH}},
    "a file above": {"files": {"cargo/..": HASH}},
    "a made file without an item": {"files": {"made/x": HASH}},
    "no digest": {"files": {"cargo/000001.tar": "x"}},
    "a segment outside": {"segments": {"../x": {"size": 1, "stored": 1, "sha256": HASH}}},
    "a size that is none": {"segments": {"000001.tar": {"size": -1, "stored": 1, "sha256": HASH}}},
    "an index of no index": {"index": "cargo/000001.tar"},
    "an index without a digest": {"index": "index/000009.json"},
    "steps that are none": {"steps": ["x"]},
    "an outcome that is none": {"steps": {"fernbook.notes/note": "done"}},
    "an outcome without facts": {"steps": {"fernbook.notes/note": {}}},
    "no station": {"station": None},
    "a time that is none": {"time": 3},
    "counts that are none": {"read_back": ["x", 1]},
    "a number that is another": {"number": 7},
}


@pytest.mark.parametrize("changes", FORGED.values(), ids=FORGED)
def test_a_forged_entry_of_the_logbook_is_refused(tmp_path: Path, changes: dict[str, Any]) -> None:
    one = trail(tmp_path, item(GIVE_AND_COPY))
    one.walk("old")
    entry = max((one.at / "logbook").iterdir())
    body = json.loads(entry.read_bytes().partition(b"\n")[0])
    line = canonical({**body, **changes})
    entry.write_bytes(line + b"\n" + digest(line).encode() + b"\n")
    before = contents(one.folder / "new")
    with pytest.raises(ParcelUnusable):
        one.walk("new")
    assert contents(one.folder / "new") == before
