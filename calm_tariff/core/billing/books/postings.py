"""What documents, payments, refunds and write-offs post in the bookkeeper's ledger (docs/arithmetic.md, section 7)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal

from calm_tariff.core.billing.accounts.payments import Way
from calm_tariff.core.billing.books.chart import LedgerAccount
from calm_tariff.core.billing.documents.totals import Totals
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import total
from calm_tariff.core.prices import ZERO

RECEIVABLE = LedgerAccount(role="receivable")
LOSSES = LedgerAccount(role="losses")
_MONEY: Mapping[Way, LedgerAccount] = {
    "card": LedgerAccount(role="card clearing"),
    "transfer": LedgerAccount(role="bank"),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Posting:
    """An amount on an account of the ledger: above 0 is debit, below is credit."""

    account: LedgerAccount
    amount: Decimal


def of_invoice(sums: Totals, by_product: Mapping[int | None, Decimal]) -> tuple[Posting, ...]:
    """An invoice: its total is receivable, against revenue by product and tax by rule. `by_product` sums its lines, by
    the id of the product; None is what belongs to none. Raises `Invalid` where those do not come to the subtotal."""
    revenue = (
        Posting(account=LedgerAccount(role="revenue", product=product), amount=-amount)
        for product, amount in by_product.items()
    )
    tax = (
        Posting(account=LedgerAccount(role="tax", rule=group.rule), amount=-group.tax)
        for group in sums.groups
        if group.tax
    )
    return balanced([Posting(account=RECEIVABLE, amount=sums.total), *revenue, *tax])


def of_credit_note(sums: Totals, by_product: Mapping[int | None, Decimal]) -> tuple[Posting, ...]:
    """A credit note: what its amounts would be on an invoice, the other way round."""
    return tuple(Posting(account=p.account, amount=-p.amount) for p in of_invoice(sums, by_product))


def of_payment(amount: Decimal, way: Way) -> tuple[Posting, ...]:
    """A payment: money there, less receivable."""
    return balanced([Posting(account=_MONEY[way], amount=amount), Posting(account=RECEIVABLE, amount=-amount)])


def of_refund(amount: Decimal, way: Way) -> tuple[Posting, ...]:
    """A refund, or a payment that went back: a payment the other way round."""
    return of_payment(-amount, way)


def of_write_off(amount: Decimal) -> tuple[Posting, ...]:
    """A write-off: a loss instead of a receivable."""
    return balanced([Posting(account=LOSSES, amount=amount), Posting(account=RECEIVABLE, amount=-amount)])


def balanced(postings: Iterable[Posting]) -> tuple[Posting, ...]:
    """One posting for each account, without those of 0; their sum is 0. Raises `Invalid` where it is not."""
    sums: dict[LedgerAccount, Decimal] = {}
    for each in postings:
        sums[each.account] = sums.get(each.account, ZERO) + each.amount
    off = total(sums.values())
    if off:
        raise Invalid(f"are {off} out of balance", "postings")
    return tuple(Posting(account=account, amount=amount) for account, amount in sums.items() if amount)
