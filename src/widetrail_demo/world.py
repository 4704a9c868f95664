"""The demo world on disk: Marrowfield Botanic Garden's machines, media and recipes.

Everything is made from a fixed seed, so the same call gives the same records, names and times.
"""

from __future__ import annotations

import json
import os
import plistlib
import random
import shutil
import sqlite3
import struct
import zlib
from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta
from importlib.resources import as_file, files
from pathlib import Path
from urllib.parse import quote

from widetrail.licence.service import PUBLIC, make_service
from widetrail_demo.__main__ import start_command
from widetrail_demo.brackenwend import command as brackenwend
from widetrail_demo.dewcast import command as dewcast
from widetrail_demo.quillbox import store as quillbox
from widetrail_demo.sporelog import store
from widetrail_demo.tillbook import command as tillbook

SEED = 19620421

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
_GENERA = (
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
_EPITHETS = (
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
_REGISTRY = r"""Windows Registry Editor Version 5.00

[HKEY_CURRENT_USER\Software\Marram\Quillbox]
"Release"="8.4"
"Installed"=dword:0133b2c1

[HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders]
"Personal"=hex(2):25,00,55,00,53,00,45,00,52,00,50,00,52,00,4f,00,46,00,49,00,\
  4c,00,45,00,25,00,5c,00,44,00,6f,00,63,00,75,00,6d,00,65,00,6e,00,74,00,73,00,\
  00,00
"""
_NEW = datetime(2026, 10, 1, tzinfo=UTC)
_LETTERS = ("Seed list 2011.txt", "Letter to the parish council.txt", "rota (old).csv")


class _Dice(random.Random):
    """Dice that can make a world with few things of each sort."""

    small = False

    def some(self, many: int, few: int) -> int:
        """Return how many there are of a sort."""
        return few if self.small else many


def build_world(folder: Path, seed: int = SEED, *, small: bool = False) -> None:
    """Make machines, media and recipes in ``folder``, which is made where it is missing.

    A ``small`` world has the same machines with a few things of each sort, for rehearsals that are
    stopped a thousand times.

    Raises:
        FileExistsError: The world is there already.
    """
    machines = folder / "machines"
    machines.mkdir(parents=True)
    dice = _Dice(seed)
    dice.small = small
    _potting_shed(machines / "potting-shed", dice)
    _glass_office(machines / "glass-office", dice)
    _seed_vault(machines / "seed-vault", dice)
    _herbarium_nook(machines / "herbarium-nook", dice)
    _gatehouse(machines / "gatehouse", dice)
    _bothy(machines / "bothy")
    _linux_machine(
        machines / "visitor-hall", "visitor-hall", "visitors", {"Loamlens-errand": "4.6"}
    )
    _maker(folder / "maker", machines)
    medium = folder / "media" / "memory-stick"
    medium.mkdir(parents=True)
    text = "medium: the green memory stick\nsize: 16 GiB\nformat: exFAT\n"
    (medium / "medium.yaml").write_text(text, encoding="utf-8")
    (folder / "recipes").mkdir()
    copy_recipes(folder / "recipes")
    _settle_times(machines)


def _settle_times(folder: Path) -> None:
    """Give what was written just now the time of the last day in the garden's world."""
    last = datetime(2026, 10, 30, 17, 5, tzinfo=UTC).timestamp()
    for path in folder.rglob("*"):
        if path.stat().st_mtime > last:
            os.utime(path, (last, last))


def copy_recipes(folder: Path) -> None:
    """Copy the demo's recipes and rehearsals into ``folder``."""
    with as_file(files("widetrail_demo") / "recipes") as source:
        for path in sorted(source.glob("*.yaml")):  # the answers are beside them
            shutil.copyfile(path, folder / path.name)


def _potting_shed(folder: Path, dice: _Dice) -> None:
    programs = {
        "Sporelog": "5.2",
        "Quillbox": "8.4",
        "Frondsign": "3.9",
        "Huemoss": "2.6",
        "Tillbook": "6.1",
        "SeedlingQuest": "3.0",
        "Desk": "10.0",
        "Dewcast": "2.4",
        "Loamlens": "4.2",
        "Trellisdesk": "5.3",
        "Mistvane": "2.0",
    }
    home = _windows_machine(folder, "potting-shed", "ines", programs, system="10.0")
    collection = folder / "disks/D/Herbarium/Sporelog"
    scans = home / "Pictures/Plate scans"
    _collection(collection, dice, specimens=dice.some(412, 12))
    _scans(collection, scans, "C:\\Users\\ines\\Pictures\\Plate scans", _Dice(SEED))
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
    values = {
        "Speed": "dword:00000008",
        "Left": '"yes"',
        "Folder": r'"C:\\Users\\ines\\Documents"',
        "Backdrop": _expanded(r"%USERPROFILE%\Pictures\beds – May.png"),
        "Grip": "hex:03,e8,00,ff",
    }
    _registry(folder, _REGISTRY + _desk_keys(values, "00000500"))
    rooms = [
        ("Garden post", "k7f2q", True, dice.some(230, 6)),
        ("Plant sale", "b0x9d", False, dice.some(36, 4)),
    ]
    _mailrooms(home / "AppData/Roaming/Marram/Quillbox", "8.4", rooms, dice)
    _signs(folder / "disks/D/Herbarium/Labels", dice, dice.some(11, 2))
    text = '<settings grid="5">\n  <library folder="D:\\Herbarium\\Labels"/>\n</settings>\n'
    path = home / "AppData/Roaming/Frondsign/settings.xml"
    _text(path, '<?xml version="1.0"?>\n' + text, datetime(2021, 7, 1, tzinfo=UTC))
    _bed_plans(home / "Documents/Huemoss", dice)
    _ledgers(folder, home, dice)
    _school_visits(home / "AppData/Roaming/SeedlingQuest", dice)
    pinned = ["D:/Herbarium", "C:/Users/ines/Documents"]
    _desk(home, ["Sporelog", "Quillbox", "Tillbook"], pinned)
    _leafdrop(home / "Leafdrop", dice)
    recordings = folder / "disks/D/Field/Recordings", "D:/Field/Recordings"
    lists = home / "Documents/Listening", "C:/Users/ines/Documents/Listening"
    roaming, local = home / "AppData/Roaming", home / "AppData/Local"
    _dewcast(roaming / "Dewcast", local, recordings, lists, dice.some(14, 3), "dusk")
    own = _Dice(SEED)
    _scanned(home, own, dice.some(9, 2))
    _greenhouses(roaming / "Trellisdesk", own, dice.some(6, 2))
    for number, name in enumerate(_LETTERS):
        moment = datetime(2011 + number, 3, 7, 10, tzinfo=UTC)
        _text(home / "Documents" / name, f"{name}\n", moment)


def _glass_office(folder: Path, dice: _Dice) -> None:
    programs = {
        "Sporelog": "5.4",
        "Quillbox": "9.1",
        "Huemoss": "3.2",
        "Tillbook": "6.4",
        "SeedlingQuest": "3.1",
        "Desk": "11.0",
        "Dewcast": "2.6",
        "Loamlens": "4.6",
        "Trellisdesk": "6.0",
        "Mistvane": "2.1",
    }
    home = _windows_machine(folder, "glass-office", "imarsh", programs, system="11.0")
    _collection(home / "Documents/Sporelog", dice, specimens=3)
    values = {
        "Speed": "dword:00000005",
        "Folder": r'"C:\\Users\\imarsh\\Desktop"',
        "Wheel": "dword:00000003",
    }
    _registry(folder, _REGISTRY.replace('"8.4"', '"9.1"') + _desk_keys(values, "00000a00"))
    _mailrooms(
        home / "AppData/Roaming/Marram/Quillbox", "9.1", [("Mailroom", "first", True, 0)], dice
    )
    (home / "Documents/Huemoss/Palettes").mkdir(parents=True)
    (home / "Documents/Huemoss/Stamps").mkdir()
    _text(
        home / "AppData/Roaming/Tillbook/tillbook.json",
        '{"ledgers": []}',
        datetime(2026, 10, 1, tzinfo=UTC),
    )
    _desk(home, ["Quillbox"], [])
    _leafdrop(folder / "services/leafdrop", dice)
    _wicketleaf(home / "AppData")
    own, shown = home / "Documents/Dewcast", "C:/Users/imarsh/Documents/Dewcast"
    recordings = own / "Recordings", f"{shown}/Recordings"
    lists = own / "Lists", f"{shown}/Lists"
    roaming, local = home / "AppData/Roaming", home / "AppData/Local"
    _dewcast(roaming / "Dewcast", local, recordings, lists, 1, "plain")
    _text(roaming / "Loamlens/loamlens.ini", "[loamlens]\nedition = institute\n", _NEW)
    (roaming / "Trellisdesk").mkdir()
    _text(
        home / "AppData/Roaming/Sporelog/sporelog.ini",
        "[sporelog]\r\nrelease = 5.4\r\n\r\n[view]\r\ncolumns = number,name,found\r\n"
        "order = number\r\n",
        datetime(2026, 10, 1, 8, tzinfo=UTC),
    )


SERIALS = {"Loamlens": "PW4K-7QHD-M2ZX-81TN", "Mistvane": "HC-5581-0937-4462"}
"""The serials of what Marrowfield has bought."""


def _maker(folder: Path, machines: Path) -> None:
    """Make the licence service of the makers, and give its public key to their programs."""
    seats = [
        {"product": product, "serial": serial, "count": 1, "holders": ["potting-shed"]}
        for product, serial in SERIALS.items()
    ]
    make_service(folder, seats, b"the makers of Loamlens and Mistvane")
    for program in (*SERIALS, "loamlens-errand"):
        for installed in machines.glob(f"*/disks/*/*/{program}"):
            shutil.copyfile(folder / PUBLIC, installed / PUBLIC)


def _scanned(home: Path, dice: _Dice, count: int) -> None:
    """Make root scans, and a licence that is active."""
    for number in range(1, count + 1):
        day = date(2017, 4, 3) + timedelta(days=97 * number)
        bed = dice.choice(_SPOTS)
        scan = {"bed": bed, "day": day.isoformat(), "lengths": dice.sample(range(20, 400), 12)}
        moment = datetime(day.year, day.month, day.day, 15, tzinfo=UTC)
        _text(home / f"Documents/Loamlens/{number:03d} {bed}/scan.json", json.dumps(scan), moment)
    settings, moment = home / "AppData/Roaming/Loamlens", datetime(2021, 2, 1, tzinfo=UTC)
    _text(settings / "loamlens.ini", "[loamlens]\nedition = institute\n", moment)
    _text(settings / "licence.json", _active(SERIALS["Loamlens"]), moment)


def _active(serial: str) -> str:
    return json.dumps({"serial": serial, "state": "active", "asked": 0, "pending": None}, indent=1)


def _greenhouses(root: Path, dice: _Dice, count: int) -> None:
    """Make greenhouses with what is wanted in each, and the misting add-in with its licence."""
    names = [f"House {number}" for number in range(1, count + 1)]
    wanted = {n: {"warmth": dice.randint(12, 26), "light": dice.randint(4, 14)} for n in names}
    mists = {
        name: [f"{hour:02d}:00" for hour in (6, 11, 15)[: 1 + n % 3]]
        for n, name in enumerate(names)
    }
    moment = datetime(2022, 6, 1, tzinfo=UTC)
    _text(root / "houses.json", json.dumps(wanted, indent=1), moment)
    _text(root / "add-ins/mistvane/mists.json", json.dumps(mists, indent=1), moment)
    _text(root / "add-ins/mistvane/licence.json", _active(SERIALS["Mistvane"]), moment)


def _bed_plans(root: Path, dice: _Dice) -> None:
    moment = datetime(2020, 4, 1, tzinfo=UTC)
    for number in range(1, dice.some(7, 3)):
        colours = [f"#{dice.getrandbits(24):06x}" for _ in range(5)]
        name = f"{dice.choice(_SPOTS)} {number}".replace(",", "")
        _text(root / "Palettes" / f"{name}.palette", json.dumps(colours), moment)
    for number in range(1, dice.some(10, 3)):
        _text(root / "Stamps" / f"{dice.choice(_GENERA)} {number}.stamp", "a stamp\n", moment)


def _ledgers(folder: Path, home: Path, dice: _Dice) -> None:
    listed = []
    for name, place, years, touched in (
        ("Plant sale 2026", "D:/Sale/2026", 1, datetime(2026, 9, 20, tzinfo=UTC)),
        ("Tea tent", "C:/Users/ines/Documents/Tea tent", 3, datetime(2026, 6, 2, tzinfo=UTC)),
        ("Plant sale 2009", "D:/Sale/2009", 1, datetime(2009, 11, 1, tzinfo=UTC)),
    ):
        host = folder / "disks" / place.replace(":", "", 1)
        first = touched.date() - timedelta(days=365 * years)
        entries = [
            ((first + timedelta(days=n)).isoformat(), dice.choice(_GENERA), dice.randint(50, 2000))
            for n in range(dice.some(60, 6) * years)
        ]
        tillbook.create_ledger(host, entries)
        os.utime(host / "book.db", (touched.timestamp(), touched.timestamp()))
        listed.append({"name": name, "folder": place.replace("/", "\\")})
    text = json.dumps({"ledgers": listed}, indent=1)
    _text(home / "AppData/Roaming/Tillbook/tillbook.json", text, datetime(2026, 9, 20, tzinfo=UTC))


def _dewcast(
    root: Path,
    index: Path,
    recordings: tuple[Path, str],
    lists: tuple[Path, str],
    count: int,
    theme: str,
) -> None:
    """Make recordings and what names them; each folder comes with its path on the machine."""
    (host, shown), windows = recordings, recordings[1][1] == ":"
    names = [f"{_SPOTS[n % 6].replace(', ', '/')} {n + 1}.wav" for n in range(count)]
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
        _text(lists[0] / f"{title}.list", "\n".join(["# Dewcast list", *lines, ""]), moment)
    folder = _as_told(shown, windows)
    settings = {"theme": theme, "recordings": folder, "lists": _as_told(lists[1], windows)}
    _text(root / "dewcast.json", json.dumps(settings, indent=2) + "\n", moment)
    dewcast.write_index(index / "Dewcast/index.json", folder, names)


def _as_told(path: str, windows: bool) -> str:
    return path.replace("/", "\\") if windows else path


_KINDS = ("call", "song", "alarm")


def _scans(collection: Path, folder: Path, shown: str, dice: _Dice) -> None:
    """Add plates that lie on another disk, which their specimens name by the whole path."""
    rows = []
    for number in range(1, 4):
        name = f"sheet {number}, verso.png"
        _plate(_made(folder) / name, dice, date(2008, 5, number))
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


def _school_visits(root: Path, dice: _Dice) -> None:
    moment = datetime(2026, 5, 6, tzinfo=UTC)
    classes = ["2b", "3a", "4 – Otters"]
    _text(root / "quest.toml", 'teacher = "ines"\n', moment)
    _text(root / "classes.json", json.dumps({"classes": classes}, ensure_ascii=False), moment)
    for name in classes:
        trail = {"station": dice.randint(1, 12), "acorns": dice.randint(3, 90)}
        _text(root / "trails" / f"{name}.json", json.dumps(trail), moment)


def _leafdrop(folder: Path, dice: _Dice) -> None:
    for number in range(1, dice.some(25, 4)):
        moment = datetime(2021 + number // 13, 1 + number % 12, 9, tzinfo=UTC)
        _text(folder / f"rota {number}.txt", "weeding, watering\n", moment)


def _wicketleaf(data: Path) -> None:
    """What the mail program keeps that came with the machine; no recipe is for it."""
    moment = datetime(2026, 10, 6, 8, 15, tzinfo=UTC)
    letters = "".join(
        f"From nursery@fen.example Tue Oct  6 08:{number:02d}:00 2026\n"
        f"From: nursery@fen.example\nTo: imarsh@marrowfield.example\n"
        f"Subject: Offer {number}\n\nTrays of {number * 12}, as asked.\n\n"
        for number in range(1, 15)
    )
    _text(data / "Local/Wicketleaf/Post/inbox.mbox", letters, moment)
    _text(data / "Local/Wicketleaf/Post/sent.mbox", letters[:180], moment)
    for number in range(1, 7):
        _text(data / f"Local/Wicketleaf/Cache/{number:04x}.bin", "x" * 40 * number, moment)
    _text(data / "Local/Wicketleaf/Logs/2026-10.log", "08:15 14 letters came\n" * 9, moment)
    _text(data / "Roaming/Wicketleaf/wicketleaf.conf", "account = imarsh\n", moment)


def _registry(folder: Path, text: str) -> None:
    (folder / "registry.reg").write_bytes(text.replace("\n", "\r\n").encode("utf-16"))


def _expanded(text: str) -> str:
    """Return a text in which variables are expanded, as a registry text has it."""
    return f"hex(2):{f'{text}{chr(0)}'.encode('utf-16-le').hex(',')}"


def _desk_keys(values: dict[str, str], width: str) -> str:
    key = r"HKEY_CURRENT_USER\Software\Desk"
    lines = "".join(f'"{name}"={value}\n' for name, value in values.items())
    return f'\n[{key}\\Pointer]\n{lines}\n[{key}\\Screens\\1]\n"Width"=dword:{width}\n'


def _desk_preferences(home: Path, pointer: dict[str, object], folder: str) -> None:
    told = {"Pointer": pointer, "Folder": folder, "Screens": {"1": {"Width": 1440}}}
    path = home / "Library/Preferences/org.marrowfield.desk.plist"
    path.write_bytes(plistlib.dumps(told, fmt=plistlib.FMT_BINARY))


def _desk(home: Path, programs: list[str], pinned: list[str]) -> None:
    root, moment = home / "AppData/Roaming/Desk", datetime(2025, 1, 9, tzinfo=UTC)
    _text(root / "strip.json", json.dumps({"programs": programs, "pinned": pinned}), moment)


def _windows_machine(
    folder: Path, name: str, user: str, programs: dict[str, str], *, system: str
) -> Path:
    """Make a Windows machine with drives C and D and ``programs`` installed; return the home."""
    home = folder / "disks/C/Users" / user
    for below in ("AppData/Roaming", "AppData/Local/Temp", "Desktop", "Documents", "Downloads"):
        (home / below).mkdir(parents=True)
    (folder / "disks/D").mkdir()
    (folder / "disks/C/ProgramData").mkdir()
    moment = datetime(2023, 5, 2, tzinfo=UTC)
    for program, release in programs.items():
        installed = folder / "disks/C/Program Files" / program
        _text(installed / "release.txt", f"{release}\n", moment)
        _text(installed / f"{_command(program)}.exe", "a stand-in plays this\n", moment)
    paths = {p: f"C:/Program Files/{p}/{_command(p)}.exe" for p in programs}
    disks = (
        "  C: {folder: disks/C, size: 256 GiB, format: NTFS}\n"
        "  D: {folder: disks/D, size: 1 TiB, format: NTFS}\n"
    )
    _machine_file(folder, name, "windows", system, user, disks, paths)
    return home


def _macos_machine(folder: Path, name: str, user: str, programs: dict[str, str]) -> Path:
    """Make a macOS machine with ``programs`` installed; return the home."""
    home = folder / "disks/root/Users" / user
    for below in ("Documents", "Desktop", "Library/Application Support", "Library/Preferences"):
        (home / below).mkdir(parents=True)
    moment = datetime(2023, 5, 2, tzinfo=UTC)
    for program, release in programs.items():
        contents = folder / f"disks/root/Applications/{program}.app/Contents"
        _text(contents / "MacOS" / program.lower(), "a stand-in plays this\n", moment)
        about = {"CFBundleName": program, "CFBundleShortVersionString": release}
        (contents / "Info.plist").write_bytes(plistlib.dumps(about))
    paths = {p: f"/Applications/{p}.app/Contents/MacOS/{p.lower()}" for p in programs}
    disks = "  /: {folder: disks/root, size: 500 GiB, format: APFS}\n"
    _machine_file(folder, name, "macos", "14.5", user, disks, paths)
    return home


def _linux_machine(folder: Path, name: str, user: str, programs: dict[str, str]) -> Path:
    """Make a Linux machine with ``programs`` installed; return the home."""
    home = folder / "disks/root/home" / user
    for below in (".config", ".local/share", ".local/state", ".cache", "Schreibtisch"):
        (home / below).mkdir(parents=True)
    moment = datetime(2024, 5, 2, tzinfo=UTC)
    (folder / "disks/root/tmp").mkdir()
    for program, release in programs.items():
        opt = folder / f"disks/root/opt/{program.lower()}"
        _text(opt / program.lower(), "a stand-in plays this\n", moment)
        _text(opt / "release.txt", f"{release}\n", moment)
    paths = {p: f"/opt/{p.lower()}/{p.lower()}" for p in programs}
    disks = "  /: {folder: disks/root, size: 120 GiB, format: ext4}\n"
    _machine_file(folder, name, "linux", "12", user, disks, paths)
    return home


def _machine_file(
    folder: Path,
    name: str,
    platform: str,
    system: str,
    user: str,
    disks: str,
    programs: dict[str, str],
) -> None:
    identity = f"{random.Random(name).getrandbits(64):016x}"
    installed = "".join(
        f"  - path: {path}\n    start: {start_command(_command(program))}\n    paths: machine\n"
        for program, path in programs.items()
    )
    (folder / "machine.yaml").write_text(
        f"machine: {name}\n"
        f"identity: {identity}\n"
        f"platform: {platform}\n"
        f"system: '{system}'\n"
        f"user: {user}\n"
        f"administrator: no\n"
        f"network: yes\n"
        f"disks:\n{disks}"
        f"programs:\n{installed}",
        encoding="utf-8",
    )


def _command(program: str) -> str:
    return "seedling-quest" if program == "SeedlingQuest" else program.lower()


def _seed_vault(folder: Path, dice: _Dice) -> None:
    """The old macOS laptop of tomas: signs still in the folder of an early release."""
    programs = {
        "Frondsign": "3.8.1",
        "Brackenwend": "11.2",
        "Quillbox": "8.2",
        "Dewcast": "2.5",
        "Desk": "14.5",
    }
    home = _macos_machine(folder, "seed-vault", "tomas", programs)
    _signs(home / "Documents/Frondsign/Labels", dice, dice.some(14, 2))
    path = home / "Library/Preferences/org.fernlight.frondsign.plist"
    path.write_bytes(plistlib.dumps({"Grid": 7, "Window": [12, 40]}, fmt=plistlib.FMT_BINARY))
    _desk_preferences(home, {"Speed": 6, "Left": True}, "/Users/tomas/Documents")
    support = home / "Library/Application Support"
    readers = [("Tomas", "brook-11", True, dice.some(48, 12)), ("Guest", "g0", False, 2)]
    _reader(support / "Brackenwend", readers, dice)
    recordings = home / "Music/Field", "/Users/tomas/Music/Field"
    lists = home / "Documents/Dewcast/Lists", "/Users/tomas/Documents/Dewcast/Lists"
    _dewcast(
        support / "Dewcast", home / "Library/Caches", recordings, lists, dice.some(5, 3), "fog"
    )
    _mailrooms(
        support / "quillbox", "8.2", [("Seed exchange", "r-9c2e", True, dice.some(120, 5))], dice
    )


_BOTHY = """[org/marrowfield/desk/pointer]
speed=3
wheel=uint32 4

[org/marrowfield/other]
kept=true
"""


def _bothy(folder: Path) -> None:
    """The replacement of the Linux desk, with a pointer of its own."""
    home = _linux_machine(folder, "bothy", "pietk", {"Frondsign": "4.2", "Desk": "13"})
    (folder / "desktop.dconf").write_text(_BOTHY, encoding="utf-8")
    text = 'grid = 2\n\n[library]\nfolder = "/home/pietk/Labels"\n'
    _text(home / ".config/frondsign/settings.toml", text, datetime(2026, 9, 1, tzinfo=UTC))
    (home / "Labels").mkdir()


def _herbarium_nook(folder: Path, dice: _Dice) -> None:
    """Its replacement: signs moved by the settings, in binary preferences, to a shared folder."""
    programs = {
        "Frondsign": "4.1",
        "Brackenwend": "12.0.1",
        "Quillbox": "9.1",
        "Desk": "15.0",
    }
    home = _macos_machine(folder, "herbarium-nook", "tomasv", programs)
    _signs(home / "Signs for beds", dice, 2)
    told = {"Library": {"Folder": "~/Signs for beds"}, "Grid": 5}
    path = home / "Library/Preferences/org.fernlight.frondsign.plist"
    path.write_bytes(plistlib.dumps(told, fmt=plistlib.FMT_BINARY))
    _desk_preferences(home, {"Speed": 2, "Wheel": 1}, "~/Desktop")
    support = home / "Library/Application Support"
    _reader(support / "Brackenwend", [("Reader 1", "r1", True, 0)], dice)


def _gatehouse(folder: Path, dice: _Dice) -> None:
    """The Linux desk: folders named by user-dirs, a program that only its output tells of."""
    programs = {
        "Frondsign": "4.1",
        "Brackenwend": "12.0",
        "Quillbox": "9.0-lts",
        "Dewcast": "2.6",
        "Desk": "12",
    }
    home = _linux_machine(folder, "gatehouse", "piet", programs)
    moment = datetime(2024, 5, 3, tzinfo=UTC)
    dirs = 'XDG_DESKTOP_DIR="$HOME/Schreibtisch"\nXDG_DOCUMENTS_DIR="$HOME/Papiere"\n'
    _text(home / ".config/user-dirs.dirs", dirs, moment)
    _signs(home / "Schilder", dice, 9)
    text = 'grid = 5\n\n[library]\nfolder = "file:///home/piet/Schilder"  # moved\n'
    _text(home / ".config/frondsign/settings.toml", text, moment)
    desk = "speed=7\nleft=true\nfolder='file:///home/piet/Papiere'\n\n"
    desk = f"[org/marrowfield/desk/pointer]\n{desk}[org/marrowfield/desk/screens]\nwidth=1280\n"
    (folder / "desktop.dconf").write_text(desk, encoding="utf-8")
    _reader(home / ".config/brackenwend", [("Piet", "p-77", True, dice.some(31, 3))], dice)
    rooms = [("Gate post", "r-1a", True, 64), ("Old gate", "r-0b", False, 9)]
    _mailrooms(home / ".config/quillbox", "9.0-lts", rooms, dice)


def _signs(folder: Path, dice: _Dice, count: int) -> None:
    for number in range(1, count + 1):
        name = f"{dice.choice(_GENERA)} {dice.choice(_EPITHETS)} {number}"
        sign = folder / f"{name}.sign"
        moment = datetime(2016 + number % 9, 1 + number % 12, 5, tzinfo=UTC)
        size = dice.choice(("A6", "A5", "stake"))
        _text(sign / "sign.json", json.dumps({"text": name, "size": size}) + "\n", moment)
        (sign / "assets").mkdir()
        for asset in range(1 + number % 3):
            _plate(sign / "assets" / f"{asset}.png", dice, moment.date())


def _reader(root: Path, listed: list[tuple[str, str, bool, int]], dice: _Dice) -> None:
    entries = []
    for name, folder, current, kept in listed:
        entries.append(f"  - who: {name}\n    place: readers/{folder}\n    current: {current}\n")
        titles = [(f"{dice.choice(_GENERA)} {n}", f"https://fern{n}.example/") for n in range(kept)]
        days = [(date(2015, 1, 9) + timedelta(days=9 * n)).isoformat() for n in range(kept * 7)]
        reader = root / "readers" / folder
        brackenwend.create_reader(reader, titles, [(d, "https://fern.example/") for d in days])
        for number in range(kept // 12):
            moment = datetime(2020, 2, 3 + number, tzinfo=UTC)
            _text(reader / "pages" / f"page {number}.html", "<p>kept\n", moment)
    (root / "readers" / "unused").mkdir()
    _text(root / "readers.yaml", "readers:\n" + "".join(entries), datetime(2024, 2, 3, tzinfo=UTC))


def _mailrooms(
    root: Path, release: str, listed: list[tuple[str, str, bool, int]], dice: _Dice
) -> None:
    rooms = []
    for label, folder, chosen, letters in listed:
        rooms.append({"folder": f"rooms/{folder}", "label": label, "chosen": chosen})
        quillbox.create_room(root / "rooms" / folder)
        _letters(root / "rooms" / folder, letters, dice)
    (root / "rooms" / "r-new").mkdir()
    rooms.append({"folder": "rooms/r-new", "label": "Started once", "chosen": False})
    text = json.dumps({"written-by": release, "rooms": rooms}, indent=2, ensure_ascii=False)
    _text(root / "mailrooms.json", text + "\n", datetime(2024, 6, 1, tzinfo=UTC))


def _letters(folder: Path, letters: int, dice: _Dice) -> None:
    accounts = ("office@marrowfield.example", "seeds@marrowfield.example")
    first = date(2009, 3, 2)
    connection = quillbox.open_letters(folder)
    with connection:
        connection.executemany("insert into account values (?, ?)", [(a, a[:6]) for a in accounts])
        for number in range(letters):
            day = first + timedelta(days=17 * number)
            row = (dice.choice(accounts), "in", f"grower{number % 7}@fen.example")
            subject = f"{dice.choice(_GENERA)}, {dice.choice(_REMARKS) or 'as agreed'}"
            connection.execute(
                "insert into letter (account, folder, sender, subject, sent)"
                " values (?, ?, ?, ?, ?)",
                (*row, subject, day.isoformat()),
            )
        people = [(f"Grower {n}", f"grower{n}@fen.example") for n in range(letters // 4)]
        connection.executemany("insert into contact (name, address) values (?, ?)", people)
    connection.close()
    rules = [{"from": f"grower{n}@fen.example", "to": "Growers"} for n in range(3)]
    _text(folder / "filters.json", json.dumps({"rules": rules}), datetime(2022, 3, 1, tzinfo=UTC))
    _text(folder / "cache/1.tmp", "cached\n", datetime(2022, 3, 1, tzinfo=UTC))
    if letters:
        for account in accounts:
            quillbox.keep_password(folder, account)


def _collection(folder: Path, dice: _Dice, specimens: int) -> None:
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


def _plate(path: Path, dice: _Dice, found: date) -> None:
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
