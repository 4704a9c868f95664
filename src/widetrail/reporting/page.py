"""The report as one HTML page that needs nothing beside itself."""

from __future__ import annotations

from typing import Any

from widetrail.formats.quantities import show_count, show_files, show_size, show_time
from widetrail.formats.texts import for_people
from widetrail.walking import Report

_PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ report.applications | join(", ") | clean }}: from {{ report.old | clean }} to
{{ report.new | clean }}</title>
<style>
:root { color-scheme: light dark; --ink: #1f2a24; --paper: #fbfaf6; --line: #d9d6c9;
  --good: #2e6b3f; --bad: #a3342b; --soft: #5f6a63; --card: #ffffff; }
@media (prefers-color-scheme: dark) { :root { --ink: #e7ebe4; --paper: #171c19;
  --line: #39423c; --good: #8fcf9d; --bad: #f09a90; --soft: #a3ada6; --card: #1f2622; } }
body { font: 16px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper);
  max-width: 60rem; margin: 2rem auto; padding: 0 1.25rem; }
h1 { font-size: 1.6rem; margin: 0 0 .25rem; } h2 { font-size: 1.15rem; margin: 2rem 0 .5rem; }
.soft { color: var(--soft); } .good { color: var(--good); } .bad { color: var(--bad); }
section { background: var(--card); border: 1px solid var(--line); border-radius: .5rem;
  padding: 1rem 1.25rem; margin: 1rem 0; }
section h2 { margin: 0 0 .25rem; }
table { border-collapse: collapse; width: 100%; margin: .5rem 0; }
th, td { text-align: left; padding: .3rem .75rem .3rem 0; border-bottom: 1px solid var(--line);
  vertical-align: top; overflow-wrap: break-word; }
td:first-child { white-space: nowrap; } .wrap td:first-child { white-space: normal; }
th { font-weight: 600; color: var(--soft); font-size: .9rem; }
code { font-size: .95em; overflow-wrap: anywhere; } li { margin: .3rem 0; }
</style></head><body>
<h1>{{ report.applications | join(", ") | clean }}: from {{ report.old | clean }} to
{{ report.new | clean }}</h1>
<p class="{{ 'good' if report.well else 'bad' }}"><strong>{{ report.headline | clean }}</strong></p>
{% if report.tasks %}<h2>Still to be done by you</h2>
<ol>{% for task in report.tasks %}<li>{{ task | clean }}</li>{% endfor %}</ol>{% endif %}
{% if report.ticked %}<h2>Seen to be done</h2>
<ul>{% for task in report.ticked %}<li class="good">{{ task | clean }}</li>{% endfor %}</ul>
{%- endif %}
{% for item in report.items %}<section>
<h2>{{ item.title | clean }}</h2>
<p class="{{ 'bad' if item.state == 'failed' else 'good' if item.state == 'carried' else 'soft' }}">
{{ item.state }} by “{{ item.route | clean }}”, {{ item.amount }}
{%- if not item.seat %}, {{ item.size | size }}{% endif %}
{%- if item.verified %}, {{ item.verified }} verified on {{ report.new | clean }}{% endif %}</p>
{% if not item.seat %}<p><code>{{ item.old_path | clean }}</code> →
<code>{{ item.new_path | clean }}</code></p>{% endif %}
{% if item.checks %}<table><tr><th>Check</th><th>{{ report.old | clean }}</th>
<th>{{ report.new | clean }}</th><th></th></tr>
{% for check in item.checks %}<tr><td>{{ check.name | clean }}</td><td>{{ check.old | value }}</td>
<td>{{ check.new | value }}</td>
<td class="{{ 'soft' if check.is_empty else 'good' if check.verdict == 'holds' else 'bad' }}">
{{- check.words }}</td></tr>
{% endfor %}</table>{% endif %}
{% if item.rewritten %}<p>{{ item.rewritten | count("path") }} in it made right.</p>{% endif %}
{% for path in item.put_aside %}<p>What was there before is kept in
<code>{{ path | clean }}</code>.</p>{% endfor %}
{% for path in item.beside %}<p>Something was there already, so it came beside it, as
<code>{{ path | clean }}</code>.</p>{% endfor %}
{% for path in item.passed_by %}<p class="soft">Left in the parcel, since it was there already:
<code>{{ path | clean }}</code>.</p>{% endfor %}
{% for note in item.notes %}<p>{{ note | clean }}</p>
{% endfor %}
{% for step in item.steps %}<p class="bad">{{ step.reason | clean }}. {{ step.todo | clean }}</p>
{% endfor %}
{% if item.losses %}<table class="wrap"><tr><th>Not carried</th><th>What to do</th></tr>
{% for loss in item.losses %}<tr><td>{{ loss.what | clean }}</td><td>{{ loss.remedy | clean }}
{%- if loss.proof == "seen" %} <span class="good">Seen to be done.</span>{% endif %}
{%- if loss.lacking %} <span class="soft">Seen to be done once
{{ loss.lacking | clean }}.</span>{% endif %}</td></tr>
{% endfor %}</table>{% endif %}
</section>{% endfor %}
{% for item in report.left %}<section><h2>{{ item.title | clean }}</h2>
{% if not item.there %}<p class="bad">stayed behind</p>{% endif %}
{% for reason in item.reasons %}<p>{{ reason | clean }}</p>{% endfor %}</section>{% endfor %}
{% if report.notices %}<h2>Worth knowing</h2><ul>{% for notice in report.notices %}
<li>{{ notice | clean }}</li>{% endfor %}</ul>{% endif %}
<h2>The way it went</h2>
<table><tr><th>Leg</th><th>Station</th><th>Machine</th><th>Walked</th><th>Verified</th></tr>
{% for leg in report.legs %}<tr><td>{{ leg.number }}</td><td>{{ leg.station }}</td>
<td>{{ leg.machine | clean }}</td><td>{{ leg.time | time }}</td>
<td>{% for line in leg.words %}{{ line | clean }}<br>{% endfor %}</td></tr>{% endfor %}</table>
<p class="soft">Run {{ report.run }}, plan {{ report.plan[:16] }}. What was read again was read from
the medium or the disk, not from what the system remembered of it, as far as it can be asked to.</p>
</body></html>
"""


def render_page(report: Report) -> str:
    """Return the report as HTML; everything from a machine or recipe is escaped."""
    import jinja2

    environment = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined)
    environment.filters |= {
        "clean": for_people,
        "size": show_size,
        "files": show_files,
        "count": show_count,
        "value": show_answer,
        "time": show_time,
    }
    return environment.from_string(_PAGE).render(report=report)


def show_answer(answer: Any) -> str:
    """Return a noted answer for people: a value, or that it is unknown."""
    if isinstance(answer, dict) and "by" in answer:
        shown = (f"{part}: {show_answer(_one(value))}" for part, value in answer["by"].items())
        return ", ".join(shown) or "none"
    if isinstance(answer, dict):
        return for_people(f"unknown: {answer.get('unknown', '')}")
    if isinstance(answer, list):
        return for_people(", ".join(map(str, answer)))
    return "not noted" if answer is None else for_people(str(answer))


def _one(answer: Any) -> Any:
    return answer["value"] if isinstance(answer, dict) and "value" in answer else answer
