"""A whole office planned: many computers, one table, and why a plan cannot be made.

    widetrail demo garden --world-only && cd garden
    python ../examples/plan_an_office.py

Nothing is changed on any computer. Each plan travels in a parcel of its own; the table is also
written to office.csv.
"""

import csv
from pathlib import Path

import widetrail

OFFICE = {  # who gets which new computer
    "Ines": ("potting-shed", "glass-office"),
    "Tomas": ("seed-vault", "herbarium-loft"),
    "Piet": ("gatehouse", "bothy"),
}

LICENCES = ("loamlens.licence", "mistvane.licence")  # these need a sealed parcel; see that example

recipes = widetrail.load_recipes(["recipes"])
rows = [["who", "from", "to", "items", "left behind", "legs", "KiB", "why not"]]
for who, names in OFFICE.items():
    old, new = (widetrail.open_machine(Path("machines") / name) for name in names)
    found = widetrail.survey_machine(["recipes"], old, scan=False)
    there = {f"{one.id}.{item.name}" for one in found.here for item in one.items if item.tally.size}
    words = widetrail.ChoiceWords(only=sorted(there.difference(LICENCES)))
    parcel = Path("media/usb-stick") / who.lower()
    try:
        plan = widetrail.plan(recipes, old, new, parcel, widetrail.read_choices(recipes, words))
    except widetrail.Obstructed as error:
        rows.append([who, *names, *["-"] * 4, str(error.obstacles[0])])
        continue
    counts = [len(plan.items), len(plan.left), len(plan.legs), round(plan.parcel_size / 1024)]
    rows.append([who, *names, *map(str, counts), ""])

with Path("office.csv").open("w", newline="", encoding="utf-8") as file:
    csv.writer(file).writerows(rows)
widths = [max(len(row[column]) for row in rows) for column in range(len(rows[0]))]
for row in rows:
    print("  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip())
