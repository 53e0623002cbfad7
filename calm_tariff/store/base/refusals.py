"""What the database refuses, as errors of the domain that name the field, and nothing of the values."""

from __future__ import annotations

import re

from sqlalchemy import UniqueConstraint
from sqlalchemy.exc import DataError, DBAPIError, IntegrityError

from calm_tariff.core.errors import CalmTariffError, Conflict, Deadlocked, Invalid
from calm_tariff.store.base.columns import Base

_DEADLOCK, _LOCK_WAIT = 1213, 1205
_NO_NULL, _NO_PARENT, _HAS_CHILDREN = 1048, 1452, 1451
_KEY = re.compile(r"for key '(?:\w+\.)?(\w+)'")
_FOREIGN = re.compile(r"FOREIGN KEY \(`(\w+)`\)")
_COLUMN = re.compile(r"column (?:`\w+`\.)*['`](\w+)['`]", re.IGNORECASE)
_MEANWHILE = "somebody changed the same at the same moment; nothing was changed"


def in_our_words(error: DBAPIError) -> CalmTariffError | None:
    """What the database refused, as people are told; None where it was no refusal."""
    code = _code(error)
    if code == _DEADLOCK:
        return Deadlocked(_MEANWHILE)
    if code == _LOCK_WAIT:
        return Conflict(_MEANWHILE)
    if isinstance(error, IntegrityError):
        if code == _NO_NULL:
            return Invalid("is missing", _field(error, _COLUMN))
        if code == _NO_PARENT:
            return Conflict("names something that is not there any more", _field(error, _FOREIGN))
        if code == _HAS_CHILDREN:
            return Conflict("something else depends on it", _field(error, _FOREIGN))
        return Conflict("there is one like it already", _last_column(_field(error, _KEY)))
    if isinstance(error, DataError):
        return Invalid("does not fit what can be kept", _field(error, _COLUMN))
    return None


def _code(error: DBAPIError) -> int | None:
    said = error.orig.args if error.orig is not None else ()
    return said[0] if said and isinstance(said[0], int) else None


def _field(error: DBAPIError, named: re.Pattern[str]) -> str:
    found = named.search(str(error.orig))
    return found[1] if found else ""


def _last_column(key: str) -> str:
    """The column a unique key is about: the last of several, which is the name within what the others say."""
    for table in Base.metadata.tables.values():
        for constraint in table.constraints:
            if isinstance(constraint, UniqueConstraint) and constraint.name == key:
                return str(list(constraint.columns)[-1].name)
    return ""
