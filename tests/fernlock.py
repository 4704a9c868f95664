"""A program for tests whose licence is of whatever kind a maker thought of.

Its maker is the JSON file that ``FERNLOCK_MAKER`` names: who holds what. Without that there is no
network. Exit status: 0 done, 3 refused and nothing changed, 5 no answer.
"""

import json
import os
import sys
from pathlib import Path
from typing import Any

SETTINGS = Path.home() / ".config/Fernlock"
STATE, FILE = SETTINGS / "state.json", SETTINGS / "licence.lic"
COMPUTER = Path(os.environ["FOLDER_MACHINE"]).name
REFUSED, NO_ANSWER = 3, 5


def real(path: str) -> Path:
    """Return where a path of the machine lies for this system."""
    return Path(json.loads(os.environ["FOLDER_MACHINE_DISKS"])[""] + path)


def state() -> dict[str, Any]:
    known: dict[str, Any] = json.loads(STATE.read_text()) if STATE.exists() else {}
    return known


def keep(**changes: Any) -> None:
    SETTINGS.mkdir(parents=True, exist_ok=True)
    STATE.write_text(json.dumps(state() | changes))


def maker() -> dict[str, Any]:
    """Return what the maker knows."""
    if "FERNLOCK_MAKER" not in os.environ:
        sys.exit(NO_ANSWER)
    known: dict[str, Any] = json.loads(Path(os.environ["FERNLOCK_MAKER"]).read_text())
    return known


def tell_maker(holders: list[str]) -> None:
    Path(os.environ["FERNLOCK_MAKER"]).write_text(json.dumps(maker() | {"holders": holders}))


def hold() -> None:
    """Have this computer be a holder, if there is room for one more."""
    holders = maker()["holders"]
    if COMPUTER not in holders and len(holders) >= maker().get("most", 1):
        print(f"held by {', '.join(holders)}", file=sys.stderr)
        sys.exit(REFUSED)
    tell_maker([*(h for h in holders if h != COMPUTER), COMPUTER])


def let_go(computer: str = COMPUTER) -> None:
    tell_maker([h for h in maker()["holders"] if h != computer])


def of_file() -> str:
    """Return what a licence file that is bound to a computer is worth here."""
    if not FILE.exists():
        return "none"
    return "valid" if f"HOSTID {COMPUTER}\n" in FILE.read_text() else "wrong computer"


def account(command: str, *more: str) -> None:
    """Be a program that one signs in to."""
    match command:
        case "whoami" if "FERNLOCK_MAKER" not in os.environ:
            print("signed in: cannot be said without a network")
        case "whoami":
            print(f"signed in: {'yes' if COMPUTER in maker()['holders'] else 'no'}")
        case "sign-out":
            let_go()
        case "sign-in" | "take-off" if sys.stdin.readline().strip() != maker()["password"]:
            print("wrong password", file=sys.stderr)
            sys.exit(REFUSED)
        case "sign-in":
            hold()
            keep(mail=more[0])
        case "take-off":
            let_go(more[0])


def main(command: str, *more: str) -> None:
    """Do what the first argument says."""
    match command:
        case "computer":
            print(f"computer: {COMPUTER}\nmail: {state().get('mail', '')}")
        case "status":
            until = state().get("until")
            print(f"licence: {f'active until {until}' if until else of_file()}")
        case "retire":
            let_go()
            FILE.unlink(missing_ok=True)
        case "host-id":
            real(more[0]).write_text(f"HOSTID {COMPUTER}\n")
        case "page":  # the maker's page, as a person uses it
            asked = real(more[0]).read_text()
            tell_maker([*maker()["holders"], asked.split()[1]])
            real(more[1]).write_text(f"{asked}ORDER FL-2207-119\n")
        case "install":
            SETTINGS.mkdir(parents=True, exist_ok=True)
            FILE.write_text(real(more[0]).read_text())
            sys.exit(0 if of_file() == "valid" else REFUSED)
        case "dongle":
            print(f"dongle: {'there' if state().get('dongle') else 'absent'}")
        case "plug" | "unplug":
            keep(dongle=command == "plug")
        case "probe":
            server = (SETTINGS / "server.ini").read_text()
            sys.exit(0 if maker()["address"] in server else 1)
        case "lease" | "borrowed":
            word = {"lease": ("held", "none"), "borrowed": ("yes", "no")}[command]
            print(f"{command}: {word[0] if state().get('days', 0) else word[1]}")
            print(f"days left: {state().get('days', 0)}")
        case "give-back":
            let_go()
            keep(days=0)
        case "take":
            hold()
            keep(days=int(more[0]) if more else 1)
        case "deactivate":
            let_go()
            keep(until="")
        case "activate":
            hold()
            keep(until=maker()["until"])
        case _:
            account(command, *more)


if __name__ == "__main__":
    main(*sys.argv[1:])
