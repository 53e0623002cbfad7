"""The journal: what documents, payments, refunds and write-offs do to the accounts of a bookkeeper
(docs/arithmetic.md, section 7)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from calm_tariff.core.billing.documents import Totals
from calm_tariff.core.billing.payments import Way
from calm_tariff.core.billing.tax import TaxRule
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import total
from calm_tariff.core.prices import ZERO


@dataclass(frozen=True, slots=True, kw_only=True)
class ChartOfAccounts:
    """The bookkeeper's names of accounts. Revenue is told apart by product, tax by its rule, where a name is given for
    that one."""

    receivable: str = "Assets:Receivable"
    bank: str = "Assets:Bank"
    card_clearing: str = "Assets:CardClearing"
    revenue: str = "Income:Revenue"
    revenue_by_product: Mapping[str, str] = field(default_factory=dict)
    tax: str = "Liabilities:Tax"
    tax_by_rule: Mapping[TaxRule, str] = field(default_factory=dict)
    losses: str = "Expenses:Losses"


@dataclass(frozen=True, slots=True, kw_only=True)
class Posting:
    """An amount on one account: above 0 is debit, below is credit."""

    account: str
    amount: Decimal


def of_invoice(chart: ChartOfAccounts, sums: Totals, by_product: Mapping[str, Decimal]) -> tuple[Posting, ...]:
    """An invoice: its total is receivable, against revenue by product and tax by rule. `by_product` sums its lines.
    Raises `Invalid` where those do not come to the subtotal."""
    return balanced(
        [
            Posting(account=chart.receivable, amount=sums.total),
            *(
                Posting(account=chart.revenue_by_product.get(product, chart.revenue), amount=-amount)
                for product, amount in by_product.items()
            ),
            *(
                Posting(account=chart.tax_by_rule.get(group.rule, chart.tax), amount=-group.tax)
                for group in sums.groups
            ),
        ]
    )


def of_credit_note(chart: ChartOfAccounts, sums: Totals, by_product: Mapping[str, Decimal]) -> tuple[Posting, ...]:
    """A credit note: what its amounts would be on an invoice, the other way round."""
    return tuple(Posting(account=p.account, amount=-p.amount) for p in of_invoice(chart, sums, by_product))


def of_payment(chart: ChartOfAccounts, amount: Decimal, way: Way) -> tuple[Posting, ...]:
    """A payment: money there, less receivable."""
    return balanced([Posting(account=_money(chart, way), amount=amount), _receivable(chart, -amount)])


def of_refund(chart: ChartOfAccounts, amount: Decimal, way: Way) -> tuple[Posting, ...]:
    """A refund: the payment the other way round."""
    return of_payment(chart, -amount, way)


def of_write_off(chart: ChartOfAccounts, amount: Decimal) -> tuple[Posting, ...]:
    """A write-off: a loss instead of a receivable."""
    return balanced([Posting(account=chart.losses, amount=amount), _receivable(chart, -amount)])


def balanced(postings: Iterable[Posting]) -> tuple[Posting, ...]:
    """One posting for each account, without those of 0; their sum is 0. Raises `Invalid` where it is not."""
    sums: dict[str, Decimal] = {}
    for each in postings:
        sums[each.account] = sums.get(each.account, ZERO) + each.amount
    off = total(sums.values())
    if off:
        raise Invalid(f"are {off} out of balance", "postings")
    return tuple(Posting(account=account, amount=amount) for account, amount in sums.items() if amount)


def _money(chart: ChartOfAccounts, way: Way) -> str:
    return chart.card_clearing if way == "card" else chart.bank


def _receivable(chart: ChartOfAccounts, amount: Decimal) -> Posting:
    return Posting(account=chart.receivable, amount=amount)
