"""A stand-in licence service, so that anyone can rehearse a licence without a maker.

It speaks HTTP on the loopback interface and JSON: ``POST /seat`` with ``product``, ``purpose``
(``release`` or ``claim``), ``machine``, ``seat`` (the SHA-256 of the serial, in hexadecimal) and
``request`` (an id of the program's own) gives ``{"answer": …}``, a JSON Web Token (RFC 7519) signed
with Ed25519 (RFC 8037) that holds all of these and a ``verdict``, ``granted`` or ``refused`` with a
``reason``. The same request is answered the same, however often it is sent. ``GET /faults`` tells
the faults that are on, ``POST /faults`` sets them.

Its folder holds ``seats.json`` (the serials, how many seats each has, and who holds them) and
``key.pem``; ``maker.pem``, the public half of the key, is what programs are shipped with.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import secrets
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import field
from email.message import Message
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from widetrail.errors import InputUnusable
from widetrail.lazily import dataclass

SEATS, KEY, PUBLIC = "seats.json", "key.pem", "maker.pem"
PORT = 8417
DAY = 86_400
_MOST = 64 * 1024

FAULTS: Mapping[str, str] = {
    "slow": "answers only after three seconds",
    "cut": "does what is asked, then breaks off without an answer",
    "claim-cut": "does as cut does, where a claim is asked for",
    "refused": "refuses whatever is asked",
    "clock": "dates its answers a year ahead",
    "taken": "says that another machine has the seat",
}
"""What can be switched on to go wrong."""

SLOW = 3.0
ALWAYS = -1
PATIENCE = 10.0
"""Seconds in which a request must come."""
TIMES_MOST = 999_999


def read_faults(texts: Iterable[str]) -> dict[str, int]:
    """Read faults as a person gives them: a name, or ``name:times``.

    Raises:
        InputUnusable: There is no such fault.
    """
    faults = {}
    for text in texts:
        name, mark, times = text.partition(":")
        counted = times.isascii() and times.isdecimal() and len(times) <= len(str(TIMES_MOST))
        if name not in FAULTS or (mark and not counted):
            known = ", ".join(FAULTS)
            todo = f"Name one of {known}, or like cut:2 for the next two requests."
            raise InputUnusable("fault not found", where=text, todo=todo)
        faults[name] = int(times) if mark else ALWAYS
    return faults


def seat_name(serial: str) -> str:
    """Return what the service and its programs call a seat by: nobody can tell the serial of it."""
    return hashlib.sha256(serial.strip().encode()).hexdigest()


def make_service(folder: Path, seats: Iterable[Mapping[str, Any]], seed: bytes = b"") -> None:
    """Make the folder of a service; each of ``seats`` has ``serial``, ``product``, ``count`` and
    ``holders``. The key is made from ``seed``, or at random."""
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    folder.mkdir(parents=True, exist_ok=True)
    private = hashlib.sha256(seed).digest() if seed else os.urandom(32)
    key = Ed25519PrivateKey.from_private_bytes(private)
    (folder / KEY).touch(0o600)
    (folder / KEY).write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )
    )
    (folder / PUBLIC).write_bytes(
        key.public_key().public_bytes(
            serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo
        )
    )
    state = {"seats": [dict(seat) for seat in seats], "answered": {}}
    _write(folder / SEATS, state)


def _write(path: Path, state: Mapping[str, Any]) -> None:
    """Replace a file durably."""
    part = path.with_name(f"{path.name}.part")
    with part.open("w", encoding="utf-8") as file:
        json.dump(state, file, indent=1, ensure_ascii=False)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)


@dataclass
class Service:
    """The service of a folder: it judges requests and keeps who holds which seat.

    ``faults`` are how many requests each goes wrong with still, ``ALWAYS`` for every one.
    """

    folder: Path
    faults: dict[str, int] = field(default_factory=dict)
    clock: Callable[[], float] = time.time
    address: str = ""
    """Where it is served, once it is."""
    token: str = field(default_factory=secrets.token_urlsafe)
    """What whoever changes the faults of the service that runs must show."""

    def __post_init__(self) -> None:
        self._lock = threading.Lock()
        self.read()

    def read(self) -> dict[str, Any]:
        """Return what the service keeps.

        Raises:
            InputUnusable: The folder holds no service.
        """
        try:
            state: dict[str, Any] = json.loads((self.folder / SEATS).read_bytes())
        except (OSError, ValueError) as error:
            raise InputUnusable(
                "licence service not found", where=str(self.folder / SEATS), why=str(error)
            ) from error
        return state

    def holders(self, serial: str) -> tuple[str, ...]:
        """Return the machines that hold the seat of a serial."""
        name = seat_name(serial)
        seats = (s for s in self.read()["seats"] if seat_name(s["serial"]) == name)
        return tuple(holder for seat in seats for holder in seat["holders"])

    def judge(self, asked: Mapping[str, str]) -> str:
        """Return the signed answer to a request; a granted one is kept first."""
        with self._lock:
            state = self.read()
            known = state["answered"].get(asked["request"])
            if known is None:
                verdict, reason = self._verdict(state, asked)
                known = {**_claims(asked), "verdict": verdict, "reason": reason}
                state["answered"][asked["request"]] = known
                _write(self.folder / SEATS, state)
            return self._signed(known)

    def _verdict(self, state: dict[str, Any], asked: Mapping[str, str]) -> tuple[str, str]:
        """Return whether a request is granted, and why not; ``state`` is changed where it is."""
        purpose, machine = asked["purpose"], asked["machine"]
        listed = (s for s in state["seats"] if s["product"] == asked["product"])
        seat = next((s for s in listed if seat_name(s["serial"]) == asked["seat"]), None)
        if seat is None:
            return "refused", "the serial is not known"
        if self._strikes("refused"):
            return "refused", "the service takes no requests today"
        holders = seat["holders"]
        if purpose == "release":
            if machine not in holders:
                return "refused", f"{machine} does not hold the seat"
            holders.remove(machine)
            return "granted", ""
        if purpose != "claim":
            return "refused", f'"{purpose}" is nothing that can be asked for'
        if self._strikes("taken"):
            return "refused", "the seat is held by another-machine"
        if machine not in holders:
            if len(holders) >= seat["count"]:
                return "refused", f"the seat is held by {', '.join(holders)}"
            holders.append(machine)
        return "granted", ""

    def _signed(self, claims: Mapping[str, str]) -> str:
        import jwt

        day = int(self.clock()) // DAY * DAY
        if self._strikes("clock"):
            day += 365 * DAY
        dated = {**claims, "iss": "licence-service", "iat": day, "exp": day + 30 * DAY}
        return jwt.encode(dated, (self.folder / KEY).read_bytes(), algorithm="EdDSA")

    def _strikes(self, fault: str) -> bool:
        """Return whether a fault is on for this request, and count it."""
        left = self.faults.get(fault, 0)
        if left > 0:
            self.faults[fault] = left - 1
        return left != 0

    def breaks_off(self, purpose: str) -> bool:
        """Return whether the connection is to be cut now that all is done."""
        if self._strikes("slow"):
            time.sleep(SLOW)
        return self._strikes("cut") or (purpose == "claim" and self._strikes("claim-cut"))


_ASKED = ("product", "purpose", "machine", "seat", "request")


def _claims(asked: Mapping[str, str]) -> dict[str, str]:
    return {name: asked[name] for name in _ASKED}


class _Handler(BaseHTTPRequestHandler):
    """Answers the requests of one connection."""

    timeout = PATIENCE
    service: Service

    def parse_request(self) -> bool:
        if not super().parse_request():
            return False
        if not _is_own(self.headers):
            self._reply(403, {"error": "only programs of this machine are answered"})
            return False
        return True

    def do_GET(self) -> None:
        if self.path == "/faults":
            self._reply(200, {"faults": self.service.faults})
        else:
            self._reply(404, {"error": "there is /seat and /faults"})

    def do_POST(self) -> None:
        asked = self._asked()
        if self.path == "/faults" and not self._shows_token():
            self._reply(403, {"error": "the faults are changed with the service's token only"})
        elif self.path == "/faults" and asked is not None:
            texts = [n if t == ALWAYS else f"{n}:{t}" for n, t in asked.items()]
            with suppress(InputUnusable):
                self.service.faults = read_faults(texts)
                self._reply(200, {"faults": self.service.faults})
                return
            self._reply(400, {"error": f"the faults are {', '.join(FAULTS)}"})
        elif self.path == "/seat" and asked is not None and _is_request(asked):
            answer = self.service.judge({name: asked[name] for name in _ASKED})
            if not self.service.breaks_off(asked["purpose"]):
                self._reply(200, {"answer": answer})
        else:
            self._reply(400, {"error": f"a request has {', '.join(_ASKED)}"})

    def _asked(self) -> dict[str, Any] | None:
        length = self.headers.get("Content-Length", "")
        counted = length.isascii() and length.isdecimal() and len(length) <= len(str(_MOST))
        if not counted or int(length) > _MOST:
            return None
        with suppress(ValueError, RecursionError, OSError):
            asked = json.loads(self.rfile.read(int(length)))
            return asked if isinstance(asked, dict) else None
        return None

    def _shows_token(self) -> bool:
        shown = self.headers.get("Authorization", "").encode("utf-8", "replace")
        return hmac.compare_digest(shown, f"Bearer {self.service.token}".encode())

    def _reply(self, status: int, told: Mapping[str, Any]) -> None:
        data = json.dumps(told).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        with suppress(OSError):
            self.wfile.write(data)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing: requests are kept in the service's folder."""


def _handler_of(service: Service) -> type[BaseHTTPRequestHandler]:
    """Return what answers the requests of one connection for ``service``."""
    return type("Handler", (_Handler,), {"service": service})


def _is_own(headers: Message) -> bool:
    """Return whether a request comes from no page of a browser: it names this machine."""
    host = headers.get("Host", "127.0.0.1").rpartition(":")[0] or headers.get("Host", "127.0.0.1")
    return host in ("127.0.0.1", "localhost") and "Origin" not in headers


def _is_request(asked: Mapping[str, Any]) -> bool:
    """Return whether a request has all that it must, each a short line of text."""
    values = [asked.get(name) for name in _ASKED]
    return all(isinstance(v, str) and len(v) <= LONGEST and v.isprintable() for v in values)


LONGEST = 256
"""Characters of a value in a request, at most."""

CONNECTIONS = 256
"""Connections that are answered at a time; those beyond are closed."""


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    allow_reuse_address = True

    def __init__(self, *arguments: Any) -> None:
        self._free = threading.BoundedSemaphore(CONNECTIONS)
        super().__init__(*arguments)

    def process_request_thread(self, request: Any, client_address: Any) -> None:
        try:
            super().process_request_thread(request, client_address)
        finally:
            self._free.release()

    def verify_request(self, request: Any, client_address: Any) -> bool:
        return self._free.acquire(blocking=False)

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Say nothing: who asked is gone, or asked for what there is not."""

    @property
    def address(self) -> str:
        """Where it answers."""
        return f"http://127.0.0.1:{self.server_address[1]}"


def open_server(service: Service, port: int = PORT) -> _Server:
    """Return a server for ``service`` on the loopback interface; port 0 takes a free one.

    Raises:
        InputUnusable: The port is taken.
    """
    try:
        return _Server(("127.0.0.1", port), _handler_of(service))
    except OSError as error:
        raise InputUnusable(
            "the licence service cannot be started",
            where=f"127.0.0.1:{port}",
            why=error.strerror or str(error),
            todo="Name another port with --port.",
        ) from error


@contextmanager
def serving(service: Service, port: int = 0) -> Iterator[str]:
    """Serve in the background; give the address."""
    server = open_server(service, port)
    thread = threading.Thread(target=lambda: server.serve_forever(0.05), daemon=True)
    thread.start()
    try:
        yield server.address
    finally:
        server.shutdown()
        server.server_close()
        thread.join()
