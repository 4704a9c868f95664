"""``widetrail schema``: what an editor needs to know of documents."""

from __future__ import annotations

import click

NAMES = ("recipe", "rehearsal", "machine", "catalogue", "policy", "keyring", "trace", "answers")


@click.command("schema")
@click.argument("name", type=click.Choice(NAMES))
def command(name: str) -> None:
    """Print the JSON Schema of a document: recipe, rehearsal, machine, catalogue, policy, keyring,
    trace or answers.

    Editors that know JSON Schema show from it what may stand where, and mark what may not.
    """
    from widetrail.library.schemas import schema_text

    click.echo(schema_text(name), nl=False)
