"""Numbers of documents."""

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.documents.numbering import document_number

kinds = st.sampled_from(["invoice", "credit note"])
places = st.tuples(kinds, st.integers(2000, 2999), st.integers(1, 300_000))


def test_a_number_says_its_kind_its_year_and_its_place() -> None:
    assert document_number("invoice", 2026, 17) == "INV-2026-00017"
    assert document_number("credit note", 2027, 123_456) == "CN-2027-123456"


@given(places, places)
def test_no_two_places_have_the_same_number(one: tuple, other: tuple) -> None:
    assert (document_number(*one) == document_number(*other)) == (one == other)
