"""The demo world on disk: Marrowfield Botanic Garden's machines, media and recipes.

Everything is made from a fixed seed, so the same call gives the same records, names and times.
"""

from __future__ import annotations

import os
import random
import shutil
import struct
import zlib
from datetime import UTC, date, datetime, timedelta
from importlib.resources import as_file, files
from pathlib import Path

from widetrail_demo.sporelog import store

SEED = 19620421

_SHELVES = (
    "Ferns of the north wall", "Mosses, damp house", "Horsetails", "Clubmosses",
    "Liverworts – slides", "Lent to the school", "Alpine ferns", "To be named",
    "Überwinterung (cold frame)",
)  # fmt: skip
_GENERA = (
    "Asplenium", "Polypodium", "Dryopteris", "Athyrium", "Blechnum", "Cystopteris", "Equisetum",
    "Lycopodium", "Selaginella", "Marchantia", "Pellia", "Sphagnum", "Polytrichum", "Mnium",
)  # fmt: skip
_EPITHETS = (
    "trichomanes", "vulgare", "filix-mas", "spicant", "fragilis", "arvense", "clavatum",
    "palustre", "epiphylla", "commune", "hornum", "sylvaticum", "montana", "ruta-muraria",
)  # fmt: skip
_SPOTS = ("north wall", "gorge path", "pond margin", "old quarry", "beech wood", "rill, lower bend")
_REMARKS = (
    "",
    "",
    "",
    "",
    "frond curled",
    "sporing",
    "too dry?",
    "see ledger 3, p. 17",
    "naïve label",
)
_AWKWARD = (
    "plate #7 & 8; final.png", "Équisetum – früh (2).png", "100% spores.png", " leading space.png",
    "シダ 01.png", "decomposed e\u0301pi.png", "🌿.png",
    "a plate whose name somebody made long enough to hold the whole label as it was written in "
    "ink on the back of the sheet, gorge path, lower bend, 1987.png",
)  # fmt: skip
_LETTERS = ("Seed list 2011.txt", "Letter to the parish council.txt", "rota (old).csv")


def build_world(folder: Path, seed: int = SEED) -> None:
    """Make machines, media and recipes in ``folder``, which is made where it is missing.

    Raises:
        FileExistsError: The world is there already.
    """
    machines = folder / "machines"
    machines.mkdir(parents=True)
    dice = random.Random(seed)
    _potting_shed(machines / "potting-shed", dice)
    _glass_office(machines / "glass-office", dice)
    medium = folder / "media" / "memory-stick"
    medium.mkdir(parents=True)
    text = "medium: the green memory stick\nsize: 16 GiB\nformat: exFAT\n"
    (medium / "medium.yaml").write_text(text, encoding="utf-8")
    (folder / "recipes").mkdir()
    copy_recipes(folder / "recipes")


def copy_recipes(folder: Path) -> None:
    """Copy the demo's recipes and rehearsals into ``folder``."""
    with as_file(files("widetrail_demo") / "recipes") as source:
        for path in sorted(source.glob("*.yaml")):
            shutil.copyfile(path, folder / path.name)


def _potting_shed(folder: Path, dice: random.Random) -> None:
    home = _windows_machine(folder, "potting-shed", "ines", "5.2", system="10.0")
    collection = folder / "disks/D/Herbarium/Sporelog"
    _collection(collection, dice, specimens=412)
    settings = home / "AppData/Roaming/Sporelog"
    _text(
        settings / "sporelog.ini",
        "; Sporelog keeps this file itself\r\n[sporelog]\r\nrelease = 5.2\r\n\r\n"
        "[collection]\r\n; moved when the disk ran full\r\nfolder = D:\\Herbarium\\Sporelog\r\n\r\n"
        "[view]\r\ncolumns = number,name,found,shelf\r\norder = found\r\n",
        datetime(2024, 11, 3, 9, 12, tzinfo=UTC),
    )
    for name, wanted in (("found before 2000", "found<2000"), ("Fougères à revoir", "shelf=8")):
        moment = datetime(2019, 2, 14, 16, 40, tzinfo=UTC)
        _text(settings / "views" / f"{name}.view", f"[view]\nonly = {wanted}\n", moment)
    for number, name in enumerate(_LETTERS):
        moment = datetime(2011 + number, 3, 7, 10, tzinfo=UTC)
        _text(home / "Documents" / name, f"{name}\n", moment)


def _glass_office(folder: Path, dice: random.Random) -> None:
    home = _windows_machine(folder, "glass-office", "imarsh", "5.4", system="11.0")
    _collection(home / "Documents/Sporelog", dice, specimens=3)
    _text(
        home / "AppData/Roaming/Sporelog/sporelog.ini",
        "[sporelog]\r\nrelease = 5.4\r\n\r\n[view]\r\ncolumns = number,name,found\r\n"
        "order = number\r\n",
        datetime(2026, 10, 1, 8, tzinfo=UTC),
    )


def _windows_machine(folder: Path, name: str, user: str, release: str, *, system: str) -> Path:
    """Make a Windows machine with drives C and D and Sporelog installed; return the home."""
    home = folder / "disks/C/Users" / user
    for below in ("AppData/Roaming", "AppData/Local/Temp", "Desktop", "Documents", "Downloads"):
        (home / below).mkdir(parents=True)
    (folder / "disks/D").mkdir()
    (folder / "disks/C/ProgramData").mkdir()
    installed = folder / "disks/C/Program Files/Sporelog"
    _text(installed / "release.txt", f"{release}\n", datetime(2023, 5, 2, tzinfo=UTC))
    _text(installed / "sporelog.exe", "played by: sporelog\n", datetime(2023, 5, 2, tzinfo=UTC))
    identity = f"{random.Random(name).getrandbits(64):016x}"
    (folder / "machine.yaml").write_text(
        f"machine: {name}\n"
        f"identity: {identity}\n"
        f"platform: windows\n"
        f"system: '{system}'\n"
        f"user: {user}\n"
        f"administrator: no\n"
        f"network: yes\n"
        f"disks:\n"
        f"  C: {{folder: disks/C, size: 256 GiB, format: NTFS}}\n"
        f"  D: {{folder: disks/D, size: 1 TiB, format: NTFS}}\n"
        f"programs:\n"
        f"  - path: C:/Program Files/Sporelog/sporelog.exe\n"
        f"    start: [sporelog]\n",
        encoding="utf-8",
    )
    return home


def _collection(folder: Path, dice: random.Random, specimens: int) -> None:
    store.create(folder)
    plates = list(_AWKWARD) if specimens > 10 else []
    first = date(1986, 4, 2)
    with store.database(folder) as connection:
        shelves = _SHELVES if specimens > 10 else ("Getting started",)
        connection.executemany(
            "insert into shelf values (?, ?, ?)",
            [(number, name, number) for number, name in enumerate(shelves, start=1)],
        )
        for number in range(1, specimens + 1):
            found = first + timedelta(
                days=int(14_600 * number / (specimens + 1)) + dice.randrange(9)
            )
            connection.execute(
                "insert into specimen values (?, ?, ?, ?, ?, ?)",
                (
                    number,
                    f"{dice.choice(_GENERA)} {dice.choice(_EPITHETS)}",
                    found.isoformat(),
                    dice.choice(_SPOTS),
                    dice.randint(1, len(shelves)),
                    dice.choice(_REMARKS),
                ),
            )
            if specimens > 10 and dice.random() < 0.15:
                name = plates.pop() if plates else f"plate-{number:04d}.png"
                connection.execute(
                    "insert into plate (specimen, file) values (?, ?)", (number, name)
                )
                _plate(folder / "plates" / name, dice, found)
    if specimens > 10:
        _text(
            folder / "thumbs" / "0001.thumb", "a small picture\n", datetime(2024, 1, 1, tzinfo=UTC)
        )
    newest = datetime(2026, 9, 14, 9, 12, tzinfo=UTC).timestamp()
    os.utime(folder / "specimens.db", (newest, newest))


def _plate(path: Path, dice: random.Random, found: date) -> None:
    """Draw a small scanned plate: a frond on paper, as an 8-bit grey PNG."""
    width, height = 48, 64
    rows = bytearray()
    lean = dice.uniform(-0.3, 0.3)
    for y in range(height):
        rows.append(0)
        for x in range(width):
            stem = abs(x - width / 2 - lean * (y - height / 2)) < 1.2
            leaf = (y % 6) < 2 and abs(x - width / 2) < (height - y) / 3
            rows.append((60 if stem else 110 if leaf else 228) + dice.randrange(20))
    path.write_bytes(
        b"\x89PNG\r\n\x1a\n"
        + _chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0))
        + _chunk(b"IDAT", zlib.compress(bytes(rows), 9))
        + _chunk(b"IEND", b"")
    )
    moment = datetime(found.year, found.month, found.day, 14, 30, tzinfo=UTC).timestamp()
    os.utime(path, (moment, moment))


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def _text(path: Path, text: str, moment: datetime) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(text.encode("utf-8"))
    os.utime(path, (moment.timestamp(), moment.timestamp()))
