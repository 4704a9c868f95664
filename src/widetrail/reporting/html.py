"""What every page is made with: one file that needs nothing beside itself, all of it escaped."""

from __future__ import annotations

from widetrail.formats.quantities import show_count, show_files, show_size, show_time
from widetrail.formats.texts import for_people

_HEAD = """<!doctype html>
<html lang="en"><head><meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ title | clean }}</title>
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
table { border-collapse: collapse; }
code { font-size: .95em; overflow-wrap: anywhere; } li { margin: .3rem 0; }
STYLE</style></head><body>
<h1>{{ title | clean }}</h1>
"""


def make_page(title: str, body: str, style: str = "", **values: object) -> str:
    """Return a page as HTML: its title, then ``body``, a Jinja template that ``values`` fill.

    ``style`` are rules of CSS beside those that all pages share. Everything that is filled in is
    escaped; what machines and recipes say goes through the filter ``clean`` as well, which shows
    control characters. ``size`` (bytes), ``files``, ``count`` and ``time`` show numbers.
    """
    import jinja2

    environment = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined)
    environment.filters |= {
        "clean": for_people,
        "size": show_size,
        "files": show_files,
        "count": show_count,
        "time": show_time,
    }
    text = f"{_HEAD.replace('STYLE', style)}{body}</body></html>\n"
    return environment.from_string(text).render(title=title, **values)
