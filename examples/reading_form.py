"""A reading form of one's own: a kind of settings file that Wide Trail does not know yet.

    python examples/reading_form.py

The form is added/tiny_leaf.py: lines such as ``colour -> green``. A distribution that names it in
its entry points (added/tiny_leaf-1.0.dist-info) adds it to the recipe language, here by lying on
Python's path, else by being installed.
"""

import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent / "added"))

import widetrail

folder = Path(tempfile.mkdtemp(prefix="reading-form-"))
told = widetrail.Beginning(
    "mossbook", "Mossbook", "Conker Rooms", "linux", "{config}/mossbook", "{programs}/mossbook/moss"
)
recipe, rehearsal, old, new = widetrail.begin_recipe(folder, told)

# A settings file in that form, and a check that reads a value of it.
kept = next(old.rglob(".config/mossbook"))
(kept / "moss.leaf").write_text("colour -> green\nlast page -> 12\n", encoding="utf-8")
text = recipe.read_text(encoding="utf-8")
text = text.replace("items:", '  colour: {leaf: "{kept}/moss.leaf", at: colour}\n\nitems:', 1)
text = text.replace("checks:\n", "checks:\n      colour: {compare: same}\n", 1)
recipe.write_text(text, encoding="utf-8")

[findings] = widetrail.lint([recipe]).values()
print("findings:", [str(finding) for finding in findings])
loaded = [widetrail.load_recipe(recipe)]
machines = [widetrail.open_machine(machine) for machine in (old, new)]
parcel = folder / "parcel"
widetrail.plan(loaded, *machines, parcel)
for machine in machines:
    widetrail.walk(parcel, machine, lambda due: True)
[item] = widetrail.report(parcel).items
for check in item.checks:
    print(
        f"{check.name}: {check.old.value} on the old, {check.new.value} on the new: {check.verdict}"
    )
