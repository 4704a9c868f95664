"""Services on this computer's loopback address that a program in a network of its own reaches.

A helper enters the program's namespaces and listens there at the same ports; what connects is
passed on from here. The program begins once that is so.
"""

from __future__ import annotations

import json
import os
import re
import select
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress

_ADDRESS = re.compile(r"(?:127\.0\.0\.1|localhost):(\d{1,5})")
_WITHIN = 10.0
_PIECE = 64 * 1024

_OWNER = 0xB701
"""The request for the account's namespace that a network belongs to (Linux, nsfs.h)."""

_LISTEN = """
import ctypes, fcntl, os, socket, sys
pid, channel, owner, *ports = sys.argv[1:]
libc = ctypes.CDLL(None, use_errno=True)
network = os.open(f"/proc/{pid}/ns/net", os.O_RDONLY)
if libc.setns(network, 0) != 0:
    if libc.setns(fcntl.ioctl(network, int(owner)), 0) != 0 or libc.setns(network, 0) != 0:
        raise OSError(ctypes.get_errno(), "its network cannot be entered")
listening = []
for port in ports:
    one = socket.socket()
    one.bind(("", int(port)))
    one.listen(64)
    listening.append(one)
with socket.socket(fileno=int(channel)) as channel:
    socket.send_fds(channel, [b"."], [one.fileno() for one in listening])
"""


def ports_of(environment: Mapping[str, str]) -> tuple[int, ...]:
    """Return the ports of loopback addresses that variables name."""
    found = (int(m[1]) for text in environment.values() for m in _ADDRESS.finditer(text))
    return tuple(sorted({port for port in found if 0 < port < 65536}))


@contextmanager
def reached(ports: tuple[int, ...]) -> Iterator[tuple[list[str], tuple[int, ...]]]:
    """Have these ports reached by the program that bubblewrap starts within the block.

    Gives bubblewrap's arguments for that, and the open files that they name.
    """
    if not ports:
        yield [], ()
        return
    with ExitStack() as held:
        told, teller = os.pipe()
        gate, opener = os.pipe()
        for handle in (told, teller, gate):
            held.callback(os.close, handle)
        over = threading.Event()
        arguments = (told, opener, ports, over)
        thread = threading.Thread(target=_serve, args=arguments, daemon=True)
        thread.start()
        try:
            yield ["--info-fd", str(teller), "--block-fd", str(gate)], (teller, gate)
        finally:
            over.set()
            thread.join(_WITHIN)


def _serve(told: int, opener: int, ports: tuple[int, ...], over: threading.Event) -> None:
    """Listen inside, open the gate, and pass on what connects until it is over."""
    listening: list[socket.socket] = []
    try:
        try:
            pid = _inside(told, over)
            if pid:
                listening = _listening(pid, ports)
        finally:
            os.write(opener, b".")
            os.close(opener)
        by_handle = dict(zip((one.fileno() for one in listening), ports, strict=False))
        while listening and not over.is_set():
            for one in select.select(listening, [], [], 0.1)[0]:
                connected, _ = one.accept()
                port = by_handle[one.fileno()]
                threading.Thread(target=_pass_on, args=(connected, port), daemon=True).start()
    finally:
        for one in listening:
            one.close()


def _inside(told: int, over: threading.Event) -> int:
    """Return the number of the first process inside; 0 where it never began."""
    text = b""
    while not over.is_set():
        if not select.select([told], [], [], 0.05)[0]:
            continue
        text += os.read(told, 4096)
        with suppress(ValueError):
            return int(json.loads(text)["child-pid"])
    return 0


def _listening(pid: int, ports: tuple[int, ...]) -> list[socket.socket]:
    here, there = socket.socketpair()
    with here, there:
        command = [sys.executable, "-I", "-S", "-c", _LISTEN]
        done = subprocess.run(
            [*command, *map(str, (pid, there.fileno(), _OWNER, *ports))],
            pass_fds=(there.fileno(),),
            stderr=subprocess.DEVNULL,
            timeout=_WITHIN,
            check=False,
        )
        if done.returncode != 0:
            return []
        if sys.platform != "win32":  # where there is no bubblewrap
            handles = socket.recv_fds(here, 1, len(ports))[1]
            return [socket.socket(fileno=handle) for handle in handles]
    return []


def _pass_on(connected: socket.socket, port: int) -> None:
    """Pass what is said on a connection on to the service, and back, until both are silent."""
    with connected, suppress(OSError), socket.create_connection(("127.0.0.1", port)) as service:
        other = {connected: service, service: connected}
        while other:
            for one in select.select(list(other), [], [])[0]:
                said = one.recv(_PIECE)
                if said:
                    other[one].sendall(said)
                    continue
                with suppress(OSError):
                    other[one].shutdown(socket.SHUT_WR)
                del other[one]
