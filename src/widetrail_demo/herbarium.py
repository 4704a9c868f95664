"""The collection of Sporelog: specimens, shelves and plates."""

from __future__ import annotations

import os
import random
import struct
import zlib
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

from widetrail_demo.sporelog import store

_SHELVES = (
    "Ferns of the north wall",
    "Mosses, damp house",
    "Horsetails",
    "Clubmosses",
    "Liverworts – slides",
    "Lent to the school",
    "Alpine ferns",
    "To be named",
    "Überwinterung (cold frame)",
)


GENERA = (
    "Asplenium",
    "Polypodium",
    "Dryopteris",
    "Athyrium",
    "Blechnum",
    "Cystopteris",
    "Equisetum",
    "Lycopodium",
    "Selaginella",
    "Marchantia",
    "Pellia",
    "Sphagnum",
    "Polytrichum",
    "Mnium",
)


EPITHETS = (
    "trichomanes",
    "vulgare",
    "filix-mas",
    "spicant",
    "fragilis",
    "arvense",
    "clavatum",
    "palustre",
    "epiphylla",
    "commune",
    "hornum",
    "sylvaticum",
    "montana",
    "ruta-muraria",
)


SPOTS = ("north wall", "gorge path", "pond margin", "old quarry", "beech wood", "rill, lower bend")


REMARKS = (
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


AWKWARD = (
    "plate #7 & 8; final.png",
    "Équisetum – früh (2).png",
    "100% spores.png",
    " leading space.png",
    "シダ 01.png",
    "decomposed e\u0301pi.png",
    "🌿.png",
    "a plate whose name somebody made long enough to hold the whole label as it was written in "
    "ink on the back of the sheet, gorge path, lower bend, 1987.png",
)


class Dice(random.Random):
    """Dice that can make a world with few things of each sort."""

    small = False

    def some(self, many: int, few: int) -> int:
        """Return how many there are of a sort."""
        return few if self.small else many


def write_collection(folder: Path, dice: Dice, specimens: int) -> None:
    store.create(folder)
    plates = list(AWKWARD) if specimens > 10 else []
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
                    f"{dice.choice(GENERA)} {dice.choice(EPITHETS)}",
                    found.isoformat(),
                    dice.choice(SPOTS),
                    dice.randint(1, len(shelves)),
                    dice.choice(REMARKS),
                ),
            )
            if specimens > 10 and dice.random() < 0.15:
                name = plates.pop() if plates else f"plate-{number:04d}.png"
                connection.execute(
                    "insert into plate (specimen, file) values (?, ?)", (number, name)
                )
                plate(folder / "plates" / name, dice, found)
    if specimens > 10:
        write_text(
            folder / "thumbs" / "0001.thumb", "a small picture\n", datetime(2024, 1, 1, tzinfo=UTC)
        )
    newest = datetime(2026, 9, 14, 9, 12, tzinfo=UTC).timestamp()
    os.utime(folder / "specimens.db", (newest, newest))


def plate(path: Path, dice: Dice, found: date) -> None:
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


def write_text(path: Path, text: str, moment: datetime) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(text.encode("utf-8"))
    os.utime(path, (moment.timestamp(), moment.timestamp()))
