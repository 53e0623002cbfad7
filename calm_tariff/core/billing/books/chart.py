"""The chart of accounts: which accounts of the ledger there are, and what the bookkeeper calls each
(docs/arithmetic.md, section 7)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from calm_tariff.core.billing.documents.tax import TaxRule
from calm_tariff.core.errors import Invalid

Role = Literal["receivable", "revenue", "tax", "bank", "card clearing", "losses"]
# What each is called until somebody says otherwise.
DEFAULTS: Mapping[Role, str] = {
    "receivable": "Assets:Receivable",
    "bank": "Assets:Bank",
    "card clearing": "Assets:Card-Clearing",
    "revenue": "Income:Revenue",
    "tax": "Liabilities:Tax",
    "losses": "Expenses:Losses",
}
# As plain-text accounting writes an account: its kind, and a path of names below it.
_ACCOUNT = re.compile(r"(Assets|Liabilities|Equity|Income|Expenses)(:[A-Z0-9][A-Za-z0-9-]*)+")
LONGEST = 120


@dataclass(frozen=True, slots=True, kw_only=True)
class LedgerAccount:
    """An account of the ledger by what is posted there: its role; of revenue the product that is sold, by its id, and
    of tax the rule, where they are told apart."""

    role: Role
    product: int | None = None
    rule: TaxRule | None = None


def name_of(account: LedgerAccount, names: Mapping[LedgerAccount, str]) -> str:
    """What the bookkeeper calls an account: its own name, or else that of its role."""
    role = LedgerAccount(role=account.role)
    return names.get(account) or names.get(role) or DEFAULTS[account.role]


def check_name(name: str) -> None:
    """See that a name is that of an account. Raises `Invalid`, naming the field."""
    if len(name) > LONGEST or not _ACCOUNT.fullmatch(name):
        raise Invalid(
            "must be Assets, Liabilities, Equity, Income or Expenses and, after colons, names of letters, digits and "
            f"hyphens that begin with a capital letter or a digit, such as Income:Revenue; at most {LONGEST} of them",
            "name",
        )
