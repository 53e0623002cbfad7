"""What of a draft is out of the ordinary."""

from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.documents.review import Facts, Finding, findings, weight
from calm_tariff.core.sentences.review import finding_in_words


def facts(subtotal: str, *before: str, **more: object) -> Facts:
    return Facts(subtotal=Decimal(subtotal), before=[Decimal(each) for each in before], **more)  # type: ignore[arg-type]


def words(of: Facts, percent: int = 30) -> list[str]:
    return [finding_in_words(each, "EUR") for each in findings(of, percent)]


@pytest.mark.parametrize(
    ("of", "said"),
    [
        (facts("130.00", "100.00"), []),
        (facts("130.01", "100.00"), ["30% more than €100.00, the mean of the last months"]),
        (facts("69.99", "90.00", "110.00", "100.00"), ["30% less than €100.00, the mean of the last months"]),
        (facts("10.00", "0.00", "0.00"), ["nothing was charged in the last months"]),
        (facts("0.00", "0.00"), []),
        (facts("10.00"), ["the first invoice of its consumer"]),
        (
            facts("-1.00", "1.00", adjusted=True),
            [
                "comes to less than nothing: it cannot be issued",
                "200% less than €1.00, the mean of the last months",
                "adjusted by a person",
            ],
        ),
        (facts("5.00", "5.00", pays=False), ["nobody has said how it is paid"]),
        (facts("0.00", "0.00", pays=False, nothing=True), ["nothing is due: no invoice is issued"]),
        (
            facts("5.00", "5.00", arrived=Decimal("1200.500000")),
            ["usage is still arriving: 1,200.5 units more since the draft before"],
        ),
        (
            facts("5.00", "5.00", arrived=Decimal(-3)),
            ["usage is still arriving: 3 units fewer since the draft before"],
        ),
    ],
)
def test_each_thing_out_of_the_ordinary_is_said(of: Facts, said: list[str]) -> None:
    assert words(of) == said


amounts = st.decimals(0, 500, places=2)


@given(st.decimals(-500, 500, places=2), st.lists(amounts, min_size=1, max_size=3), st.integers(1, 200))
def test_a_change_is_told_exactly_where_it_is_more_than_so_many_percent_of_the_mean(
    subtotal: Decimal, before: list[Decimal], percent: int
) -> None:
    mean = Fraction(sum(before)) / len(before)
    more = Fraction(subtotal) - mean
    told = [f.kind for f in findings(Facts(subtotal=subtotal, before=before), percent) if f.kind in ("up", "down")]
    expected = abs(more) > mean * percent / 100
    assert told == (["up" if more > 0 else "down"] if expected else [])


def test_what_cannot_be_issued_weighs_most_and_a_greater_change_more() -> None:
    order = [
        facts("-1.00", "-1.00"),
        facts("500.00", "100.00"),
        facts("200.00", "100.00"),
        facts("5.00", "5.00", arrived=Decimal(1)),
        facts("5.00", "5.00", pays=False),
        facts("5.00"),
        facts("5.00", "5.00", adjusted=True),
        facts("0.00", "0.00", nothing=True),
        facts("5.00", "5.00"),
    ]
    weights = [weight(findings(each)) for each in order]
    assert weights == sorted(weights, reverse=True) and len(set(weights)) == len(weights)
    assert weight([Finding(kind="up", mean=Decimal(1), percent=10**9)]) < weight([Finding(kind="negative")])
