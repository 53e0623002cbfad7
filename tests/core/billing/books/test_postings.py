"""Postings balance, whatever they are of."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.books.chart import LedgerAccount, check_name, name_of
from calm_tariff.core.billing.books.postings import (
    RECEIVABLE,
    Posting,
    balanced,
    of_credit_note,
    of_invoice,
    of_payment,
    of_refund,
    of_write_off,
)
from calm_tariff.core.billing.documents.tax import Taxed, TaxRule
from calm_tariff.core.billing.documents.totals import totals
from calm_tariff.core.errors import Invalid

S23 = TaxRule(treatment="standard", percent=Decimal(23))
S6 = TaxRule(treatment="standard", percent=Decimal(6))
EXEMPT = TaxRule(treatment="exempt", percent=Decimal(0))
TILES, HARBOUR = 3, 1
NAMES = {
    LedgerAccount(role="revenue", product=TILES): "Income:Tiles",
    LedgerAccount(role="tax", rule=TaxRule(treatment="standard", percent=Decimal("23.0000"))): "Liabilities:Tax:23",
    LedgerAccount(role="losses"): "Expenses:Bad-Debt",
}


def shown(postings: tuple[Posting, ...]) -> dict[str, str]:
    return {name_of(p.account, NAMES): str(p.amount) for p in postings}


def test_an_invoice_is_receivable_against_revenue_by_product_and_tax_by_rule() -> None:
    lines = [(S23, "10.00"), (S6, "2.00"), (EXEMPT, "5.00")]
    sums = totals([Taxed(rule=rule, amount=Decimal(amount)) for rule, amount in lines], "EUR")
    by_product = {TILES: Decimal("5.00"), HARBOUR: Decimal("9.00"), None: Decimal("3.00")}
    found = of_invoice(sums, by_product)
    assert [(p.account.role, p.account.product, p.amount) for p in found if p.account.role == "revenue"] == [
        ("revenue", TILES, Decimal("-5.00")),
        ("revenue", HARBOUR, Decimal("-9.00")),
        ("revenue", None, Decimal("-3.00")),
    ]
    told = shown(found)
    assert (told["Assets:Receivable"], told["Income:Tiles"]) == ("19.42", "-5.00")
    assert (told["Liabilities:Tax:23"], told["Liabilities:Tax"]) == ("-2.30", "-0.12")
    assert shown(of_credit_note(sums, by_product)) == {name: str(-Decimal(amount)) for name, amount in told.items()}
    with pytest.raises(Invalid, match=r"3\.00 out of balance"):
        of_invoice(sums, {TILES: Decimal("14.00")})


def test_money_comes_in_and_goes_out_where_it_does() -> None:
    assert shown(of_payment(Decimal(5), "card")) == {"Assets:Card-Clearing": "5", "Assets:Receivable": "-5"}
    assert shown(of_payment(Decimal(5), "transfer")) == {"Assets:Bank": "5", "Assets:Receivable": "-5"}
    assert shown(of_refund(Decimal(5), "transfer")) == {"Assets:Bank": "-5", "Assets:Receivable": "5"}
    assert shown(of_write_off(Decimal(5))) == {"Expenses:Bad-Debt": "5", "Assets:Receivable": "-5"}


amounts = st.decimals(-500, 500, places=2)
lines = st.tuples(st.sampled_from([TILES, HARBOUR, None]), st.sampled_from([S23, S6, EXEMPT]), amounts)


@given(st.lists(lines))
def test_the_postings_of_every_document_sum_to_nothing(drawn: list[tuple[int | None, TaxRule, Decimal]]) -> None:
    by_product: dict[int | None, Decimal] = {}
    for product, _, amount in drawn:
        by_product[product] = by_product.get(product, Decimal(0)) + amount
    sums = totals([Taxed(rule=rule, amount=amount) for _, rule, amount in drawn], "EUR")
    for made, sign in ((of_invoice(sums, by_product), 1), (of_credit_note(sums, by_product), -1)):
        assert sum(p.amount for p in made) == 0
        assert len({p.account for p in made}) == len(made) and all(p.amount for p in made)
        assert sum(p.amount for p in made if p.account == RECEIVABLE) == sign * sums.total


def test_what_is_out_of_balance_is_refused() -> None:
    with pytest.raises(Invalid):
        balanced([Posting(account=RECEIVABLE, amount=Decimal("0.01"))])


@pytest.mark.parametrize("name", ["Income:Revenue", "Assets:4010", "Liabilities:VAT:23-Standard"])
def test_a_name_of_an_account_is_a_path(name: str) -> None:
    check_name(name)


@pytest.mark.parametrize(
    "name",
    [
        *("Income", "Revenue:Tiles", "Income:", "Income:tiles", "Income:A b", 'Income:"A', "Income:Été", "Income::A"),
        *("Income:A\n", "Income:" + "A" * 120),
    ],
)
def test_what_is_no_path_is_none(name: str) -> None:
    with pytest.raises(Invalid) as refused:
        check_name(name)
    assert refused.value.where == "name"
