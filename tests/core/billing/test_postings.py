"""Postings balance, whatever they are of."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.documents import totals
from calm_tariff.core.billing.postings import (
    ChartOfAccounts,
    Posting,
    balanced,
    of_credit_note,
    of_invoice,
    of_payment,
    of_refund,
    of_write_off,
)
from calm_tariff.core.billing.tax import Taxed, TaxRule
from calm_tariff.core.errors import Invalid

S23 = TaxRule(treatment="standard", percent=Decimal(23))
EXEMPT = TaxRule(treatment="exempt", percent=Decimal(0))
CHART = ChartOfAccounts(revenue_by_product={"Chart Tiles": "Income:Tiles"}, tax_by_rule={S23: "Liabilities:Tax:23"})


def shown(postings: tuple[Posting, ...]) -> dict[str, str]:
    return {p.account: str(p.amount) for p in postings}


def test_an_invoice_is_receivable_against_revenue_by_product_and_tax_by_rule() -> None:
    sums = totals([Taxed(rule=S23, amount=Decimal("10.00")), Taxed(rule=EXEMPT, amount=Decimal("5.00"))], "EUR")
    by_product = {"Chart Tiles": Decimal("5.00"), "Harbour Data": Decimal("7.00"), "": Decimal("3.00")}
    found = of_invoice(CHART, sums, by_product)
    assert shown(found) == {
        "Assets:Receivable": "17.30",
        "Income:Tiles": "-5.00",
        "Income:Revenue": "-10.00",
        "Liabilities:Tax:23": "-2.30",
    }
    assert shown(of_credit_note(CHART, sums, by_product)) == {p.account: str(-p.amount) for p in found}
    with pytest.raises(Invalid, match=r"1\.00 out of balance"):
        of_invoice(CHART, sums, {"Chart Tiles": Decimal("14.00")})


def test_money_comes_in_and_goes_out_where_it_does() -> None:
    assert shown(of_payment(CHART, Decimal(5), "card")) == {"Assets:CardClearing": "5", "Assets:Receivable": "-5"}
    assert shown(of_payment(CHART, Decimal(5), "transfer")) == {"Assets:Bank": "5", "Assets:Receivable": "-5"}
    assert shown(of_refund(CHART, Decimal(5), "transfer")) == {"Assets:Bank": "-5", "Assets:Receivable": "5"}
    assert shown(of_write_off(CHART, Decimal(5))) == {"Expenses:Losses": "5", "Assets:Receivable": "-5"}


amounts = st.decimals(-500, 500, places=2)
lines = st.tuples(st.sampled_from(["Chart Tiles", "Sea Watch", ""]), st.sampled_from([S23, EXEMPT]), amounts)


@given(st.lists(lines))
def test_the_postings_of_every_document_sum_to_nothing(drawn: list[tuple[str, TaxRule, Decimal]]) -> None:
    by_product: dict[str, Decimal] = {}
    for product, _, amount in drawn:
        by_product[product] = by_product.get(product, Decimal(0)) + amount
    sums = totals([Taxed(rule=rule, amount=amount) for _, rule, amount in drawn], "EUR")
    for made in (of_invoice(CHART, sums, by_product), of_credit_note(CHART, sums, by_product)):
        assert sum(p.amount for p in made) == 0
        assert len({p.account for p in made}) == len(made) and all(p.amount for p in made)


def test_what_is_out_of_balance_is_refused() -> None:
    with pytest.raises(Invalid):
        balanced([Posting(account="a", amount=Decimal("0.01"))])
