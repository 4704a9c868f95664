"""A kind of step of one's own: what a recipe can have done that Wide Trail cannot do yet.

    python examples/step_kind.py

The kind is added/tiny_label.py: it writes a label into a folder of the new computer once enough
files are there. It says its settings, its words and how it is done; planning, consent, the journal,
undoing and rehearsing come by themselves. A distribution names it in its entry points
(added/tiny_label-1.0.dist-info).
"""

import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent / "added"))

import widetrail

folder = Path(tempfile.mkdtemp(prefix="step-kind-"))
told = widetrail.Beginning(
    "mossbook", "Mossbook", "Conker Rooms", "linux", "{documents}/Moss", "{programs}/mossbook/moss"
)
recipe, rehearsal, old, new = widetrail.begin_recipe(folder, told)
step = '{label: "{kept}/LABEL", text: moved, once: {files_there: {at_least: 3}}}'
text = recipe.read_text(encoding="utf-8").replace("[copy]", f"[copy, {step}]")
recipe.write_text(text.replace("compare: same", "compare: at_least"), encoding="utf-8")

loaded = [widetrail.load_recipe(recipe)]
machines = [widetrail.open_machine(machine) for machine in (old, new)]
parcel = folder / "parcel"
widetrail.plan(loaded, *machines, parcel)


def consent(due):
    for step, words in due.steps:
        if step.kind == "label":
            print("to be done:", words.replace(str(folder), ""))
    return True


for machine in machines:
    widetrail.walk(parcel, machine, consent)
[label] = new.rglob("LABEL")
print("the label says:", label.read_text(encoding="utf-8"))
widetrail.undo(machines[1])
print("after undoing:", "still there" if label.exists() else "gone")
