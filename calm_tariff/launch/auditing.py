"""Whether what is kept here is whole, as `./calm audit` says it."""

from __future__ import annotations

import sys

from sqlalchemy.exc import OperationalError

from calm_tariff.core.errors import Invalid
from calm_tariff.launch.reached import reached
from calm_tariff.services.base.context import Actor
from calm_tariff.services.house import record

_MACHINE = Actor("whoever runs this machine", frozenset({"operations"}))


def audit(kept: str) -> int:
    """Say it; 0 where everything is whole, 1 where it is not, 2 where that cannot be told."""
    try:
        found = record.proof(reached(_MACHINE), kept)
    except Invalid as error:
        print(error, file=sys.stderr)
        return 2
    except OperationalError:
        print("the database does not answer; start it with ./calm start or ./calm demo", file=sys.stderr)
        return 2
    without = f", {found.erased:,} of them without their words, which spoke of a person" if found.erased else ""
    print(f"The record: {found.entries:,} entries in one chain{without}.")
    print(f"Its last entry is {found.number}:{found.digest}")
    if found.wrong:
        print(f"It is not whole: {found.wrong}.")
        return 1
    print("It is whole. Keep that line elsewhere: --kept with it finds out later whether entries were replaced.")
    return 0
