"""The demo world on disk: Marrowfield Botanic Garden's machines, media and recipes.

Everything is made from a fixed seed, so the same call gives the same records, names and times.
"""

from __future__ import annotations

import json
import os
import plistlib
import shutil
from datetime import UTC, date, datetime, timedelta
from importlib.resources import as_file, files
from pathlib import Path

from widetrail.licence.service import PUBLIC, make_service
from widetrail_demo.brackenwend import command as brackenwend
from widetrail_demo.desk_settings import (
    REGISTRY,
    bothy,
    desk_keys,
    desk_preferences,
    expanded,
    write_desk,
    write_registry,
)
from widetrail_demo.herbarium import (
    EPITHETS,
    GENERA,
    SPOTS,
    Dice,
    plate,
    write_collection,
    write_text,
)
from widetrail_demo.machine_files import linux_machine, macos_machine, windows_machine
from widetrail_demo.mailrooms import LETTERS, write_mailrooms
from widetrail_demo.other_programs import (
    SERIALS,
    active_licence,
    write_bed_plans,
    write_commonbed,
    write_dewcast,
    write_greenhouses,
    write_ledgers,
    write_scans,
    write_school_visits,
    write_wicketleaf,
)

SEED = 19620421

_NEW = datetime(2026, 10, 1, tzinfo=UTC)


RECIPES = ("recipes", "conversions", "traces")
"""The folders of recipes: of programs, and from one program to another; and scripts of traces."""


def build_world(folder: Path, seed: int = SEED, *, small: bool = False) -> None:
    """Make machines, media and recipes in ``folder``, which is made where it is missing.

    A ``small`` world has the same machines with a few things of each sort, for rehearsals that are
    stopped a thousand times.

    Raises:
        FileExistsError: The world is there already.
    """
    machines = folder / "machines"
    machines.mkdir(parents=True)
    dice = Dice(seed)
    dice.small = small
    _potting_shed(machines / "potting-shed", dice)
    _glass_office(machines / "glass-office", dice)
    _seed_vault(machines / "seed-vault", dice)
    _herbarium_loft(machines / "herbarium-loft", dice)
    _gatehouse(machines / "gatehouse", dice)
    bothy(machines / "bothy")
    linux_machine(machines / "visitor-hall", "visitor-hall", "visitors", {"Loamlens-errand": "4.6"})
    _maker(folder / "maker", machines)
    medium = folder / "media" / "usb-stick"
    medium.mkdir(parents=True)
    text = "medium: the green memory stick\nsize: 16 GiB\nformat: exFAT\n"
    (medium / "medium.yaml").write_text(text, encoding="utf-8")
    for kind in RECIPES:
        (folder / kind).mkdir()
        copy_recipes(folder / kind)
    for name in ("catalogue.yaml", "policy.yaml", "keyring.yaml"):
        with as_file(files("widetrail_demo") / name) as own:
            shutil.copyfile(own, folder / name)
    _settle_times(machines)


def _settle_times(folder: Path) -> None:
    """Give what was written just now the time of the last day in the garden's world."""
    last = datetime(2026, 10, 30, 17, 5, tzinfo=UTC).timestamp()
    for path in folder.rglob("*"):
        if path.stat().st_mtime > last:
            os.utime(path, (last, last))


def copy_recipes(folder: Path) -> None:
    """Copy the demo's recipes and rehearsals of the kind that ``folder`` is called by into it."""
    kind = folder.name if folder.name in RECIPES else RECIPES[0]
    with as_file(files("widetrail_demo") / kind) as source:
        for path in sorted(source.glob("*.yaml")):  # the answers are beside them
            shutil.copyfile(path, folder / path.name)


def _potting_shed(folder: Path, dice: Dice) -> None:
    programs = {
        "Sporelog": "5.2",
        "Quillbox": "8.4",
        "Frondsign": "3.9",
        "Huemoss": "2.6",
        "Tillbook": "6.1",
        "SeedlingQuest": "3.0",
        "Desk": "2.0",
        "Dewcast": "2.4",
        "Loamlens": "4.2",
        "Trellisdesk": "5.3",
        "Mistvane": "2.0",
    }
    home = windows_machine(folder, "potting-shed", "ines", programs, system="10.0")
    collection = folder / "disks/D/Herbarium/Sporelog"
    scans = home / "Pictures/Plate scans"
    write_collection(collection, dice, specimens=dice.some(412, 12))
    write_scans(collection, scans, "C:\\Users\\ines\\Pictures\\Plate scans", Dice(SEED))
    _sporelog_settings(home)
    values = {
        "Speed": "dword:00000008",
        "Left": '"yes"',
        "Folder": r'"C:\\Users\\ines\\Documents"',
        "Backdrop": expanded(r"%USERPROFILE%\Pictures\beds – May.png"),
        "Grip": "hex:03,e8,00,ff",
    }
    write_registry(folder, REGISTRY + desk_keys(values, "00000500"))
    rooms = [
        ("Garden post", "garden-post", dice.some(230, 6)),
        ("Plant sale", "plant-sale", dice.some(36, 4)),
    ]
    write_mailrooms(home / "AppData/Roaming/Marram/Quillbox", "8.4", rooms, dice)
    _signs(folder / "disks/D/Herbarium/Labels", dice, dice.some(11, 2))
    text = '<settings grid="5">\n  <library folder="D:\\Herbarium\\Labels"/>\n</settings>\n'
    path = home / "AppData/Roaming/Frondsign/settings.xml"
    write_text(path, '<?xml version="1.0"?>\n' + text, datetime(2021, 7, 1, tzinfo=UTC))
    write_bed_plans(home / "Documents/Huemoss", dice)
    write_ledgers(folder, home, dice)
    write_school_visits(home / "AppData/Roaming/SeedlingQuest", dice)
    pinned = ["D:/Herbarium", "C:/Users/ines/Documents"]
    write_desk(home, ["Sporelog", "Quillbox", "Tillbook"], pinned)
    write_commonbed(home / "Commonbed", dice)
    recordings = folder / "disks/D/Field/Recordings", "D:/Field/Recordings"
    lists = home / "Documents/Listening", "C:/Users/ines/Documents/Listening"
    roaming, local = home / "AppData/Roaming", home / "AppData/Local"
    write_dewcast(roaming / "Dewcast", local, recordings, lists, dice.some(14, 3), "dusk")
    own = Dice(SEED)
    _scanned(home, own, dice.some(9, 2))
    write_greenhouses(roaming / "Trellisdesk", own, dice.some(6, 2))
    _letters(home)


def _letters(home: Path) -> None:
    """Write documents that no program of the demo keeps."""
    for number, name in enumerate(LETTERS):
        moment = datetime(2011 + number, 3, 7, 10, tzinfo=UTC)
        write_text(home / "Documents" / name, f"{name}\n", moment)


def _sporelog_settings(home: Path) -> None:
    """Write what Sporelog was told by its person."""
    settings = home / "AppData/Roaming/Sporelog"
    write_text(
        settings / "sporelog.ini",
        "; Sporelog keeps this file itself\r\n[sporelog]\r\nrelease = 5.2\r\n\r\n"
        "[collection]\r\n; moved when the disk ran full\r\nfolder = D:\\Herbarium\\Sporelog\r\n\r\n"
        "[view]\r\ncolumns = number,name,found,shelf\r\norder = found\r\n",
        datetime(2024, 11, 3, 9, 12, tzinfo=UTC),
    )
    for name, wanted in (("found before 2000", "found<2000"), ("Fougères à revoir", "shelf=8")):
        moment = datetime(2019, 2, 14, 16, 40, tzinfo=UTC)
        write_text(settings / "views" / f"{name}.view", f"[view]\nonly = {wanted}\n", moment)


def _glass_office(folder: Path, dice: Dice) -> None:
    programs = {
        "Sporelog": "5.4",
        "Quillbox": "9.1",
        "Huemoss": "3.2",
        "Tillbook": "6.4",
        "SeedlingQuest": "3.1",
        "Desk": "2.1",
        "Dewcast": "2.6",
        "Loamlens": "4.6",
        "Trellisdesk": "6.0",
        "Mistvane": "2.1",
    }
    home = windows_machine(folder, "glass-office", "imarsh", programs, system="11.0")
    write_collection(home / "Documents/Sporelog", dice, specimens=3)
    values = {
        "Speed": "dword:00000005",
        "Folder": r'"C:\\Users\\imarsh\\Desktop"',
        "Wheel": "dword:00000003",
    }
    write_registry(folder, REGISTRY.replace('"8.4"', '"9.1"') + desk_keys(values, "00000a00"))
    write_mailrooms(
        home / "AppData/Roaming/Marram/Quillbox", "9.1", [("Mailroom", "first", 0)], dice
    )
    (home / "Documents/Huemoss/Palettes").mkdir(parents=True)
    (home / "Documents/Huemoss/Stamps").mkdir()
    write_text(
        home / "AppData/Roaming/Tillbook/tillbook.json",
        '{"ledgers": []}',
        datetime(2026, 10, 1, tzinfo=UTC),
    )
    write_desk(home, ["Quillbox"], [])
    write_commonbed(folder / "services/commonbed", dice)
    write_wicketleaf(home / "AppData")
    own, shown = home / "Documents/Dewcast", "C:/Users/imarsh/Documents/Dewcast"
    recordings = own / "Recordings", f"{shown}/Recordings"
    lists = own / "Lists", f"{shown}/Lists"
    roaming, local = home / "AppData/Roaming", home / "AppData/Local"
    write_dewcast(roaming / "Dewcast", local, recordings, lists, 1, "plain")
    write_text(roaming / "Loamlens/loamlens.ini", "[loamlens]\nedition = institute\n", _NEW)
    (roaming / "Trellisdesk").mkdir()
    write_text(
        home / "AppData/Roaming/Sporelog/sporelog.ini",
        "[sporelog]\r\nrelease = 5.4\r\n\r\n[view]\r\ncolumns = number,name,found\r\n"
        "order = number\r\n",
        datetime(2026, 10, 1, 8, tzinfo=UTC),
    )


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


def _scanned(home: Path, dice: Dice, count: int) -> None:
    """Make root scans, and a licence that is active."""
    for number in range(1, count + 1):
        day = date(2017, 4, 3) + timedelta(days=97 * number)
        bed = dice.choice(SPOTS)
        scan = {"bed": bed, "day": day.isoformat(), "lengths": dice.sample(range(20, 400), 12)}
        moment = datetime(day.year, day.month, day.day, 15, tzinfo=UTC)
        write_text(
            home / f"Documents/Loamlens/{number:03d} {bed}/scan.json", json.dumps(scan), moment
        )
    settings, moment = home / "AppData/Roaming/Loamlens", datetime(2021, 2, 1, tzinfo=UTC)
    write_text(settings / "loamlens.ini", "[loamlens]\nedition = institute\n", moment)
    write_text(settings / "licence.json", active_licence(SERIALS["Loamlens"]), moment)


def _seed_vault(folder: Path, dice: Dice) -> None:
    """The old macOS laptop of tomas: signs still in the folder of an early release."""
    programs = {
        "Frondsign": "3.8.1",
        "Brackenwend": "11.2",
        "Quillbox": "8.2",
        "Dewcast": "2.5",
        "Desk": "3.4",
    }
    home = macos_machine(folder, "seed-vault", "tomas", programs)
    _signs(home / "Documents/Frondsign/Labels", dice, dice.some(14, 2))
    path = home / "Library/Preferences/example.fernlight.frondsign.plist"
    path.write_bytes(plistlib.dumps({"Grid": 7, "Window": [12, 40]}, fmt=plistlib.FMT_BINARY))
    desk_preferences(home, {"Speed": 6, "Left": True}, "/Users/tomas/Documents")
    support = home / "Library/Application Support"
    readers = [("Tomas", "brook-11", True, dice.some(48, 12)), ("Helpers", "g0", False, 2)]
    _reader(support / "Brackenwend", readers, dice)
    recordings = home / "Music/Field", "/Users/tomas/Music/Field"
    lists = home / "Documents/Dewcast/Lists", "/Users/tomas/Documents/Dewcast/Lists"
    write_dewcast(
        support / "Dewcast", home / "Library/Caches", recordings, lists, dice.some(5, 3), "fog"
    )
    write_mailrooms(
        support / "quillbox", "8.2", [("Seed exchange", "seed-exchange", dice.some(120, 5))], dice
    )


def _herbarium_loft(folder: Path, dice: Dice) -> None:
    """Its replacement: signs moved by the settings, in binary preferences, to a shared folder."""
    programs = {
        "Frondsign": "4.1",
        "Brackenwend": "12.0.1",
        "Quillbox": "9.1",
        "Desk": "3.5",
    }
    home = macos_machine(folder, "herbarium-loft", "tomasv", programs)
    _signs(home / "Signs for beds", dice, 2)
    told = {"Library": {"Folder": "~/Signs for beds"}, "Grid": 5}
    path = home / "Library/Preferences/example.fernlight.frondsign.plist"
    path.write_bytes(plistlib.dumps(told, fmt=plistlib.FMT_BINARY))
    desk_preferences(home, {"Speed": 2, "Wheel": 1}, "~/Desktop")
    support = home / "Library/Application Support"
    _reader(support / "Brackenwend", [("Own shelf", "r1", True, 0)], dice)
    kept = folder.parent / "seed-vault/disks/root/Users/tomas/Library/Application Support"
    shutil.copytree(kept / "Brackenwend/readers/brook-11", folder / "services/brackenwend/tomas")


def _gatehouse(folder: Path, dice: Dice) -> None:
    """The Linux desk: folders named by user-dirs, a program that only its output tells of."""
    programs = {
        "Frondsign": "4.1",
        "Brackenwend": "12.0",
        "Quillbox": "9.0-lts",
        "Dewcast": "2.6",
        "Desk": "1.2",
    }
    home = linux_machine(folder, "gatehouse", "piet", programs)
    moment = datetime(2024, 5, 3, tzinfo=UTC)
    dirs = 'XDG_DESKTOP_DIR="$HOME/Schreibtisch"\nXDG_DOCUMENTS_DIR="$HOME/Papiere"\n'
    write_text(home / ".config/user-dirs.dirs", dirs, moment)
    _signs(home / "Schilder", dice, 9)
    text = 'grid = 5\n\n[library]\nfolder = "file:///home/piet/Schilder"  # moved\n'
    write_text(home / ".config/frondsign/settings.toml", text, moment)
    desk = "speed=7\nleft=true\nfolder='file:///home/piet/Papiere'\n\n"
    top = "example/marrowfield/desk"
    desk = f"[{top}/pointer]\n{desk}[{top}/screens]\nwidth=1280\n"
    (folder / "desktop.dconf").write_text(desk, encoding="utf-8")
    _reader(home / ".config/brackenwend", [("Piet", "p-77", True, dice.some(31, 3))], dice)
    rooms = [("Gate post", "gate-post", 64), ("Old gate", "old-gate", 9)]
    write_mailrooms(home / ".config/quillbox", "9.0-lts", rooms, dice)


def _signs(folder: Path, dice: Dice, count: int) -> None:
    for number in range(1, count + 1):
        name = f"{dice.choice(GENERA)} {dice.choice(EPITHETS)} {number}"
        sign = folder / f"{name}.sign"
        moment = datetime(2016 + number % 9, 1 + number % 12, 5, tzinfo=UTC)
        size = dice.choice(("A6", "A5", "stake"))
        write_text(sign / "sign.json", json.dumps({"text": name, "size": size}) + "\n", moment)
        (sign / "assets").mkdir()
        for asset in range(1 + number % 3):
            plate(sign / "assets" / f"{asset}.png", dice, moment.date())


def _reader(root: Path, listed: list[tuple[str, str, bool, int]], dice: Dice) -> None:
    entries = []
    for name, folder, current, kept in listed:
        entries.append(f"  - who: {name}\n    place: readers/{folder}\n    current: {current}\n")
        titles = [(f"{dice.choice(GENERA)} {n}", f"https://fern{n}.example/") for n in range(kept)]
        days = [(date(2015, 1, 9) + timedelta(days=9 * n)).isoformat() for n in range(kept * 7)]
        reader = root / "readers" / folder
        brackenwend.create_reader(reader, titles, [(d, "https://fern.example/") for d in days])
        for number in range(kept // 12):
            moment = datetime(2020, 2, 3 + number, tzinfo=UTC)
            write_text(reader / "pages" / f"page {number}.html", "<p>kept\n", moment)
    (root / "readers" / "unused").mkdir()
    write_text(
        root / "readers.yaml", "readers:\n" + "".join(entries), datetime(2024, 2, 3, tzinfo=UTC)
    )
