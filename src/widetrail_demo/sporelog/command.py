"""The command ``sporelog``."""

from __future__ import annotations

import argparse
import hashlib
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path

from widetrail_demo import here
from widetrail_demo.opening import held_open, tell_to_end
from widetrail_demo.sporelog import store


def main() -> None:
    """Run ``sporelog`` with the arguments of the command line."""
    arguments = _parser().parse_args()
    _first_start()
    match arguments.command:
        case "list":
            _list()
        case "open":
            _open(arguments.seconds)
        case "move":
            _move(arguments.folder)
        case "archive":
            _archive(here.real(arguments.to))
        case "take-in":
            _take_in(here.real(arguments.file), replace=arguments.replace)
        case "export":
            _export(arguments)
        case "bring-in":
            _bring_in(here.real(arguments.file), replace=arguments.replace)
        case "close":
            _close()
        case "curator":
            _curator(arguments.what)
        case "add":
            _add(arguments.name, arguments.found)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser("sporelog", description="Specimen records and plates.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print the collection as the screen shows it")
    opened = commands.add_parser("open", help="open the collection until told to end")
    opened.add_argument("--for", dest="seconds", type=float, default=3600.0)
    move = commands.add_parser("move", help="move the collection to another folder")
    move.add_argument("folder")
    add = commands.add_parser("add", help="add a specimen to the first shelf")
    add.add_argument("name")
    add.add_argument("--found", default="2026-01-15")
    archive = commands.add_parser("archive", help="write a proved archive of the collection")
    archive.add_argument("--to", required=True)
    take = commands.add_parser("take-in", help="open a proved archive as the collection")
    take.add_argument("file")
    take.add_argument("--replace", action="store_true", help="what is there goes")
    export = commands.add_parser("export", help="write all, a shelf or a folder to a file")
    export.add_argument("--to", required=True)
    what = export.add_mutually_exclusive_group(required=True)
    what.add_argument("--all", action="store_true")
    what.add_argument("--shelf", default="")
    what.add_argument("--folder", default="", help="the specimens of one finding spot")
    export.add_argument("--originals", choices=["inside", "left"], default="inside")
    bring = commands.add_parser("bring-in", help="add what an export holds")
    bring.add_argument("file")
    bring.add_argument("--replace", action="store_true", help="what is there goes")
    commands.add_parser("close", help="ask an open Sporelog to end")
    curator = commands.add_parser("curator", help="be the sole curator, so that nobody else writes")
    curator.add_argument("what", choices=["begin", "end"])
    return parser


def _first_start() -> None:
    settings = read = store.read_settings()
    if not read.has_section("sporelog"):
        settings["sporelog"] = {"release": here.release("5")}
        settings["view"] = {"columns": "number,name,found", "order": "number"}
        store.write_settings(settings)
    folder = store.collection_folder()
    if not folder.exists() and not settings.get("collection", "folder", fallback=""):
        store.create(folder)


def _collection() -> Path:
    folder = store.collection_folder()
    if not (folder / "specimens.db").is_file():
        sys.exit("sporelog: the collection is not where it was")
    return folder


def _list() -> None:
    folder = _collection()
    shelves = store.read_shelves(folder)
    specimens = [s for shelf in shelves for s in shelf.specimens]
    plates = sum(len(s.plates) for s in specimens)
    print(f"Sporelog: {len(specimens)} specimens, {len(shelves)} shelves, {plates} plates")
    print(f"Saved views: {', '.join(store.view_names()) or 'none'}")
    if store.curator_file().exists():
        print(f"Sole curator: {store.curator_file().read_text(encoding='utf-8')}")
    for shelf in shelves:
        print(f"\n{shelf.name} ({len(shelf.specimens)})")
        for specimen in shelf.specimens:
            print(_line(specimen, folder))


def _line(specimen: store.Specimen, folder: Path) -> str:
    line = f"  {specimen.number:>4}  {specimen.found}  {specimen.name}, {specimen.spot}"
    if specimen.remark:
        line += f" ({specimen.remark})"
    for file in specimen.plates:
        path = store.plate_path(folder, file)
        line += f" [{path.name}]" if path.is_file() else f" [{file} is missing]"
    return line


def _open(seconds: float) -> None:
    lock = _collection() / store.LOCK
    if lock.exists() and _alive(lock):
        sys.exit("sporelog: it is open already")
    with held_open(lock):
        print("Sporelog is open.", flush=True)
        time.sleep(seconds)


def _alive(lock: Path) -> bool:
    try:
        os.kill(int(lock.read_text()), 0)
    except (OSError, ValueError):
        return False
    return True


def _close() -> None:
    lock = _collection() / store.LOCK
    if lock.exists() and _alive(lock):
        tell_to_end(lock)


def _curator(what: str) -> None:
    file = store.curator_file()
    if what == "end":
        file.unlink(missing_ok=True)
        return
    if file.exists():
        sys.exit(f"sporelog: {file.read_text(encoding='utf-8')} is the sole curator already")
    file.write_text(here.user(), encoding="utf-8")


def _move(folder: str) -> None:
    target = here.real(folder)
    if target.exists():
        sys.exit(f"sporelog: there is something at {folder} already")
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.move(_collection(), target)
    settings = store.read_settings()
    written = folder.replace("/", "\\") if here.PLATFORM == "windows" else folder
    settings["collection"] = {"folder": written}
    store.write_settings(settings)


def _archive(to: Path) -> None:
    """Write all files with a list of their digests; releases before 5.4 cannot."""
    if tuple(map(int, here.release("5.0").split(".")[:2])) < (5, 4):
        sys.exit("sporelog: archives need release 5.4")
    if not store.curator_file().exists():
        sys.exit("sporelog: an archive is proved only for a sole curator; begin that first")
    import zipfile  # which a list has no use for

    folder = _collection()
    files = [p for p in sorted(folder.rglob("*")) if p.is_file() and p.name != store.LOCK]
    files = [p for p in files if p.parent.name != "thumbs"]  # they are drawn again
    deflated = zipfile.ZIP_DEFLATED
    with tempfile.TemporaryDirectory() as inside, zipfile.ZipFile(to, "w", deflated) as archive:
        names = {path: path.relative_to(folder).as_posix() for path in files}
        names |= _with_plates_inside(folder, Path(inside), names)
        files = list(names)
        for path, name in names.items():
            archive.write(path, name)
        proof = [f"{hashlib.sha256(p.read_bytes()).hexdigest()} {p.name}" for p in files]
        archive.writestr("PROOF", "\n".join(proof))
    shelves = store.read_shelves(folder)
    print(f"specimens: {sum(len(shelf.specimens) for shelf in shelves)}")


def _with_plates_inside(folder: Path, inside: Path, names: dict[Path, str]) -> dict[Path, str]:
    """Take plates that lie elsewhere in, and a database that says so, instead of the other."""
    elsewhere = store.plates_elsewhere(folder)
    database = folder / "specimens.db"
    del names[database]
    names.pop(database.with_name("specimens.db-wal"), None)
    for path in folder.glob("specimens.db*"):  # with its journal, which opening the copy takes in
        shutil.copyfile(path, inside / path.name)
    with store.database(inside) as connection:
        for file, path in elsewhere.items():
            connection.execute("update plate set file = ? where file = ?", (path.name, file))
    plates = {path: f"plates/{path.name}" for path in elsewhere.values()}
    return {**plates, inside / "specimens.db": "specimens.db"}


def _export(arguments: argparse.Namespace) -> None:
    from widetrail_demo.sporelog import exchange

    shelf, spot = arguments.shelf, arguments.folder
    left = arguments.originals == "left"
    try:
        count = exchange.export(
            _collection(), here.real(arguments.to), shelf, spot, leave_originals=left
        )
    except LookupError:
        sys.exit(f"sporelog: there is no shelf or folder {shelf or spot}")
    print(f"specimens: {count}")


def _bring_in(file: Path, *, replace: bool) -> None:
    from widetrail_demo.sporelog import exchange  # which a list has no use for

    print(f"specimens: {exchange.bring_in(file, _collection(), replace=replace)}")


def _take_in(file: Path, *, replace: bool) -> None:
    target = store.collection_folder()
    if (target / "specimens.db").exists() and store.read_shelves(target):
        if not replace:
            sys.exit("sporelog: there is a collection already; say --replace if it may go")
        shutil.rmtree(target)
    target.mkdir(parents=True, exist_ok=True)
    import zipfile

    with zipfile.ZipFile(file) as archive:
        proof = archive.read("PROOF").decode().splitlines()
        archive.extractall(target, [n for n in archive.namelist() if n != "PROOF"])
    taken = {hashlib.sha256(p.read_bytes()).hexdigest() for p in target.rglob("*") if p.is_file()}
    if {line.split(" ")[0] for line in proof} - taken:
        sys.exit("sporelog: the archive does not prove what is in it")
    print(f"taken in: {len(proof)} files")


def _add(name: str, found: str) -> None:
    with store.database(_collection()) as connection:
        number = connection.execute("select coalesce(max(number), 0) + 1 from specimen").fetchone()
        if connection.execute("select count(*) from shelf").fetchone() == (0,):
            connection.execute("insert into shelf values (1, 'Unsorted', 1)")
        connection.execute(
            "insert into specimen values (?, ?, ?, 'unknown', (select min(id) from shelf), '')",
            (*number, name, found),
        )


if __name__ == "__main__":
    main()
