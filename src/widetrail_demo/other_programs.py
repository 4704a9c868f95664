"""What the other programs of the demo keep."""

from __future__ import annotations

import json
import os
import sqlite3
import struct
from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from urllib.parse import quote

from widetrail_demo.dewcast import command as dewcast
from widetrail_demo.herbarium import (
    GENERA,
    SPOTS,
    Dice,
    plate,
    write_text,
)
from widetrail_demo.tillbook import command as tillbook


def write_greenhouses(root: Path, dice: Dice, count: int) -> None:
    """Make greenhouses with what is wanted in each, and the misting add-in with its licence."""
    names = [f"House {number}" for number in range(1, count + 1)]
    wanted = {n: {"warmth": dice.randint(12, 26), "light": dice.randint(4, 14)} for n in names}
    mists = {
        name: [f"{hour:02d}:00" for hour in (6, 11, 15)[: 1 + n % 3]]
        for n, name in enumerate(names)
    }
    moment = datetime(2022, 6, 1, tzinfo=UTC)
    write_text(root / "houses.json", json.dumps(wanted, indent=1), moment)
    boxes = {f"TD-{n}{n + 4}": f"House {n}" for n in (1, 2, 5)}
    write_text(root / "boxes.json", json.dumps(boxes, indent=1), moment)
    write_text(root / "add-ins/mistvane/mists.json", json.dumps(mists, indent=1), moment)
    write_text(root / "add-ins/mistvane/licence.json", active_licence(SERIALS["Mistvane"]), moment)


def write_bed_plans(root: Path, dice: Dice) -> None:
    moment = datetime(2020, 4, 1, tzinfo=UTC)
    for number in range(1, dice.some(7, 3)):
        colours = [f"#{dice.getrandbits(24):06x}" for _ in range(5)]
        name = f"{dice.choice(SPOTS)} {number}".replace(",", "")
        write_text(root / "Palettes" / f"{name}.palette", json.dumps(colours), moment)
    for number in range(1, dice.some(10, 3)):
        write_text(root / "Stamps" / f"{dice.choice(GENERA)} {number}.stamp", "a stamp\n", moment)


def write_ledgers(folder: Path, home: Path, dice: Dice) -> None:
    listed = []
    for name, place, years, touched in (
        ("Plant sale 2026", "D:/Sale/2026", 1, datetime(2026, 9, 20, tzinfo=UTC)),
        ("Tea tent", "C:/Users/ines/Documents/Tea tent", 3, datetime(2026, 6, 2, tzinfo=UTC)),
        ("Plant sale 2009", "D:/Sale/2009", 1, datetime(2009, 11, 1, tzinfo=UTC)),
    ):
        host = folder / "disks" / place.replace(":", "", 1)
        first = touched.date() - timedelta(days=365 * years)
        entries = [
            ((first + timedelta(days=n)).isoformat(), dice.choice(GENERA), dice.randint(50, 2000))
            for n in range(dice.some(60, 6) * years)
        ]
        tillbook.create_ledger(host, entries, closed=name == "Plant sale 2009")
        os.utime(host / "book.db", (touched.timestamp(), touched.timestamp()))
        listed.append({"name": name, "folder": place.replace("/", "\\")})
    text = json.dumps({"ledgers": listed}, indent=1)
    write_text(
        home / "AppData/Roaming/Tillbook/tillbook.json", text, datetime(2026, 9, 20, tzinfo=UTC)
    )


def write_dewcast(
    root: Path,
    index: Path,
    recordings: tuple[Path, str],
    lists: tuple[Path, str],
    count: int,
    theme: str,
) -> None:
    """Make recordings and what names them; each folder comes with its path on the machine."""
    (host, shown), windows = recordings, recordings[1][1] == ":"
    names = [f"{SPOTS[n % 6].replace(', ', '/')} {n + 1}.wav" for n in range(count)]
    told = [_as_told(f"{shown}/{name}", windows) for name in names]
    marks = [(name, 7 + 31 * n, _KINDS[n % 3]) for n, name in enumerate(told)]
    marks += [(name, 90 + n, _KINDS[(n + 1) % 3]) for n, name in enumerate(told[: count * 2 // 3])]
    dewcast.create(host, lists[0], marks)
    for number, name in enumerate(names):
        (host / name).parent.mkdir(exist_ok=True)
        (host / name).write_bytes(b"RIFF" + bytes([number]) * 400)
        heard = datetime(2022, 1 + number % 12, 9, 5, 40, tzinfo=UTC).timestamp()
        os.utime(host / name, (heard, heard))
    moment = datetime(2023, 4, 2, tzinfo=UTC)
    for number, title in enumerate(
        ("Dawn chorus", "Owls – spring", "For the school")[: count // 2]
    ):
        chosen = (f"{shown}/{name}" for name in names[number :: number + 2])
        lines = [f"file:{'///' if windows else '//'}{quote(path, safe='/:')}" for path in chosen]
        write_text(lists[0] / f"{title}.list", "\n".join(["# Dewcast list", *lines, ""]), moment)
    folder = _as_told(shown, windows)
    settings = {"theme": theme, "recordings": folder, "lists": _as_told(lists[1], windows)}
    write_text(root / "dewcast.json", json.dumps(settings, indent=2) + "\n", moment)
    dewcast.write_index(index / "Dewcast/index.json", folder, names)


def _as_told(path: str, windows: bool) -> str:
    return path.replace("/", "\\") if windows else path


_KINDS = ("call", "song", "alarm")


def write_scans(collection: Path, folder: Path, shown: str, dice: Dice) -> None:
    """Add plates that lie on another disk, which their specimens name by the whole path."""
    rows = []
    for number in range(1, 4):
        name = f"sheet {number}, verso.png"
        plate(_made(folder) / name, dice, date(2008, 5, number))
        rows.append((number * 2, f"{shown}\\{name}"))
    database = collection / "specimens.db"
    _add_by_journal(database, "insert into plate (specimen, file) values (?, ?)", rows)
    newest = datetime(2026, 9, 14, 9, 12, tzinfo=UTC).timestamp()
    for path in (database, database.with_name(f"{database.name}-wal")):
        os.utime(path, (newest, newest))


def _add_by_journal(database: Path, insert: str, rows: Sequence[tuple[object, ...]]) -> None:
    """Add rows to a database that are committed in its journal, and only there, as after a program
    that ended without taking its journal in."""
    journal = database.with_name(f"{database.name}-wal")
    connection = sqlite3.connect(database)
    connection.execute("pragma journal_mode = wal")
    connection.execute("pragma wal_autocheckpoint = 0")
    with connection:
        connection.executemany(insert, rows)
    kept = database.read_bytes(), _with_salts(journal.read_bytes())
    connection.close()
    database.write_bytes(kept[0])
    journal.write_bytes(kept[1])


def _with_salts(journal: bytes) -> bytes:
    """Return a write-ahead journal with the same salts each time (sqlite.org/fileformat2, 4)."""
    page, salts = struct.unpack(">I", journal[8:12])[0], struct.pack(">II", 1986, 2026)
    order = ">" if journal[3] & 1 else "<"
    sums = (0, 0)

    def added(data: bytes) -> bytes:
        nonlocal sums
        one, two = sums
        for first, second in struct.iter_unpack(f"{order}II", data):
            one = (one + first + two) & 0xFFFFFFFF
            two = (two + second + one) & 0xFFFFFFFF
        sums = one, two
        return struct.pack(">II", one, two)

    head = journal[:16] + salts
    out = bytearray(head + added(head))
    for start in range(32, len(journal), 24 + page):
        frame, data = journal[start : start + 8], journal[start + 24 : start + 24 + page]
        out += frame + salts + added(frame + data) + data
    return bytes(out)


def _made(folder: Path) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def write_school_visits(root: Path, dice: Dice) -> None:
    moment = datetime(2026, 5, 6, tzinfo=UTC)
    classes = ["2b", "3a", "4 – Otters"]
    write_text(root / "teacher.toml", 'teacher = "ines"\n', moment)
    write_text(root / "classes.json", json.dumps({"classes": classes}, ensure_ascii=False), moment)
    for name in classes:
        trail = {"station": dice.randint(1, 12), "acorns": dice.randint(3, 90)}
        write_text(root / "trails" / f"{name}.json", json.dumps(trail), moment)


def write_commonbed(folder: Path, dice: Dice) -> None:
    for number in range(1, dice.some(25, 4)):
        moment = datetime(2021 + number // 13, 1 + number % 12, 9, tzinfo=UTC)
        write_text(folder / f"rota {number}.txt", "weeding, watering\n", moment)


def write_wicketleaf(data: Path) -> None:
    """What the mail program keeps that came with the machine; no recipe is for it."""
    moment = datetime(2026, 10, 6, 8, 15, tzinfo=UTC)
    letters = "".join(
        f"From nursery@fen.example Tue Oct  6 08:{number:02d}:00 2026\n"
        f"From: nursery@fen.example\nTo: imarsh@marrowfield.example\n"
        f"Subject: Offer {number}\n\nTrays of {number * 12}, as asked.\n\n"
        for number in range(1, 15)
    )
    write_text(data / "Local/Wicketleaf/Post/inbox.mbox", letters, moment)
    write_text(data / "Local/Wicketleaf/Post/sent.mbox", letters[:180], moment)
    for number in range(1, 7):
        write_text(data / f"Local/Wicketleaf/Cache/{number:04x}.bin", "x" * 40 * number, moment)
    write_text(data / "Local/Wicketleaf/Logs/2026-10.log", "08:15 14 letters came\n" * 9, moment)
    write_text(data / "Roaming/Wicketleaf/wicketleaf.conf", "account = imarsh\n", moment)


def write_wicketleaf_mail(root: Path) -> None:
    """Write what Wicketleaf keeps where it was used a little: letters, and people."""
    moment = datetime(2026, 10, 6, 8, 15, tzinfo=UTC)
    letters = "".join(
        f"From nursery@fen.example Tue Oct  6 08:{number:02d}:00 2026\n"
        f"From: nursery@fen.example\nTo: pietk@marrowfield.example\n"
        f"Date: Tue, 06 Oct 2026 08:{number:02d}:00 +0000\n"
        f"Message-ID: <offer-{number}@fen.example>\nSubject: Offer {number}\n\n"
        f"Trays of {number * 12}, as asked.\n\n"
        for number in range(1, 6)
    )
    write_text(root / "Post/inbox.mbox", letters, moment)
    lines = ("BEGIN:VCARD", "VERSION:4.0", "UID:quillbox-3", "FN:Grower 2", "TEL:0171 22")
    card = "".join(f"{line}\r\n" for line in (*lines, "END:VCARD"))
    own = card.replace("quillbox-3", "own-1").replace("Grower 2", "The nursery")
    write_text(root / "people.vcf", own + card, moment)
    kept = {"name": "The nursery", "url": "https://nursery.fen.example/", "note": "trays"}
    write_text(root / "links.json", json.dumps({"shown": True, "links": [kept]}, indent=1), moment)


SERIALS = {"Loamlens": "PW4K-7QHD-M2ZX-81TN", "Mistvane": "HC-5581-0937-4462"}
"""The serials of what Marrowfield has bought."""


def active_licence(serial: str) -> str:
    return json.dumps({"serial": serial, "state": "active", "asked": 0, "pending": None}, indent=1)
