"""A small program for tests: keeps notes, and misbehaves in every way a real one may."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

NOTES = Path.home() / "notes"


def real(path: str) -> Path:
    """Return where a path of the machine lies for this system."""
    return Path(json.loads(os.environ["FOLDER_MACHINE_DISKS"])[""] + path)


def server(verb: str, name: str = "", path: str = "") -> None:
    """Do what is asked of the server."""
    rows = Path.home() / ".server" / name
    match verb:
        case "list":
            print("\n".join(sorted(p.name for p in rows.glob("*"))))
        case "rows":
            print(f"{len(rows.read_text().splitlines())} rows")
        case "dump":
            real(path).write_text(rows.read_text())
        case "restore":
            rows.parent.mkdir(exist_ok=True)
            rows.write_text(real(path).read_text())
        case "drop":
            rows.unlink(missing_ok=True)


def main(command: str, *more: str) -> None:
    """Do what the first argument says."""
    match command:
        case "say":
            print("\n".join(more))
        case "locked":  # opens with the passphrase only, and ends with 3 as it always does
            if sys.stdin.readline().strip() != "reed bunting":
                sys.exit(1)
            print(f"{len(list(NOTES.glob('*.txt')))} pages")
            sys.exit(3)
        case "server":  # keeps databases of rows, somewhere of its own
            server(*more)
        case "count":
            NOTES.mkdir(exist_ok=True)
            with (NOTES / "count").open("a") as file:
                file.write("once\n")
            print("counted")
        case "give":
            real(more[0]).write_text("".join(p.read_text() for p in sorted(NOTES.glob("*.txt"))))
        case "take":
            NOTES.mkdir(exist_ok=True)
            (NOTES / "taken.txt").write_text(real(more[0]).read_text())
        case "give-folder":
            top = real(more[0].removeprefix("--to="))
            for note in sorted(NOTES.glob("*.txt")):
                (top / note.stem / "deep").mkdir(parents=True)
                (top / note.stem / "deep" / note.name).write_text(note.read_text())
            (top / "empty").mkdir()
            if "--link" in more:
                (top / "link").symlink_to("/etc/passwd")
        case "empty-folder":
            real(more[0]).mkdir()
        case "give-two":
            real(more[0]).write_text("first")
            real(more[1]).write_text("second")
        case "take-folder":
            NOTES.mkdir(exist_ok=True)
            for path in sorted(real(more[0]).rglob("*.txt")):
                (NOTES / path.name).write_text(path.read_text())
            (NOTES / "folders").write_text(str(len(list(real(more[0]).iterdir()))))
        case "errand":
            real(more[1]).write_text(f"answered: {real(more[0]).read_text()}")
        case "lines":
            NOTES.mkdir(exist_ok=True)
            (NOTES / "stdin").write_text(sys.stdin.read())
        case "about":
            facts = {"argv": sys.argv[1:], "here": os.listdir(), "word": os.environ.get("WORD")}
            NOTES.mkdir(exist_ok=True)
            (NOTES / "about").write_text(json.dumps(facts))
        case "spoil":  # changes its notes, half writes a file, and fails
            (NOTES / "one.txt").write_text("spoilt")
            (NOTES / "new.txt").write_text("new")
            if more:
                real(more[0]).write_text("half")
            sys.exit("fernbook: out of ink")
        case "bytes":
            sys.stdout.buffer.write(b"pages: \xff\xfe 3\n")
        case "flood":
            while True:
                print("x" * 65536)
        case "hang":
            time.sleep(60)
        case "die":
            os.kill(os.getpid(), signal.SIGSEGV)
        case "child":
            subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
        case "echo":  # shows what it was fed, as a careless program does
            print(sys.stdin.read())
            sys.exit(1)
        case "open":
            NOTES.mkdir(exist_ok=True)
            (NOTES / "lock").write_text(str(os.getpid()))
            signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
            try:
                time.sleep(60)
            finally:
                (NOTES / "lock").unlink()
        case "close":
            os.kill(int((NOTES / "lock").read_text()), signal.SIGTERM)
        case "begin":
            (NOTES / "session").write_text("begun")
        case "make":  # something of which there can be one
            if (NOTES / "session").exists():
                sys.exit("fernbook: there is one already")
            NOTES.mkdir(exist_ok=True)
            (NOTES / "session").write_text("made")
        case "end":
            (NOTES / "session").unlink()


if __name__ == "__main__":
    main(*sys.argv[1:])
