"""A first recipe from nothing: begun, given a check of its own, linted and rehearsed.

    python examples/first_recipe.py

It makes a recipe for a made-up program, Lychgate, which keeps a list of gates in a JSON file below
the documents; with it come a rehearsal and two machines, a folder each, on which it is tried.
"""

import tempfile
from pathlib import Path

import widetrail

folder = Path(tempfile.mkdtemp(prefix="first-recipe-"))

# What must be known to begin: the program, a folder that matters, a file that shows it is there.
told = widetrail.Beginning(
    id="lychgate",
    name="Lychgate",
    maker="Conker Rooms",
    platform="windows",
    keeps="{documents}/Lychgate",
    sign="{programs}/Lychgate/lychgate.exe",
)
recipe, rehearsal, old, new = widetrail.begin_recipe(folder, told)

# A sample of what the program keeps, where a rehearsal finds it on the old machine.
gates = '{"gates": [{"name": "north"}, {"name": "pond"}]}'
kept = next(old.rglob("Documents/Lychgate"))
(kept / "gates.json").write_text(gates, encoding="utf-8")

# The count that people look at on both computers becomes a check.
text = recipe.read_text(encoding="utf-8")
text = text.replace(
    "items:", '  gates: {json: "{kept}/gates.json", at: /gates, as: count}\n\nitems:', 1
)
text = text.replace("checks:\n", "checks:\n      gates: {compare: same}\n", 1)
recipe.write_text(text, encoding="utf-8")
cases = rehearsal.read_text(encoding="utf-8").replace("files_there: 3", "gates: 2, files_there: 4")
cases = cases.replace("differs: 4", "differs: 5")
rehearsal.write_text(cases, encoding="utf-8")

[findings] = widetrail.lint([recipe]).values()
print("findings:", len(findings))
rehearsed = widetrail.rehearse([rehearsal])
for result in rehearsed.results:
    print("passed:" if result.passed else "failed:", result.case)
[covered] = rehearsed.coverage()
print(f"{covered.percent:.0f} % of its branches are covered")
for branch in covered.missing:
    print(f"not covered: line {branch.line}: {branch.words}")
