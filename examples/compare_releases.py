"""Two releases of a program compared: which routes a recipe takes for each, and why.

    widetrail demo garden --world-only && cd garden
    python ../examples/compare_releases.py

Huemoss can hand its palettes over by itself from release 3 on; with an earlier one they are copied.
The release of the old computer is changed in copies of it, and a plan is made for each.
"""

import shutil
from pathlib import Path

import widetrail

RELEASES = ("2.9", "3.0")

recipes = widetrail.load_recipes(["recipes/huemoss.trail.yaml"])
new = widetrail.open_machine("machines/glass-office")
for release in RELEASES:
    copy = Path("compared") / release
    shutil.copytree("machines/potting-shed", copy, symlinks=True)
    [file] = copy.rglob("Huemoss/release.txt")
    file.write_text(f"{release}\n", encoding="utf-8")
    plan = widetrail.plan(recipes, widetrail.open_machine(copy), new, f"media/usb-stick/{release}")
    print(f"Huemoss {release}")
    for item in plan.items:
        print(f"  {item.title}: {item.route}")
        for rejected in item.rejected:
            print(f"    rejected: {rejected.route} – {rejected.reason}")
