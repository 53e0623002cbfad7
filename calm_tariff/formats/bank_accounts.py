"""Bank accounts as transfers name them: IBAN (ISO 13616) and BIC (ISO 9362)."""

from __future__ import annotations

from stdnum import bic as bic_form
from stdnum import iban as iban_form
from stdnum.exceptions import ValidationError

from calm_tariff.core.errors import Invalid


def iban(number: str, field: str = "iban") -> str:
    """An IBAN as it is kept, without blanks; none is. Raises `Invalid`, naming the field, for check digits or a form
    that its country does not give."""
    if not number.strip():
        return ""
    try:
        return str(iban_form.validate(number))
    except ValidationError as error:
        raise Invalid(f"is no IBAN: {str(error).rstrip('.').lower()}", field) from None


def bic(code: str, field: str = "bic") -> str:
    """A BIC as it is kept; none is. Raises `Invalid`, naming the field."""
    if not code.strip():
        return ""
    try:
        return str(bic_form.validate(code))
    except ValidationError as error:
        raise Invalid(f"is no BIC: {str(error).rstrip('.').lower()}", field) from None
