"""The treatment of lines, and tax by group."""

from datetime import date
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.documents.tax import Rate, Taxed, TaxRule, groups, percent_on, rule_of
from calm_tariff.core.billing.documents.totals import nothing_due, totals
from calm_tariff.core.errors import Invalid

S23 = TaxRule(treatment="standard", percent=Decimal(23))
S6 = TaxRule(treatment="standard", percent=Decimal("6.0"))
EXEMPT = TaxRule(treatment="exempt", percent=Decimal(0))
REVERSE = TaxRule(treatment="reverse charge", percent=Decimal(0))


def lines(*given: tuple[TaxRule, str]) -> list[Taxed]:
    return [Taxed(rule=rule, amount=Decimal(amount)) for rule, amount in given]


def test_tax_is_rounded_once_for_each_group_away_from_zero() -> None:
    found = totals(lines((S23, "0.50"), (S6, "1.00"), (EXEMPT, "7.00"), (S23, "1.00"), (REVERSE, "3.00")), "EUR")
    assert [(g.rule.treatment, g.rule.percent, g.base, g.tax) for g in found.groups] == [
        ("standard", Decimal(23), Decimal("1.50"), Decimal("0.35")),  # 0.345
        ("standard", Decimal(6), Decimal("1.00"), Decimal("0.06")),
        ("exempt", Decimal(0), Decimal("7.00"), Decimal("0.00")),
        ("reverse charge", Decimal(0), Decimal("3.00"), Decimal("0.00")),
    ]
    assert (found.subtotal, found.tax, found.total) == (Decimal("12.50"), Decimal("0.41"), Decimal("12.91"))
    (credit,) = groups(lines((S23, "-1.50")), "EUR")
    assert credit.tax == Decimal("-0.35")


def test_a_percent_is_the_same_however_it_is_written() -> None:
    same = TaxRule(treatment="standard", percent=Decimal("23.000"))
    (group,) = groups(lines((S23, "1.00"), (same, "1.00")), "EUR")
    assert (group.base, group.rule) == (Decimal("2.00"), S23)


def test_what_a_plan_exempts_stays_exempt_and_else_the_consumer_decides() -> None:
    percent = Decimal(23)
    assert rule_of("standard", "standard", percent) == S23
    assert rule_of("standard", "reverse charge", percent) == REVERSE
    assert rule_of("exempt", "reverse charge", percent) == rule_of("standard", "exempt", percent) == EXEMPT


def test_the_percent_is_that_of_the_day() -> None:
    rates = [
        Rate(since=date(2027, 1, 1), percent=Decimal(24)),
        Rate(since=date(2020, 1, 1), percent=Decimal(23)),
    ]
    assert [percent_on(rates, date(*day)) for day in ((2020, 1, 1), (2026, 12, 31), (2027, 1, 1))] == [23, 23, 24]
    with pytest.raises(Invalid, match="no tax percent on 2019-12-31"):
        percent_on(rates, date(2019, 12, 31))


amounts = st.decimals(-500, 500, places=2)
rules = st.sampled_from([S23, S6, EXEMPT, REVERSE])


@given(st.lists(st.builds(Taxed, rule=rules, amount=amounts)))
def test_a_document_comes_to_its_lines_and_its_groups(drawn: list[Taxed]) -> None:
    found = totals(drawn, "EUR")
    assert found.subtotal == sum(x.amount for x in drawn) == sum(g.base for g in found.groups)
    assert found.total == found.subtotal + sum(g.tax for g in found.groups)
    back = totals([Taxed(rule=x.rule, amount=-x.amount) for x in drawn], "EUR")
    assert back.total == -found.total
    for group in found.groups:
        assert abs(group.tax - group.base * group.rule.percent / 100) <= Decimal("0.005")


def test_nothing_is_due_where_every_line_is_nothing() -> None:
    zero = Decimal("0.00")
    assert nothing_due([zero, zero]) and nothing_due([])
    assert not nothing_due([zero], wants_zero_invoices=True)
    assert not nothing_due([Decimal(10), Decimal(-10)])
