"""How the stand-ins that have a licence keep it, and ask their maker about it.

What a program knows of its licence lies in one JSON file: the serial, whether it is ``active``,
``released`` or ``unlicensed``, and the request that is under way, if one is. A request is written
down before it is sent and is sent the same until it is answered. Answers are JSON Web Tokens that
the maker signs; the maker's public key lies beside the program. By hand, a licence is dropped, and
unlocked with a code that the maker tells.

Exit status of what asks the maker: 0 granted, 4 refused and nothing changed, 5 no answer, so that
what came of it is not known, 1 anything else.
"""

from __future__ import annotations

import hashlib
import json
import os
import sys
from pathlib import Path
from typing import Any

from widetrail_demo import here

REFUSED, NO_ANSWER = 4, 5
WAITS = 2.0
"""Seconds that a program waits for its maker."""

_VERBS = {"release": "released", "claim": "active"}


class Trouble(Exception):
    """Why a licence is not what was asked for, with the exit status."""

    def __init__(self, words: str, status: int = 1) -> None:
        super().__init__(words)
        self.status = status


def address() -> str:
    """Return where the maker's service is: ``LICENCE_SERVICE``, or its usual address."""
    return os.environ.get("LICENCE_SERVICE", "http://127.0.0.1:8417")


def computer() -> str:
    """Return the name of this computer."""
    folder = os.environ.get("FOLDER_MACHINE")
    if folder:
        return Path(folder).name
    import platform  # slow to import, and machines played by folders have no use for it

    return platform.node()


def ask_maker(request: dict[str, str]) -> str:
    """Send a request; return the answer as the maker signed it."""
    from http.client import HTTPConnection, HTTPException
    from urllib.parse import urlsplit

    maker = urlsplit(address())
    try:
        connection = HTTPConnection(maker.hostname or "", maker.port, timeout=WAITS)
        told = {"Content-Type": "application/json"}
        connection.request("POST", "/seat", json.dumps(request).encode(), told)
        answer: str = json.loads(connection.getresponse().read())["answer"]
    except (OSError, ValueError, KeyError, HTTPException) as error:
        raise Trouble(f"the maker gives no answer: {error}", NO_ANSWER) from error
    return answer


class Licence:
    """The licence of one product on this computer, kept in the file at ``path``."""

    def __init__(self, product: str, path: Path) -> None:
        self.product, self.path = product, path

    def read(self) -> dict[str, Any]:
        """Return what is known; nothing is where there is no file."""
        if not self.path.exists():
            return {"serial": "", "state": "unlicensed", "asked": 0, "pending": None}
        known: dict[str, Any] = json.loads(self.path.read_text(encoding="utf-8"))
        return known

    def _keep(self, known: dict[str, Any]) -> None:
        self.path.parent.mkdir(parents=True, exist_ok=True)
        part = self.path.with_suffix(".part")
        with part.open("w", encoding="utf-8") as file:
            json.dump(known, file, indent=1)
            file.flush()
            os.fsync(file.fileno())
        part.replace(self.path)

    @property
    def state(self) -> str:
        """Whether it is active, released or unlicensed here; unsure while a request is open."""
        known = self.read()
        return "unsure" if known["pending"] else str(known["state"])

    def request(self, purpose: str, serial: str = "") -> dict[str, str]:
        """Return the request of that purpose that is open, or open one."""
        known = self.read()
        open_one: dict[str, str] | None = known["pending"]
        if open_one is not None:
            if open_one["purpose"] != purpose:
                raise Trouble(f"a {open_one['purpose']} is not answered yet")
            return open_one
        if purpose == "claim" and serial:
            known["serial"] = serial
        if not known["serial"]:
            raise Trouble("there is no serial here")
        if (known["state"] == "active") is (purpose == "claim"):
            raise Trouble(f"the licence is {known['state']} here")
        known["asked"] += 1
        seat = hashlib.sha256(known["serial"].encode()).hexdigest()
        told = f"{seat} {purpose} {computer()} {known['asked']}"
        known["pending"] = {
            "product": self.product,
            "purpose": purpose,
            "machine": computer(),
            "seat": seat,
            "request": hashlib.sha256(told.encode()).hexdigest()[:16],
        }
        self._keep(known)
        pending: dict[str, str] = known["pending"]
        return pending

    def register(self, answer: str) -> None:
        """Take the maker's answer to the request that is open."""
        known = self.read()
        told = _signed(answer, (here.program_folder() / "maker.pem").read_bytes())
        pending = known["pending"]
        came_to = _VERBS.get(told["purpose"]), told["machine"], told["verdict"]
        if pending is None and came_to == (known["state"], computer(), "granted"):
            return  # it was registered before
        if pending is None or any(told.get(name) != pending[name] for name in pending):
            wanted = f"{pending['purpose']} of {pending['machine']}" if pending else "nothing"
            raise Trouble(
                f"this answers the {told['purpose']} of {told['machine']}; asked was: {wanted}"
            )
        known["pending"] = None
        if told["verdict"] != "granted":
            self._keep(known)
            raise Trouble(f"refused: {told['reason']}", REFUSED)
        known["state"] = _VERBS[told["purpose"]]
        self._keep(known)

    def run(self, arguments: list[str]) -> int:
        """Do ``seat …`` and return the exit status; what goes wrong is told on standard error."""
        try:
            self._run(arguments)
        except Trouble as trouble:
            print(f"{self.product.lower()}: {trouble}", file=sys.stderr)
            return trouble.status
        return 0

    def _run(self, arguments: list[str]) -> None:
        match arguments:
            case []:
                print(f"state: {self.state}")
            case ["release" | "claim" as purpose]:
                if self.read()["state"] == _VERBS[purpose] and not self.read()["pending"]:
                    print(f"state: {self.state}")
                    return
                self.register(ask_maker(self.request(purpose, _serial(purpose))))
                print(f"state: {self.state}")
            case ["release" | "claim" as purpose, "--request", path]:
                request = self.request(purpose, _serial(purpose))
                here.real(path).write_text(json.dumps(request, indent=1) + "\n", encoding="utf-8")
                print(f"Carry {Path(path).name} to a computer with a network.")
            case ["drop"]:
                self._keep({**self.read(), "state": "released", "pending": None})
                print(f"state: {self.state}")
            case ["unlock", code] if code.isdecimal():
                self._keep({**self.read(), "state": "active", "pending": None})
                print(f"state: {self.state}")
            case ["register", path]:
                self.register(json.loads(here.real(path).read_text(encoding="utf-8"))["answer"])
                print(f"state: {self.state}")
            case _:
                known = "release, claim, register FILE, drop or unlock CODE"
                raise Trouble(f"say seat, or seat {known}", 2)


def _signed(answer: str, key: bytes) -> dict[str, Any]:
    """Return what an answer says, once it is seen that who has the other half of ``key`` signed it.

    It is a JSON Web Token signed with Ed25519. Only that is looked at here: a library for all
    kinds of tokens takes longer to import than the program runs.
    """
    from base64 import urlsafe_b64decode
    from time import time

    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
    from cryptography.hazmat.primitives.serialization import load_pem_public_key

    def plain(text: str) -> bytes:
        return urlsafe_b64decode(f"{text}{'=' * (-len(text) % 4)}")

    try:
        head, body, signature = answer.split(".")
        public = load_pem_public_key(key)
        if not isinstance(public, Ed25519PublicKey):
            raise ValueError("the key is of another kind")
        public.verify(plain(signature), f"{head}.{body}".encode())
        told: dict[str, Any] = json.loads(plain(body))
        if not told["iat"] <= time() < told["exp"]:
            raise ValueError("it is of another time")
    except (InvalidSignature, ValueError, KeyError) as error:
        raise Trouble(f"the answer is not good: {error}", NO_ANSWER) from error
    return told


def _serial(purpose: str) -> str:
    """Return the serial from standard input, where one is needed."""
    return sys.stdin.readline().strip() if purpose == "claim" else ""
