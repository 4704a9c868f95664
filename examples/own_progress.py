"""A technician's walk with a progress display of one's own, and consent in one's own words.

    widetrail demo garden --world-only && cd garden
    python ../examples/own_progress.py

The library prints and asks nothing: whoever calls it shows how it goes, answers, and consents.
"""

from collections import Counter

import widetrail


class OneLineEach:
    """Shows each step with its number, and what is waited for."""

    def begins(self, step, words, number, total):
        print(f"[{number:2}/{total}] {words}")

    def waits(self, what):
        print(f"        waiting: {what}")

    def moves(self, done, total, unit, left, files=None):
        pass  # told many times a second while much is copied; ``left`` are seconds


def consent(due):
    """Say what kinds of steps there are, and agree."""
    kinds = Counter(step.kind for step, _ in due.steps)
    print(f"{due.title}: {', '.join(f'{count} {kind}' for kind, count in kinds.items())}")
    return True


recipes = widetrail.load_recipes(["recipes/sporelog.trail.yaml"])
old, new = (widetrail.open_machine(f"machines/{name}") for name in ("potting-shed", "glass-office"))
words = widetrail.ChoiceWords(only=["views"])
parcel = "media/usb-stick/own-progress"
widetrail.plan(recipes, old, new, parcel, widetrail.read_choices(recipes, words))
company = widetrail.Company(onlooker=OneLineEach())
for machine in (old, new):
    done = widetrail.walk(parcel, machine, consent, company)
    print("failed" if done.bad else "done", "on", machine.name)
print(widetrail.report(parcel).headline)
