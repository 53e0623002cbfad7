from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.tax_numbers import countries, country, tax_number


@pytest.mark.parametrize(
    ("number", "code", "kept"),
    [
        ("501 964 843", "PT", "PT501964843"),
        ("PT 501964843", "PT", "PT501964843"),
        ("DE136695976", "DE", "DE136695976"),
        ("094259216", "GR", "EL094259216"),  # the one country whose numbers begin otherwise
        ("GB 980 7806 84", "GB", "980780684"),  # no member of the Union
        (" what they write ", "ZW", "what they write"),  # its form is not known
        ("  ", "", ""),
    ],
)
def test_a_number_is_kept_in_the_form_of_its_country(number: str, code: str, kept: str) -> None:
    assert tax_number(number, code) == kept


@pytest.mark.parametrize(
    ("number", "code", "why"),
    [
        ("501964844", "PT", "is no tax number of Portugal: the number's checksum or check digit is invalid"),
        ("12", "DE", "is no tax number of Germany: the number has an invalid length"),
        ("501964843", "", "goes with a country; say which"),
        ("x" * 41, "ZW", "must be at most 40 characters long"),
    ],
)
def test_another_is_refused_with_what_is_wrong(number: str, code: str, why: str) -> None:
    with pytest.raises(Invalid) as refused:
        tax_number(number, code)
    assert str(refused.value) == f"tax_number: {why}"


def test_countries_go_by_two_letters() -> None:
    assert (country(" pt "), country("")) == ("PT", "")
    assert countries()["PT"] == "Portugal" and len(countries()) > 240
    with pytest.raises(Invalid, match="country: is no country by its two letters"):
        country("XX")
