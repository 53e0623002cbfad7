"""IBANs and BICs."""

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.bank_accounts import bic, iban


def test_an_iban_is_kept_without_blanks() -> None:
    assert iban("pt50 0002 0123 1234 5678 9015 4") == "PT50000201231234567890154"
    assert (iban(" "), bic(" ")) == ("", "")
    assert bic("bsuiptpl") == "BSUIPTPL"


@pytest.mark.parametrize("number", ["PT51000201231234567890154", "PT5000020123123456789015", "XX00", "hello", "٣٤"])
def test_what_is_no_iban_is_refused(number: str) -> None:
    with pytest.raises(Invalid) as refused:
        iban(number)
    assert refused.value.where == "iban"


@pytest.mark.parametrize("code", ["BSUI", "1SUIPTPL", "BSUIPTPLXXXX"])
def test_what_is_no_bic_is_refused(code: str) -> None:
    with pytest.raises(Invalid) as refused:
        bic(code)
    assert refused.value.where == "bic"
