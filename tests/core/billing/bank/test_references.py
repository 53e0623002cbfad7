"""Creditor references, held against another's arithmetic."""

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from stdnum import iso11649

from calm_tariff.core.billing.bank.references import creditor_reference, valid
from calm_tariff.core.billing.documents.numbering import document_number
from calm_tariff.core.errors import Invalid


def test_a_reference_is_made_of_the_number() -> None:
    assert creditor_reference("INV-2026-00017") == "RF32INV202600017"


@given(st.integers(2000, 2999), st.integers(1, 999_999), st.sampled_from(["INV", "R", "LTO9"]))
def test_every_reference_is_one_by_the_standard(year: int, place: int, prefix: str) -> None:
    reference = creditor_reference(document_number("invoice", year, place, prefix))
    assert iso11649.is_valid(reference) and valid(reference)


@given(st.from_regex(r"(RF|rf| RF)[0-9 ]{2,3}[0-9A-Za-z]{0,23}", fullmatch=True))
@example("RF5 AER")
def test_whether_one_is_valid_is_told_as_another_tells_it(text: str) -> None:
    # The other one takes letters for check digits, whose sum may come out even so; the standard has digits there.
    digits = iso11649.compact(text)[2:4].isdigit()
    assert valid(text) == (digits and iso11649.is_valid(text))


def test_a_digit_read_wrong_is_noticed() -> None:
    good = creditor_reference("INV-2026-00017")
    assert not any(valid(good[:n] + other + good[n + 1 :]) for n in (7, 12, 15) for other in "3589" if good[n] != other)


@pytest.mark.parametrize("number", ["", "---", "A" * 22])
def test_a_number_that_makes_none_is_refused(number: str) -> None:
    with pytest.raises(Invalid) as refused:
        creditor_reference(number)
    assert refused.value.where == "number"
