"""The provider's own settings: what each may be, and which stay as they are once money was charged."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, fields
from decimal import Decimal

from calm_tariff.core import names
from calm_tariff.core.billing.accounts import collecting, reminders
from calm_tariff.core.billing.accounts.collecting import TRIES_AFTER_DAYS
from calm_tariff.core.billing.accounts.reminders import Policy
from calm_tariff.core.billing.documents.review import USUAL_CHANGE
from calm_tariff.core.billing.documents.tax import Rate
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.money import minor_digits, rounded
from calm_tariff.core.periods import zone
from calm_tariff.core.targets import MOST_DAYS

MOST_PAYMENT_DAYS = 120
MOST_TAX_CHANGES = 50
MOST_REVIEW_PERCENT, MOST_CHARGE_DAYS = 1000, 27
# Bodies of calls are kept for so many days at most.
MOST_BODY_DAYS = 90
# Recorded calls are kept at least until the month after theirs is charged and looked at.
LEAST_CALL_MONTHS, MOST_CALL_MONTHS = 3, 240
_PREFIX = re.compile(r"[A-Z][A-Z0-9]{0,9}")
LONGEST_ADDRESS = 500
# What was charged was charged in these.
LOCKED = ("time_zone", "currency")


@dataclass(frozen=True, slots=True, kw_only=True)
class ProviderSettings:
    """The provider: its name and postal address, its country and tax number, the time zone that days and periods are
    counted in, the currency (ISO 4217) and the percent of tax that is charged, with the days from which it is another,
    within how many days an invoice is paid, the address that letters come from, the days of the week on which people
    work (0 is Monday), within how many of them requests for new products are to be answered, what the numbers of its
    invoices and credit notes begin with, whether invoices of nothing are issued, above which amount an adjustment takes
    a second person (None: never), from how many percent on a change of a charge is out of the ordinary, how many days
    after a month's end it is drafted by itself (None: never), after how many days past due an invoice is reminded of
    and calls are paused for it (core.billing.accounts.reminders), or taken from a card
    (core.billing.accounts.collecting), above which amount writing an invoice off takes a second person, the bank
    account that transfers go to, for how many days bodies of sandbox calls are kept, and for how many months recorded
    calls; 0 is for ever."""

    name: str
    address: str = ""
    country: str = ""
    tax_number: str = ""
    time_zone: str
    currency: str
    tax_percent: Decimal
    tax_changes: tuple[Rate, ...] = ()
    payment_days: int = 14
    mail_from: str
    working_days: tuple[int, ...] = (0, 1, 2, 3, 4)
    target_days: int = 2
    invoice_prefix: str = "INV"
    credit_note_prefix: str = "CN"
    zero_invoices: bool = False
    adjustment_limit: Decimal | None = None
    review_percent: int = USUAL_CHANGE
    charge_after_days: int | None = None
    reminders_after_days: tuple[int, ...] = Policy().reminders_after_days
    pause_after_days: int | None = Policy().pause_after_days
    tries_after_days: tuple[int, ...] = TRIES_AFTER_DAYS
    write_off_limit: Decimal | None = None
    iban: str = ""
    bic: str = ""
    body_days: int = 7
    call_months: int = 0


def checked(typed: ProviderSettings) -> None:
    """See that settings mean something. Raises `Invalid`, naming the field. Whether letters can come from `mail_from`
    is not looked at here."""
    names.plain(typed.name, "name", 200)
    if len(typed.address) > LONGEST_ADDRESS:
        raise Invalid(f"must have at most {LONGEST_ADDRESS} characters", "address")
    for line in filter(str.strip, typed.address.splitlines()):
        names.plain(line, "address", LONGEST_ADDRESS)
    zone(typed.time_zone)
    minor_digits(typed.currency)
    _check_percent(typed.tax_percent, "tax_percent")
    _check_tax_changes(typed.tax_changes)
    _check_limit(typed.adjustment_limit, typed.currency, "adjustment_limit")
    _check_limit(typed.write_off_limit, typed.currency, "write_off_limit")
    reminders.check(Policy(reminders_after_days=typed.reminders_after_days, pause_after_days=typed.pause_after_days))
    collecting.check(typed.tries_after_days)
    if not 0 <= typed.payment_days <= MOST_PAYMENT_DAYS:
        raise Invalid(f"must be 0 to {MOST_PAYMENT_DAYS} days", "payment_days")
    if not 1 <= typed.review_percent <= MOST_REVIEW_PERCENT:
        raise Invalid(f"must be 1 to {MOST_REVIEW_PERCENT} percent", "review_percent")
    if typed.charge_after_days is not None and not 0 <= typed.charge_after_days <= MOST_CHARGE_DAYS:
        raise Invalid(f"must be 0 to {MOST_CHARGE_DAYS} days, or none", "charge_after_days")
    if not 1 <= typed.body_days <= MOST_BODY_DAYS:
        raise Invalid(f"must be 1 to {MOST_BODY_DAYS} days", "body_days")
    if typed.call_months and not LEAST_CALL_MONTHS <= typed.call_months <= MOST_CALL_MONTHS:
        raise Invalid(f"must be {LEAST_CALL_MONTHS} to {MOST_CALL_MONTHS} months, or 0 for ever", "call_months")
    if not 0 <= typed.target_days <= MOST_DAYS:
        raise Invalid(f"must be 0 to {MOST_DAYS} working days", "target_days")
    for name in ("invoice_prefix", "credit_note_prefix"):
        if not _PREFIX.fullmatch(getattr(typed, name)):
            raise Invalid("must be one to ten capital letters and digits, a letter first", name)
    if typed.invoice_prefix == typed.credit_note_prefix:
        raise Invalid("must not be what numbers of credit notes begin with", "invoice_prefix")
    if not typed.working_days or not set(typed.working_days) <= set(range(7)):
        raise Invalid("must be at least one day of the week, 0 (Monday) to 6", "working_days")


def _check_percent(percent: Decimal, field: str) -> None:
    if not percent.is_finite() or not 0 <= percent <= 100 or percent != round(percent, 4):
        raise Invalid("must be between 0 and 100, with at most four decimals", field)


def _check_tax_changes(changes: tuple[Rate, ...]) -> None:
    if len(changes) > MOST_TAX_CHANGES:
        raise Invalid(f"must be {MOST_TAX_CHANGES} at most", "tax_changes")
    for place, each in enumerate(changes):
        _check_percent(each.percent, f"tax_changes.{place}.percent")
        if place and each.since <= changes[place - 1].since:
            raise Invalid("must lie after the change before it", f"tax_changes.{place}.since")


def _check_limit(limit: Decimal | None, currency: str, field: str) -> None:
    if limit is None:
        return
    if not limit.is_finite() or not 0 <= limit < 10**12:
        raise Invalid("must be an amount from 0 up, or none", field)
    if limit != rounded(limit, currency):
        raise Invalid(f"must be in whole minor units of {currency}", field)


def refuse_locked(before: ProviderSettings, after: ProviderSettings, locked: Iterable[str]) -> None:
    """Refuse what changes something that is locked. Raises `Conflict`, naming the first."""
    for name in locked:
        if getattr(before, name) != getattr(after, name):
            raise Conflict("cannot change any more: money was charged in it", name)


def different(before: ProviderSettings, after: ProviderSettings) -> list[str]:
    """The names of the settings in which two states differ."""
    return [f.name for f in fields(before) if getattr(before, f.name) != getattr(after, f.name)]
