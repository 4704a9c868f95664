"""A survey to a spreadsheet, with a figure: what a computer has, and what no recipe covers.

    pip install "widetrail[examples]"
    widetrail demo garden --world-only && cd garden
    python ../examples/survey_to_spreadsheet.py

It writes survey.csv, which any spreadsheet opens, and survey.png with the size of each application.
"""

import matplotlib

import widetrail

matplotlib.use("Agg")  # a file is written, and no window opened

machine = widetrail.open_machine("machines/potting-shed")
found = widetrail.survey_machine(["recipes"], machine)

rows = widetrail.survey_frame(found)
rows.to_csv("survey.csv", index=False)

items = rows[rows["what"] == "item"]
sizes = items.groupby("application")["bytes"].sum().sort_values() / 1024
other = rows[rows["what"] == "not covered"]

axes = sizes.plot.barh(figsize=(9, 5), color="#5c8f6c", xlabel="KiB", ylabel="")
axes.set_title(f"What applications keep on {machine.name}")
axes.bar_label(axes.containers[0], fmt="%.1f", padding=3)
axes.margins(x=0.1)
axes.figure.tight_layout()
axes.figure.savefig("survey.png", dpi=100)

print(f"{len(items)} items of {items['application'].nunique()} applications")
print(f"{len(other)} places that no recipe covers")
