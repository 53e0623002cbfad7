"""The JSON shapes of `./calm decide`, `rate`, `late` and `account`, which are also those of evidence files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from typing import Any, NamedTuple

from calm_tariff.core import limits as limit_rules
from calm_tariff.core import rating
from calm_tariff.core.billing.accounts import account, reminders
from calm_tariff.core.billing.accounts.account import Entry
from calm_tariff.core.billing.accounts.reminders import Policy
from calm_tariff.core.billing.documents import late
from calm_tariff.core.billing.documents.late import LateCase
from calm_tariff.core.errors import Invalid
from calm_tariff.core.limiter import Clock, Decision, Stack
from calm_tariff.core.limits import Call, Limit, Units
from calm_tariff.core.money import minor_digits
from calm_tariff.core.periods import zone
from calm_tariff.core.rating import Charge, RatingCase
from calm_tariff.formats.values import load, read, write


class CaseCall(NamedTuple):
    """A call of a case; see `core.limits.Call`."""

    at_us: int
    key: str
    application: str
    consumer: str
    subscription: str
    operation: str
    units: Units = 1
    values: dict[str, str] | None = None
    settles: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class DecisionCase:
    """Limits and the calls to decide on, in order of time."""

    time_zone: str
    subscription_start_us: int
    limits: tuple[Limit, ...]
    calls: tuple[CaseCall, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class AccountCase:
    """An account's entries in order of their days, and the day it is looked at."""

    currency: str
    as_of: date
    entries: tuple[Entry, ...]
    reminders_after_days: tuple[int, ...] = ()
    pause_after_days: int | None = None


def decide_text(text: str) -> Any:
    """Read one decision case or a list of them, and answer with the verdicts."""
    return _each(text, _decide)


def rate_text(text: str) -> Any:
    """Read one rating case or a list of them, and answer with lines and totals."""
    return _each(text, lambda value, where: charge_json(rating.rate(_rating_case(value, where))))


def late_text(text: str) -> Any:
    """Read one case of late usage or a list of them, and answer with the lines that differ."""
    return _each(text, _late)


def account_text(text: str) -> Any:
    """Read one account or a list of them, and answer with balance, credit and what is open of each invoice."""
    return _each(text, _account)


def _each(text: str, answer: Callable[[Any, str], Any]) -> Any:
    value = load(text)
    if isinstance(value, list):
        return [_named(answer, item, f"[{place}]") for place, item in enumerate(value)]
    return _named(answer, value, "")


def _named(answer: Callable[[Any, str], Any], value: Any, where: str) -> Any:
    """Say which case of a list an error lies in."""
    try:
        return answer(value, "")
    except Invalid as error:
        at = f"{where}.{error.where}" if where and error.where else where or error.where
        raise Invalid(error.what, at) from None


def _rating_case(value: Any, where: str) -> RatingCase:
    return read(RatingCase, value, where)


def _decide(value: Any, where: str) -> Any:
    case = read(DecisionCase, value, where)
    names: set[str] = set()
    for place, limit in enumerate(case.limits):
        limit_rules.check(limit, f"limits[{place}]")
        if limit.name in names:
            raise Invalid(f"another limit is already named {limit.name!r}", f"limits[{place}].name")
        names.add(limit.name)
    stack = Stack(case.limits, zone(case.time_zone), case.subscription_start_us)
    counts: dict[tuple[str, str], Any] = {}
    clock = Clock()
    verdicts = []
    for place, call in enumerate(case.calls):
        if call.units < 0:
            raise Invalid("must not be below 0", f"calls[{place}].units")
        try:
            verdicts.append(decision_json(stack.decide(Call(*call), counts, clock)))
        except Invalid as error:
            raise Invalid(error.what, f"calls[{place}].{error.where}") from None
    return {"verdicts": verdicts}


def _late(value: Any, where: str) -> Any:
    case = read(LateCase, value, where)
    try:
        found = late.differences(case)
    except Invalid as error:
        raise Invalid(error.what, error.where if error.where.startswith("charged") else f"case.{error.where}") from None
    lines = [{name: write(getattr(each, name)) for name in ("segment", "kind", "meter", "amount")} for each in found]
    return {"lines": lines, "subtotal": write(late.subtotal(found, case.case.currency))}


def _account(value: Any, where: str) -> Any:
    case = read(AccountCase, value, where)
    minor_digits(case.currency)
    policy = Policy(reminders_after_days=case.reminders_after_days, pause_after_days=case.pause_after_days)
    reminders.check(policy)
    found = account.settled(case.entries, case.as_of, case.currency)
    invoices = []
    for each in found.invoices:
        after = reminders.consequences(each, policy, case.as_of)
        shown = {name: write(getattr(each, name)) for name in ("id", "open", "state")}
        invoices.append({**shown, "reminders": write(after.reminders), "paused_on": write(after.paused_on)})
    return {"balance": write(found.balance), "credit": write(found.credit), "invoices": invoices}


def decision_json(decision: Decision) -> dict[str, Any]:
    """A decision in the shape of the worked cases."""
    return {
        "verdict": decision.verdict,
        "by": decision.by,
        "wait_us": decision.wait_us,
        "retry_after_us": decision.retry_after_us,
        "remaining": write(decision.remaining),
    }


def charge_json(charge: Charge) -> dict[str, Any]:
    """A charge in the shape of the worked cases; amounts as text with all minor digits."""
    return {
        "lines": [
            {name: write(getattr(line, name)) for name in ("segment", "kind", "meter", "quantity", "priced", "amount")}
            for line in charge.lines
        ],
        "subtotal": write(charge.subtotal),
        "tax": write(charge.tax),
        "total": write(charge.total),
    }
