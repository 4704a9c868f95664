"""Trace a program of a folder machine on Windows; print what was found."""

import json
import sqlite3
import sys
import tempfile
from pathlib import Path

from widetrail.machine import FolderMachine
from widetrail.tracing import load_script, run_trace
from widetrail.tracing.markers import row_counts

PROGRAM = """
import json, os, sqlite3, sys
home = os.environ["APPDATA"]
settings = os.path.join(home, "Shelf", "shelf.json")
told = json.load(open(settings, encoding="utf-8"))
books = told["books"].replace("C:\\\\Users\\\\alva", os.environ["USERPROFILE"])
data = sqlite3.connect(os.path.join(books, "books.db"))
if sys.argv[1] == "call":
    data.execute("update book set name = ? where rowid = 2", sys.argv[2:])
    data.commit()
else:
    print("Books:", *[row[0] for row in data.execute("select name from book")])
    print(*sorted(os.listdir(books)))
"""

assert sys.platform == "win32"
with tempfile.TemporaryDirectory() as above:
    folder = Path(above) / "machines" / "desk"
    home = folder / "c" / "Users" / "alva"
    books, kept = home / "Documents" / "Books of Alva", home / "AppData/Roaming/Shelf"
    for one in (books, kept, folder / "c" / "Program Files" / "Shelf"):
        one.mkdir(parents=True)
    with sqlite3.connect(books / "books.db") as data:
        data.execute("create table book (name text)")
        data.executemany("insert into book values (?)", [("Mosses",), ("Ferns",)])
    data.close()
    (books / "größe.txt").write_text("x")
    (home / "letter.txt").write_text("no business of a program's")
    (kept / "shelf.json").write_text(
        json.dumps({"books": r"C:\Users\alva\Documents\Books of Alva"})
    )
    (folder / "c" / "Program Files" / "Shelf" / "shelf.exe").write_text("")
    (Path(above) / "shelf.py").write_text(PROGRAM)
    (folder / "machine.yaml").write_text(
        "machine: desk\nplatform: windows\nsystem: '10.0'\nuser: alva\n"
        "programs:\n  - path: C:/Program Files/Shelf/shelf.exe\n"
        f"    start: {json.dumps([sys.executable, '-X', 'utf8', str(Path(above) / 'shelf.py')])}\n"
        "disks: {C: {folder: c}}\n"
    )
    script = Path(above) / "shelf.trace.yaml"
    script.write_text(
        "trace: a shelf\nmachine: desk\nprogram: shelf\nscreen: [shelf, list]\n"
        "idle: 1\nstarts: 2\nacts:\n"
        "  - {did: called it, marker: Bachstelze 7, run: [[shelf, call, Bachstelze 7]]}\n"
    )
    trace = run_trace(load_script(script), folder.parent)
    machine = FolderMachine(folder)
    told = {
        "eyes": trace.eyes,
        "needed": sorted({s.part.path for s in trace.shows if s.needed and s.part.is_file}),
        "told": [(t.place, t.value.at, t.proved) for t in trace.tells],
        "cells": [
            (v.at, v.before, v.after) for a in trace.acted for t in a.changed for v in t.values
        ],
        "written": sorted({t.path for r in trace.runs for t in r.touched if "written" in t.ways}),
        "idle": [t.path for r in trace.runs if r.kind == "idle" for t in r.touched],
        "rows": row_counts(machine, "C:/Users/alva/Documents/Books of Alva/books.db"),
    }
sys.stdout.buffer.write(json.dumps(told).encode())
