"""Countries (ISO 3166-1), and the forms of their tax numbers as invoices carry them."""

from __future__ import annotations

from functools import cache
from importlib import resources

import stdnum
from stdnum.eu import vat
from stdnum.exceptions import ValidationError

from calm_tariff.core.errors import Invalid
from calm_tariff.core.names import plain

LONGEST = 40
# Numbers of the Union's members begin with their country's code, but for this one.
_BEGINS = {"GR": "EL"}


@cache
def countries() -> dict[str, str]:
    """The name of each country by its code of two letters, from the time zone database."""
    table = resources.files("tzdata").joinpath("zoneinfo", "iso3166.tab").read_text("utf-8")
    rows = (line.split("\t") for line in table.splitlines() if line and not line.startswith("#"))
    return {code: name for code, name in rows}  # noqa: C416


def country(code: str, field: str = "country") -> str:
    """A country's code as it is kept; none is. Raises `Invalid`, naming the field."""
    code = code.strip().upper()
    if code and code not in countries():
        raise Invalid("is no country by its two letters (ISO 3166-1), such as PT", field)
    return code


def tax_number(number: str, code: str, field: str = "tax_number") -> str:
    """A tax number as it is kept, of the form that a country gives it, check digit and all; of a country whose form is
    not known, as it is written. None is kept as none. Raises `Invalid`, naming the field."""
    if not number.strip():
        return ""
    if not code:
        raise Invalid("goes with a country; say which", field)
    number = plain(number, field, LONGEST)
    form = stdnum.get_cc_module(code.lower(), "vat")
    if form is None:
        return number
    try:
        kept = str(form.validate(number))
    except ValidationError as error:
        why = str(error).rstrip(".").lower()
        raise Invalid(f"is no tax number of {countries()[code]}: {why}", field) from None
    if code.lower() not in vat.MEMBER_STATES:
        return kept
    begins = _BEGINS.get(code, code)
    return kept if kept.startswith(begins) else f"{begins}{kept}"
