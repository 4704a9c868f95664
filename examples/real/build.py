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

    def __init__(
        self, folder: Path, user: str, *packages: str, home: str = "", more: str = ""
    ) -> None:
        """``more`` is put at the end of its file."""
        for disk in ("disk", "data"):
            (folder / disk).mkdir(parents=True)
        told = MACHINE.format(name=folder.name, user=user, home=home or f"/home/{user}")
        (folder / "machine.yaml").write_text(told + more)
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
    """Settings that Git wrote, with files that they name, passwords, and a second work tree."""
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
    moss, fix = f"{old.home}/src/moss", f"{old.home}/src/moss-fix"
    old.run("git", "init", "-q", "-b", "main", moss)
    old.put(f"{moss}/notes.txt", "grows in the shade\n")
    old.run("git", "-C", moss, "add", "notes.txt")
    old.run("git", "-C", moss, "commit", "-q", "-m", "What is known of moss")
    old.run("git", "-C", moss, "worktree", "add", "-q", "-b", "fix", fix)
    old.put(f"{fix}/notes.txt", "grows in the wet\n")
    Workshop(machines / "git-new", "brook", "git", home="/data/home/brook")


def postgresql(machines: Path) -> None:
    """Two databases of a user's, in a server that runs while one of its clients does."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda p: int(p.parent.name))
    if not found:
        raise InputUnusable("package not installed", where="postgresql")
    tools = ("psql", "pg_dump", "pg_restore", "dropdb")
    listed = "".join(f"  - {{path: /usr/bin/{t}, start: [/opt/with-server, {t}]}}\n" for t in tools)
    for name, user in (("old", "alva"), ("new", "brook")):
        here = Workshop(machines / f"postgresql-{name}", user, more=f"programs:\n{listed}")
        for tool in tools:
            here.put(f"/usr/bin/{tool}", "", 0o755)
        here.put("/opt/with-server", SERVER.format(bin=found[-1]), 0o755)
        here.folder("/srv/cluster")
        here.run("psql", "-d", "postgres", "-c", "select 1")
        if name == "new":
            here.run("psql", "-d", "postgres", "-c", "create database own")
            continue
        for database in ("garden", "feldbuch ä"):
            here.run("psql", "-d", "postgres", "-c", f'create database "{database}"')
        here.run("psql", "-d", "garden", "-c", GARDEN)
        here.run("psql", "-d", "feldbuch ä", "-c", "create table note (words text, day date)")
        here.put(f"{here.home}/.psqlrc", "\\set QUIET 1\n\\pset null '∅'\n")
        here.put(f"{here.home}/.pgpass", "mill.example:5432:*:alva:fern\n", 0o600)


SERVER = """\
#!/bin/sh
# Runs a client with the server of this machine, which is ended with it.
cluster=/srv/cluster own=$(mktemp -d)
[ "$2" = --version ] && [ -f /opt/release ] && exec cat /opt/release  # of another computer
[ -f $cluster/PG_VERSION ] ||
  {bin}/initdb -D $cluster -U "$USER" -A trust -E UTF8 --locale C.UTF-8 -N >/dev/null || exit
{bin}/pg_ctl -D $cluster -w -l $own/log \\
  -o "-c listen_addresses= -c unix_socket_directories=$own -c fsync=off" start >/dev/null || exit
tool=$1
shift
PGHOST=$own {bin}/"$tool" "$@"
status=$?
{bin}/pg_ctl -D $cluster -m fast stop >/dev/null
rm -rf "$own"
exit $status
"""

GARDEN = """
create table bed (id serial primary key, name text not null, wet boolean default false);
create table plant (
  bed int references bed on delete cascade, name text, bought date, price numeric
);
create index plant_by_name on plant (lower(name));
create view wet_beds as select name from bed where wet;
create function beds() returns bigint language sql as 'select count(*) from bed';
insert into bed (name, wet) select 'bed ' || n, n % 2 = 0 from generate_series(1, 40) n;
insert into plant
  select n, 'Quitte ' || n, date '2026-03-01' + n, n * 1.10 from generate_series(1, 25) n;
"""


def keepassxc(machines: Path) -> None:
    """Two password databases, one of them on another disk, which the program has opened."""
    opens = "programs:\n  - {path: /opt/open, start: [/opt/open]}\n"
    old = Workshop(machines / "keepassxc-old", "alva", "keepassxc", more=opens)
    old.put("/opt/open", OPEN, 0o755)
    own, other = f"{old.home}/Passwords/garden.kdbx", "/data/mill.kdbx"
    for path, names in ((own, ("Forge", "Mill pond")), (other, ("Bäcker",))):
        old.folder(str(Path(path).parent))
        old.run("keepassxc-cli", "db-create", "-q", "-p", path, given="fern\nfern\n")
        for name in names:
            told = ("--username", "alva", "--url", f"https://{len(name)}.example", path, name)
            old.run("keepassxc-cli", "add", "-q", "-p", *told, given=f"fern\nword of {name}\n")
    old.run("/opt/open", own, other)
    Workshop(machines / "keepassxc-new", "brook", "keepassxc", home="/data/home/brook")


OPEN = """\
#!/bin/sh
# Opens databases in the program's own window, which nobody sees, and closes it.
for each; do
  echo fern |
    QT_QPA_PLATFORM=offscreen timeout -s INT 5 keepassxc --pw-stdin "$each" >/dev/null 2>&1
done
true
"""


def beets(machines: Path) -> None:
    """A library of music that lies on a disk, with its list elsewhere."""
    old = Workshop(machines / "beets-old", "alva", "beets")
    old.put(
        f"{old.home}/.config/beets/config.yaml",
        "directory: /data/Musik  # on the large disk\nlibrary: ~/lists/music.db\n"
        "import:\n  copy: yes\n  write: no\npaths:\n  default: $albumartist/$album/$track $title\n",
    )
    old.folder(f"{old.home}/lists")
    for number, title in enumerate(("Moor", "Über den Zaun", "Spring, slow"), start=1):
        host = old.machine.host(f"{old.home}/new/{number}.mp3")
        host.parent.mkdir(parents=True, exist_ok=True)
        host.write_bytes(song(title, "Greta Holm", "Low garden", number))
    old.run("beet", "import", "-A", "-q", f"{old.home}/new")
    old.run("beet", "modify", "-y", "Moor", "mood=wet")
    Workshop(machines / "beets-new", "brook", "beets", home="/data/home/brook")


def song(title: str, artist: str, album: str, number: int) -> bytes:
    """Return half a second of silence as MPEG 1 layer 3, with its names (ID3 2.3)."""
    frames = b""
    for name, text in (("TIT2", title), ("TPE1", artist), ("TALB", album), ("TRCK", str(number))):
        told = b"\x01" + text.encode("utf-16")
        frames += name.encode() + len(told).to_bytes(4, "big") + b"\0\0" + told
    size = bytes(len(frames) >> shift & 127 for shift in (21, 14, 7, 0))
    return b"ID3\x03\0\0" + size + frames + (b"\xff\xfb\x90\x00" + bytes(413)) * 20


def calibre(machines: Path) -> None:
    """A library of books, in a folder that was chosen in the program."""
    old = Workshop(machines / "calibre-old", "alva", "calibre")
    library = "/data/alva/Bücher"
    old.folder(library)
    for title, author, tag in (("Moss", "Greta Holm", "garden"), ("Quitten", "Piet Kalmus", "")):
        old.put(f"{old.home}/{title}.txt", f"{title}, by {author}\n" * 40)
        told = ("--title", title, "--authors", author, *(("--tags", tag) if tag else ()))
        old.run("calibredb", "add", "--with-library", library, *told, f"{old.home}/{title}.txt")
    old.run("calibredb", "add_custom_column", "--with-library", library, "shelf", "Shelf", "text")
    old.run("calibredb", "set_custom", "--with-library", library, "shelf", "1", "by the window")
    chosen = f"from calibre.utils.config import prefs; prefs['library_path'] = {library!r}"
    old.run("calibre-debug", "-c", chosen)
    Workshop(machines / "calibre-new", "brook", "calibre", home="/data/home/brook")


PROGRAMS: dict[str, Callable[[Path], None]] = {
    "taskwarrior": taskwarrior,
    "newsboat": newsboat,
    "abook": abook,
    "git": git,
    "postgresql": postgresql,
    "keepassxc": keepassxc,
    "beets": beets,
    "calibre": calibre,
}
"""What makes the machines of each program."""


def _traces(name: str) -> list[Path]:
    """Return the script of a trace of a program, where there is one."""
    return sorted((HERE / "traces").glob(f"{name}.trace.yaml"))


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
        for file in (*sorted((HERE / "recipes").glob(f"{name}.*")), *_traces(name)):
            shutil.copy(file, folder / file.name)
    return left


def main() -> None:
    if len(sys.argv) < 2:
        raise SystemExit(__doc__)
    for name, why in build(Path(sys.argv[1]), sys.argv[2:] or tuple(PROGRAMS)).items():
        print(f"{name} was left out: {why}")


if __name__ == "__main__":
    main()
