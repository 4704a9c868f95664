"""Sporelog's exports: all specimens, those of a shelf or of a folder, in one file each.

A folder is a finding spot. The scanned originals go inside, but for those that lie on a disk of
their own, where they may be left: then the export only names them.
"""

from __future__ import annotations

import json
import shutil
import zipfile
from pathlib import Path

from widetrail_demo.sporelog import store

LISTED = "specimens.json"


def export(folder: Path, to: Path, shelf: str, spot: str, *, leave_originals: bool) -> int:
    """Write an export; return how many specimens it holds. An empty ``shelf`` or ``spot`` is any.

    Raises:
        LookupError: There is no such shelf or folder.
    """
    shelves = [s for s in store.read_shelves(folder) if shelf in ("", s.name)]
    listed = [(s.name, one) for s in shelves for one in s.specimens if spot in ("", one.spot)]
    if not shelves or (spot and not listed):
        raise LookupError
    with zipfile.ZipFile(to, "w", zipfile.ZIP_DEFLATED) as archive:
        told = []
        for name, specimen in listed:
            plates = []
            for file in specimen.plates:
                path = store.plate_path(folder, file)
                inside = path.parent == folder / "plates"
                if inside or not leave_originals:
                    archive.write(path, f"plates/{path.name}")
                plates.append(path.name if inside or not leave_originals else file)
            told.append({**specimen._asdict(), "shelf": name, "plates": plates})
        archive.writestr(LISTED, json.dumps(told, ensure_ascii=False))
    return len(listed)


def bring_in(file: Path, folder: Path, *, replace: bool) -> int:
    """Add what an export holds to the collection at ``folder``; return how many specimens came.

    A specimen that is there already is not there twice, and one whose number another has gets the
    next number.
    """
    if replace:
        shutil.rmtree(folder)
        store.create(folder)
    with zipfile.ZipFile(file) as archive, store.database(folder) as connection:
        for told in json.loads(archive.read(LISTED)):
            shelf = connection.execute(
                "select id from shelf where name = ?", (told["shelf"],)
            ).fetchone()
            if shelf is None:
                connection.execute(
                    "insert into shelf select coalesce(max(id), 0) + 1, ?,"
                    " coalesce(max(position), 0) + 1 from shelf",
                    (told["shelf"],),
                )
                shelf = connection.execute("select max(id) from shelf").fetchone()
            said = (told["name"], told["found"], told["spot"])
            known = "select 1 from specimen where name = ? and found = ? and spot = ?"
            if connection.execute(known, said).fetchone():
                continue
            number = told["number"]
            if connection.execute("select 1 from specimen where number = ?", (number,)).fetchone():
                number = connection.execute("select max(number) + 1 from specimen").fetchone()[0]
            connection.execute(
                "insert into specimen values (?, ?, ?, ?, ?, ?)",
                (number, *said, *shelf, told["remark"]),
            )
            connection.executemany(
                "insert into plate (specimen, file) values (?, ?)",
                [(number, plate) for plate in told["plates"]],
            )
        archive.extractall(folder, [n for n in archive.namelist() if n.startswith("plates/")])
        return len(json.loads(archive.read(LISTED)))
