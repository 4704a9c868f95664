"""Programs of an isolated folder machine: what they see, what they cannot do, what stays."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from conftest import World, widetrail
from widetrail.errors import MachineUnusable, WentWrong
from widetrail.machine import Completed, FolderMachine, isolation, process_start
from widetrail.machine.interface import Channels
from widetrail.machine.machine_file import environments_of

real = pytest.mark.skipif(
    bool(isolation.why_not()), reason=f"isolation: {isolation.why_not() or 'it works here'}"
)
FILE = """\
machine: potting-shed
platform: linux
system: '6.1'
user: alva
isolated: yes
disks:
  /: {{folder: disk}}
  /media/stick: {{folder: stick}}
programs:
  - {{path: /usr/bin/sh, start: [sh]}}
  - {{path: /usr/bin/py, start: [python]}}
  - {{path: /opt/moss/moss, start: [/opt/moss/moss]}}
{more}"""
TOLD = Channels(began=lambda pid, at: None)


def machine_in(folder: Path, more: str = "") -> FolderMachine:
    """Return a Linux machine with a home and a second disk."""
    for part in ("disk/home/alva", "disk/opt/moss", "disk/etc/moss", "stick"):
        (folder / part).mkdir(parents=True, exist_ok=True)
    (folder / "disk/etc/moss/moss.conf").write_text("colour: green\n")
    program = folder / "disk/opt/moss/moss"
    program.write_text('#!/bin/sh\ncat /etc/moss/moss.conf "$@"\n')
    program.chmod(0o755)
    (folder / "machine.yaml").write_text(FILE.format(more=more))
    return FolderMachine(folder)


@pytest.fixture
def machine(tmp_path: Path) -> FolderMachine:
    return machine_in(tmp_path / "potting-shed")


def sh(machine: FolderMachine, script: str, seconds: float = 20) -> Completed:
    return machine.start("/usr/bin/sh", ["-c", script], seconds, TOLD)


def py(machine: FolderMachine, script: str, *arguments: str) -> Completed:
    return machine.start("/usr/bin/py", ["-c", script, *arguments], 20, TOLD)


@real
def test_absolute_paths_are_the_machines_own(machine: FolderMachine) -> None:
    """What a program keeps by an absolute path lies on the machine's disks, for it and for us."""
    done = sh(
        machine, 'echo seven >"$HOME/list"; echo eight >/media/stick/list; cat /home/alva/list'
    )
    assert (done.status, done.output) == (0, "seven\n")
    assert machine.read("/home/alva/list") == b"seven\n"
    assert machine.read("/media/stick/list") == b"eight\n"
    assert not Path("/home/alva/list").exists()
    assert machine.start("/opt/moss/moss", ["/media/stick/list"]).output == "colour: green\neight\n"


@real
def test_it_sees_its_own_account_and_nothing_of_this_computers(machine: FolderMachine) -> None:
    done = sh(machine, "id -un; id -u; uname -n; pwd; ls /home; cat /etc/shadow; ls /sys /root")
    assert done.output.split() == ["alva", "1000", "potting-shed", "/run/widetrail", "alva"]
    assert sh(machine, f"ls {Path(__file__).parent}").status != 0
    assert sh(machine, "touch /usr/bin/moss || touch /etc/moss/new || touch /moss").status != 0
    numbers = sh(machine, "ls /proc").output.split()
    assert max(int(name) for name in numbers if name.isdecimal()) < 20


@real
def test_a_copied_disk_and_an_odd_name_stand_in_no_way(tmp_path: Path) -> None:
    """What belongs to this computer's ``/usr`` is taken from here, all else from the disk."""
    machine = machine_in(tmp_path / "m")
    etc = tmp_path / "m/disk/etc"
    for name in ("alternatives/moss", "fonts/moss.conf", "passwd", "ssl/certs/moss.pem"):
        (etc / name).parent.mkdir(parents=True, exist_ok=True)
        (etc / name).write_text("other")
    (tmp_path / "m/disk/usr/bin").mkdir(parents=True)
    (tmp_path / "m/disk/bin").symlink_to("usr/bin")
    (tmp_path / "m/disk/old").symlink_to("/home")
    file = tmp_path / "m/machine.yaml"
    file.write_text(file.read_text().replace("machine: potting-shed", f"machine: {'ä' * 80}"))
    machine = FolderMachine(tmp_path / "m")
    done = sh(machine, "id -un; cat /etc/moss/moss.conf; ls /old; ls /etc/fonts/moss.conf")
    assert done.output == "alva\ncolour: green\nalva\n"


ESCAPES = {
    "mount": "mount -t tmpfs none /home/alva || mount --bind /usr /home/alva",
    "another account's namespace": "unshare --user --map-root-user true",
    "another mount namespace": "unshare --mount true",
    "the first process's root": "cat /proc/1/root/etc/shadow || ls /proc/1/root/root",
    "this computer's processes": "kill -0 {pid}",
    "a device": "mknod /home/alva/disk b 8 0 || cat /dev/mem || ls /dev/sda",
    "set-user-id": "cp /usr/bin/id /home/alva/me; chmod u+s /home/alva/me; su -c true",
    "the kernel's settings": "echo 1 >/proc/sys/kernel/panic || sysctl -w kernel.panic=1",
    "a module": "modprobe loop",
    "this computer's name": "hostname other",
    "what it was told of": "cat /proc/*/environ | tr '\\0' '\\n' | grep '^SECRET_OF_THIS='",
}


@real
@pytest.mark.parametrize("how", ESCAPES)
def test_it_cannot_get_out(
    machine: FolderMachine, how: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SECRET_OF_THIS", "computer")
    assert sh(machine, ESCAPES[how].format(pid=os.getpid())).status != 0


@real
def test_no_rights_are_gained(machine: FolderMachine) -> None:
    told = sh(machine, "cat /proc/self/status").output
    fields = dict(line.split(":\t", 1) for line in told.splitlines() if ":\t" in line)
    assert fields["NoNewPrivs"] == "1"
    assert {fields[name].strip("0") for name in ("CapPrm", "CapEff", "CapBnd", "CapAmb")} == {""}


TRACE = """
import ctypes, sys
libc = ctypes.CDLL(None, use_errno=True)
sys.exit(0 if libc.ptrace(16, int(sys.argv[1]), 0, 0) == 0 else 1)
"""


@real
def test_processes_of_this_computer_cannot_be_traced(machine: FolderMachine) -> None:
    """The same program traces its like where it is started outside."""
    sleeping = subprocess.Popen(["sleep", "60"])
    try:
        assert py(machine, TRACE, str(sleeping.pid)).status == 1
        outside = [sys.executable, "-c", TRACE, str(sleeping.pid)]
        assert subprocess.run(outside, check=False).returncode == 0
    finally:
        sleeping.kill()
        sleeping.wait()


KNOCK = """
import socket, sys
with socket.socket(socket.AF_UNIX) as one:
    one.connect("\\0" + sys.argv[1])
"""


@real
def test_abstract_sockets_of_this_computer_are_not_reached(machine: FolderMachine) -> None:
    name = f"widetrail-test-{os.getpid()}"
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind("\0" + name)
        listening.listen(4)
        assert py(machine, KNOCK, name).status == 1
        assert subprocess.run([sys.executable, "-c", KNOCK, name], check=False).returncode == 0


@real
def test_a_home_that_was_moved_is_the_programs_home(tmp_path: Path) -> None:
    machine = machine_in(tmp_path / "m", "redirected: {home: /media/stick/home}\n")
    machine.host("/media/stick/home").mkdir()
    assert sh(machine, "echo $HOME; cd; pwd; id -un").output == "/media/stick/home\n" * 2 + "alva\n"


class _Hello(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b"hello" * 100_000)

    def log_message(self, *told: object) -> None:
        pass


@pytest.fixture
def service() -> Iterator[int]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Hello)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_address[1]
    server.shutdown()
    server.server_close()


FETCH = """
import sys, urllib.request
print(len(urllib.request.urlopen(f"http://127.0.0.1:{sys.argv[1]}", timeout=5).read()))
"""


@real
@pytest.mark.parametrize(
    ("more", "reached"),
    [
        ("environment: {{MAKER: 'http://127.0.0.1:{port}/api'}}\n", True),
        ("environment: {{MAKER: 'http://127.0.0.1:{port}/api'}}\nnetwork: no\n", False),
        ("", False),
        ("network: outside\n", True),
    ],
)
def test_only_services_that_are_named_are_reached(
    tmp_path: Path, service: int, more: str, reached: bool
) -> None:
    machine = machine_in(tmp_path / "m", more.format(port=service))
    done = py(machine, FETCH, str(service))
    assert (done.status, done.output) == ((0, "500000\n") if reached else (1, ""))


@real
def test_what_it_leaves_running_is_told_and_ends(machine: FolderMachine) -> None:
    done = sh(machine, "setsid sleep 61 & setsid sleep 62 & exit 3")
    assert (done.status, done.left) == (3, ("a process (sleep)", "a process (sleep)"))
    assert not list(environments_of(f"FOLDER_MACHINE={machine.folder}"))
    assert sh(machine, "exit 4").left == ()


@real
@pytest.mark.parametrize(
    ("script", "why"),
    [
        ("while :; do sleep 60 & done", "it had more than 40 processes"),
        ("cat /dev/zero", "it printed without end"),
        ("sleep 60", "it did not end within 1 seconds"),
        ("head -c 500M /dev/zero | tail", "it used more than 128.0 MiB of memory"),
    ],
)
def test_one_that_takes_too_much_is_stopped_whole(
    machine: FolderMachine, script: str, why: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(isolation, "LIMITS", process_start.Limits(40, 128 * 1024 * 1024))
    seconds = 1 if "within" in why else 30
    with pytest.raises(WentWrong) as told:
        sh(machine, script, seconds)
    assert told.value.why == why
    assert not list(environments_of(f"FOLDER_MACHINE={machine.folder}"))


@real
def test_a_file_cannot_fill_this_computer(machine: FolderMachine) -> None:
    assert sh(machine, "truncate -s 1G /home/alva/large").status == 0
    assert sh(machine, "truncate -s 17G /home/alva/larger").status != 0
    assert sh(machine, "head -c 1100M /dev/zero >/tmp/large").status != 0


@real
def test_two_at_once_do_not_meet(tmp_path: Path) -> None:
    """Both listen at one port and take one lock, which one computer would not let them."""
    script = (
        "import os, socket, time; s = socket.create_server(('127.0.0.1', 4811)); "
        "os.mkdir('/tmp/lock'); os.mkdir('/var/tmp/lock'); time.sleep(1)"
    )
    machines = [machine_in(tmp_path / name) for name in ("one", "two")]
    with ThreadPoolExecutor() as pool:
        done = list(pool.map(lambda machine: py(machine, script), machines))
    assert [one.errors for one in done] == ["", ""]


@real
def test_nothing_goes_on_where_the_walk_is_killed(machine: FolderMachine) -> None:
    code = (
        "import sys; from pathlib import Path; from widetrail.machine import FolderMachine; "
        "FolderMachine(Path(sys.argv[1])).start('/usr/bin/sh', ['-c', 'sleep 60'])"
    )
    walk = subprocess.Popen([sys.executable, "-c", code, str(machine.folder)])
    mine = f"FOLDER_MACHINE={machine.folder}"
    until = time.monotonic() + 20
    while len(list(environments_of(mine))) < 3 and time.monotonic() < until:
        time.sleep(0.02)
    assert list(environments_of(mine))
    walk.send_signal(signal.SIGKILL)
    walk.wait()
    while list(environments_of(mine)) and time.monotonic() < until:
        time.sleep(0.02)
    assert not list(environments_of(mine))


@real
def test_a_program_outside_usr_is_refused(tmp_path: Path) -> None:
    program = tmp_path / "moss"
    program.write_text("#!/bin/sh\n")
    program.chmod(0o755)
    machine = machine_in(tmp_path / "m")
    file = tmp_path / "m/machine.yaml"
    file.write_text(f"{file.read_text()}  - {{path: /usr/bin/own, start: [{program}]}}\n")
    with pytest.raises(MachineUnusable, match="cannot be started in isolation"):
        FolderMachine(machine.folder).start("/usr/bin/own", [])


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (("isolated: yes\n", ""), "machine.yaml does not say isolated: yes"),
        (("platform: linux", "platform: macos"), "it is a machine of macos"),
    ],
)
def test_why_it_is_not_isolated(tmp_path: Path, change: tuple[str, str], why: str) -> None:
    machine = machine_in(tmp_path / "m")
    file = machine.folder / "machine.yaml"
    file.write_text(file.read_text().replace(*change))
    assert FolderMachine(machine.folder).not_isolated == why


@pytest.fixture
def without_bubblewrap(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A computer on which it is not installed."""
    folder = tmp_path / "bin"
    folder.mkdir()
    for name in ("sh", "cat"):
        (folder / name).symlink_to(f"/bin/{name}")
    monkeypatch.setenv("PATH", str(folder))
    isolation.why_not.cache_clear()
    yield
    isolation.why_not.cache_clear()


@pytest.mark.usefixtures("without_bubblewrap")
def test_where_it_cannot_be_had_programs_start_as_before(tmp_path: Path) -> None:
    machine = machine_in(tmp_path / "m")
    assert machine.not_isolated == "bubblewrap is not installed"
    done = machine.start("/usr/bin/sh", ["-c", 'echo "$HOME"'])
    assert done.output == f"{machine.folder}/disk/home/alva\n"
    shown = widetrail("machine", "show", machine.folder)
    assert "started without isolation, since bubblewrap is not installed" in shown.out


@pytest.mark.usefixtures("without_bubblewrap")
def test_a_rehearsal_says_that_it_was_not_isolated(world: World) -> None:
    """A machine that is to be isolated and is not is a warning; the rehearsal is run."""
    made = world.folder / "moss"
    new = ("new", made, "--name", "Moss", "--id", "moss", "--maker", "M", "--platform", "linux")
    assert widetrail(*new, "--keeps", "{data}/moss", "--sign", "{config}/moss.ini").status == 0
    for name in ("moss-old", "moss-new"):
        file = made / "machines" / name / "machine.yaml"
        assert "isolated: yes\n" in file.read_text()
        file.write_text(f"{file.read_text()}programs:\n  - {{path: /usr/bin/sh, start: [sh]}}\n")
    ran = widetrail("rehearse", made, "--json")
    told = [f for f in ran.json["findings"] if f["rule"] == "not-isolated"]
    assert ran.status == 0
    assert [f["severity"] for f in told] == ["warning", "warning"]
    assert "bubblewrap is not installed" in told[0]["message"]
