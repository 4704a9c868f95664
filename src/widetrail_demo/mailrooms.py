"""The letters of Quillbox."""

from __future__ import annotations

import json
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

from widetrail_demo.herbarium import (
    GENERA,
    REMARKS,
    Dice,
    write_text,
)
from widetrail_demo.quillbox import store as quillbox

LETTERS = ("Seed list 2011.txt", "Letter to the parish council.txt", "rota (old).csv")


def write_mailrooms(
    root: Path, release: str, listed: list[tuple[str, str, int]], dice: Dice
) -> None:
    """Make mailrooms: label, folder and letters of each; Quillbox opens the first."""
    rooms = []
    for label, folder, letters in listed:
        rooms.append({"label": label, "folder": f"rooms/{folder}"})
        quillbox.create_room(root / "rooms" / folder)
        _letters(root / "rooms" / folder, letters, dice)
    (root / "rooms" / "empty").mkdir()
    rooms.append({"label": "Started once", "folder": "rooms/empty"})
    index = {"rooms": rooms, "opens": listed[0][0], "written-by": release}
    text = json.dumps(index, indent=2, ensure_ascii=False)
    write_text(root / "mailrooms.json", text + "\n", datetime(2024, 6, 1, tzinfo=UTC))


def _letters(folder: Path, letters: int, dice: Dice) -> None:
    accounts = ("office@marrowfield.example", "seeds@marrowfield.example")
    first = date(2009, 3, 2)
    connection = quillbox.open_letters(folder)
    with connection:
        connection.executemany("insert into account values (?, ?)", [(a, a[:6]) for a in accounts])
        for number in range(letters):
            day = first + timedelta(days=17 * number)
            lies = "deleted" if number % 9 == 8 else "drafts" if number % 11 == 10 else "in"
            row = (dice.choice(accounts), lies, f"grower{number % 7}@fen.example")
            subject = f"{dice.choice(GENERA)}, {dice.choice(REMARKS) or 'as agreed'}"
            connection.execute(
                "insert into letter (account, folder, sender, subject, sent)"
                " values (?, ?, ?, ?, ?)",
                (*row, subject, day.isoformat()),
            )
        people = [(f"Grower {n}", f"grower{n}@fen.example") for n in range(letters // 4)]
        connection.executemany("insert into contact (name, address) values (?, ?)", people)
    connection.close()
    rules = [{"from": f"grower{n}@fen.example", "to": "Growers"} for n in range(3)]
    write_text(
        folder / "rules.json", json.dumps({"rules": rules}), datetime(2022, 3, 1, tzinfo=UTC)
    )
    write_text(folder / "cache/1.tmp", "cached\n", datetime(2022, 3, 1, tzinfo=UTC))
    if letters:
        for account in accounts:
            quillbox.keep_password(folder, account)
