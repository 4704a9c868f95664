"""A licence moved by errand: neither computer has a network, a third one carries the requests.

    widetrail demo garden --world-only && cd garden
    python ../examples/licence_by_errand.py

The parcel goes to the old computer, to one with a network, and on; a stand-in for the maker's
service answers on this computer. At no moment do two computers have the licence.
"""

from pathlib import Path

import widetrail
from widetrail.licence.service import Service, serving

PASSPHRASE = "a goldcrest nests in the yew"  # a parcel with a licence in it is always sealed

for name in ("potting-shed", "glass-office"):  # these two lose their network
    file = Path("machines") / name / "machine.yaml"
    file.write_text(file.read_text("utf-8").replace("network: yes", "network: no"), "utf-8")

recipes = widetrail.load_recipes(["recipes/loamlens.trail.yaml"])
choices = widetrail.read_choices(recipes, widetrail.ChoiceWords(only=["licence"]))
parcel = "media/usb-stick/errand"
answers = widetrail.Answers({"parcel.seal": PASSPHRASE})
company = widetrail.Company(hands=answers)

with serving(Service(Path("maker"))) as address:
    machines = {
        station: widetrail.open_machine(f"machines/{name}")
        for station, name in (
            ("old", "potting-shed"),
            ("new", "glass-office"),
            ("between", "visitor-hall"),
        )
    }
    for machine in machines.values():
        machine.given["LICENCE_SERVICE"] = address
    plan = widetrail.plan(
        recipes, machines["old"], machines["new"], parcel, choices, passphrase=PASSPHRASE
    )
    for leg in plan.legs:
        machine = machines[leg.station]
        widetrail.walk(parcel, machine, lambda due: True, company, station=leg.station)
        [seat] = widetrail.seats(parcel)
        print(f"after the leg on {machine.name}: {seat.words}")

print(widetrail.report(parcel).headline)
