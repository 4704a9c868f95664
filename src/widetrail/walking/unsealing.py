"""Opening a sealed parcel by what a person answers."""

from __future__ import annotations

from widetrail.errors import (
    Waiting,
)
from widetrail.parcel import Parcel
from widetrail.parcel.seal import WrongPassphrase
from widetrail.steps import (
    Asked,
)
from widetrail.walking.walk_context import Company


def unseal(parcel: Parcel, company: Company) -> None:
    """Open a sealed parcel by its passphrase, which the person is asked for.

    Raises:
        Waiting: Nobody knows it.
    """
    seal, tried = parcel.seal, ""
    while seal is not None and not seal.is_open:
        hint = f" (hint: {seal.hint})" if seal.hint else ""
        words = f"Passphrase of the parcel{hint}"
        answer = company.hands.answer(Asked("parcel", "seal", words, secret=True))
        if not answer:
            raise Waiting(
                "the parcel is sealed",
                where=str(parcel.folder),
                why=f"no passphrase was given{hint}",
                todo="Walk at a terminal, or give the answer parcel.seal with --answers.",
            )
        try:
            parcel.unseal(answer)
        except WrongPassphrase as error:
            if answer == tried:
                raise
            company.onlooker.waits(str(error))
            tried = answer
        seal = parcel.seal
