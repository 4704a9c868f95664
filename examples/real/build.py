"""Machines for the recipes of real programs, made by the programs themselves.

    python examples/real/build.py FOLDER [PROGRAM…]

FOLDER gets the recipes, their rehearsals, and below machines/ two Linux machines for each program:
one on which somebody has worked with it, and one on which it is only installed. They are isolated,
so bubblewrap is needed (Debian: apt install bubblewrap), and each program's own package. What is
not installed is left out, with a line that says so. Then:

    widetrail rehearse FOLDER --coverage
"""

from __future__ import annotations

import shutil
import sqlite3
import sys
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path

from widetrail.errors import InputUnusable
from widetrail.library.folder_machines import add_program
from widetrail.machine import Channels, FolderMachine

HERE = Path(__file__).parent

MACHINE = """\
machine: {name}
platform: linux
system: '12'
user: {user}
home: {home}
isolated: yes
disks:
  /: {{folder: disk}}
  /data: {{folder: data}}
"""


class Workshop:
    """A machine that is being made: files are put there, and its programs are run."""

    def __init__(self, folder: Path, user: str, *packages: str, home: str = "") -> None:
        for disk in ("disk", "data"):
            (folder / disk).mkdir(parents=True)
        told = MACHINE.format(name=folder.name, user=user, home=home or f"/home/{user}")
        (folder / "machine.yaml").write_text(told)
        for package in packages:
            add_program(folder, package)
        self.machine = FolderMachine(folder)
        self.home = self.machine.root("home")
        self.folder(self.home)

    def folder(self, path: str) -> None:
        """Make a folder with those above it."""
        self.machine.host(path).mkdir(parents=True, exist_ok=True)

    def put(self, path: str, text: str, mode: int = 0o644) -> None:
        """Write a file."""
        host = self.machine.host(path)
        host.parent.mkdir(parents=True, exist_ok=True)
        host.write_text(text, "utf-8")
        host.chmod(mode)

    def run(self, program: str, *arguments: str, given: str = "") -> str:
        """Run a program with what it is ``given`` as input, and return what it prints."""
        path, channels = self.machine.command(program) or program, Channels(given.encode())
        done = self.machine.start(path, arguments, channels=channels)
        if done.status != 0:
            raise SystemExit(f"{program} {' '.join(arguments)}: {done.errors or done.output}")
        return done.output


def taskwarrior(machines: Path) -> None:
    """Tasks with all that Taskwarrior keeps of one, in a folder on another disk."""
    old = Workshop(machines / "taskwarrior-old", "alva", "taskwarrior")
    old.put(
        f"{old.home}/.taskrc",
        "data.location=/data/alva/tasks\n"
        "# colours that can be told apart\ncolor.due=rgb550\n"
        "report.next.labels=Nr,Was,Wann\nuda.season.type=string\n",
    )
    old.folder("/data/alva/tasks")

    def task(*words: str) -> None:
        old.run("task", "rc.confirmation=no", "rc.bulk=0", *words)

    task("add", "project:garden.moss", "due:2027-03-01", "+wet", "Water the moss on the wall")
    task("add", "project:garden", "priority:H", "Order bäume — Quitte, Mispel, Speierling")
    task("add", "depends:1", "season:autumn", 'Rake "the long path"')
    task("add", "due:2027-01-01", "recur:monthly", "until:2027-06-01", "Read the rain gauge")
    task("add", "Lend the ladder to Piet")
    task("add", "Throw the old hose away")
    task("1", "annotate", "the can has a hole")
    task("rc.recurrence.confirmation=no", "list")
    task("5", "done")
    task("6", "delete")
    task("list")
    old.put("/data/alva/tasks/hooks/on-add-as-it-is", "#!/bin/sh\ncat\n", 0o755)
    Workshop(machines / "taskwarrior-new", "brook", "taskwarrior")


def feed(title: str, count: int) -> str:
    """Return a feed with so many articles."""
    articles = "".join(
        f"<item><title>{title} {n}</title><link>https://moss.example/{n}</link>"
        f"<guid>{title}-{n}</guid><pubDate>Mon, 0{n} Jun 2026 10:00:00 GMT</pubDate>"
        f"<description>Text {n}</description></item>"
        for n in range(1, count + 1)
    )
    return (
        f'<?xml version="1.0"?><rss version="2.0"><channel><title>{title}</title>'
        f"<link>https://moss.example/</link><description>d</description>{articles}</channel></rss>"
    )


def newsboat(machines: Path) -> None:
    """Feeds that lie on a disk, of which some articles were read and one is marked."""
    old = Workshop(machines / "newsboat-old", "alva", "newsboat")
    old.put("/data/feeds/moss.xml", feed("Moss notes", 5))
    old.put("/data/feeds/ferns.xml", feed("Ferns – Überblick", 3))
    moss, ferns = "file:///data/feeds/moss.xml", "file:///data/feeds/ferns.xml"
    old.put(
        f"{old.home}/.newsboat/urls",
        f'{moss} garden "~Moss"\n{ferns}\n"query:Garden:tags # \\"garden\\""\n',
    )
    old.put(
        f"{old.home}/.newsboat/config",
        f'bookmark-cmd "{old.home}/bin/mark.sh"\nauto-reload no\n# quiet\n',
    )
    old.put(f"{old.home}/bin/mark.sh", "#!/bin/sh\n", 0o755)
    old.run("newsboat", "-x", "reload")
    with closing(sqlite3.connect(old.machine.host(f"{old.home}/.newsboat/cache.db"))) as cache:
        cache.execute(
            "update rss_item set unread = 0 where guid in ('Moss notes-1', 'Moss notes-2')"
        )
        cache.execute("update rss_item set flags = 'k' where guid = 'Moss notes-2'")
        cache.commit()
    Workshop(machines / "newsboat-new", "brook", "newsboat", home="/data/home/brook")


def abook(machines: Path) -> None:
    """An address book that abook made of vCards."""
    old = Workshop(machines / "abook-old", "alva", "abook")
    people = [("Alma Brook", "alma"), ("Piet Kalmus", "piet"), ("Greta Holm", "greta")]
    cards = (
        f"BEGIN:VCARD\nVERSION:3.0\nFN:{name}\nN:{name.split()[1]};{name.split()[0]}\n"
        f"EMAIL:{word}@gate.example\nTEL;TYPE=HOME:0123 45{len(name)}\nEND:VCARD\n"
        for name, word in people
    )
    old.put(f"{old.home}/people.vcf", "".join(cards))
    old.folder(f"{old.home}/.abook")
    book = f"{old.home}/.abook/addressbook"
    taken = ("--informat", "vcard", "--infile", f"{old.home}/people.vcf")
    old.run("abook", "--convert", *taken, "--outformat", "abook", "--outfile", book)
    old.put(f"{book}~", "what it was before")
    old.put(f"{old.home}/.abook/abookrc", "# mine\nset show_cursor=true\n")
    Workshop(machines / "abook-new", "brook", "abook", home="/data/home/brook")


def git(machines: Path) -> None:
    """Settings that Git itself wrote, with files that they name, and passwords that it keeps."""
    old = Workshop(machines / "git-old", "alva", "git")
    own = f"{old.home}/.config/git"
    for name, value in (
        ("user.name", "Alva Brook"),
        ("user.email", "alva@gate.example"),
        ("alias.last", "log -1 HEAD"),
        ("core.excludesfile", f"{own}/ignore"),
        ("credential.helper", "store"),
        ("include.path", f"{own}/work.inc"),
    ):
        old.run("git", "config", "--global", name, value)
    old.put(f"{own}/ignore", "# everywhere\nbuild/\n*.swp\n")
    old.put(f"{own}/work.inc", "[alias]\n\tst = status\n")
    for host, word in (("forge.example", "fern"), ("mill.example", "moss")):
        told = f"protocol=https\nhost={host}\nusername=alva\npassword={word}\n\n"
        old.run("git", "credential", "approve", given=told)
    Workshop(machines / "git-new", "brook", "git", home="/data/home/brook")


PROGRAMS: dict[str, Callable[[Path], None]] = {
    "taskwarrior": taskwarrior,
    "newsboat": newsboat,
    "abook": abook,
    "git": git,
}
"""What makes the machines of each program."""


def build(folder: Path, wanted: Sequence[str] = tuple(PROGRAMS)) -> dict[str, str]:
    """Make recipes, rehearsals and machines in FOLDER; return why programs were left out."""
    left = {}
    (folder / "machines").mkdir(parents=True, exist_ok=True)
    for name in wanted:
        try:
            PROGRAMS[name](folder / "machines")
        except InputUnusable as error:
            left[name] = str(error)
            continue
        for file in sorted((HERE / "recipes").glob(f"{name}.*")):
            shutil.copy(file, folder / file.name)
    return left


def main() -> None:
    if len(sys.argv) < 2:
        raise SystemExit(__doc__)
    for name, why in build(Path(sys.argv[1]), sys.argv[2:] or tuple(PROGRAMS)).items():
        print(f"{name} was left out: {why}")


if __name__ == "__main__":
    main()
