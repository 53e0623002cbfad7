"""When an unpaid invoice is reminded of, and when its subscriptions are paused (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date, timedelta

from calm_tariff.core.billing.accounts.account import Standing
from calm_tariff.core.errors import Invalid

MOST_DAYS = 365
MOST_REMINDERS = 10


@dataclass(frozen=True, slots=True, kw_only=True)
class Policy:
    """Days after the due date: those on which a reminder goes out, and that on which subscriptions are paused; None
    for never."""

    reminders_after_days: tuple[int, ...] = (3, 10, 20)
    pause_after_days: int | None = 30


@dataclass(frozen=True, slots=True, kw_only=True)
class Consequences:
    """What an invoice that was not paid led to up to a day."""

    reminders: tuple[date, ...]
    paused_on: date | None


def check(policy: Policy) -> None:
    """Raise `Invalid`, naming the field, for a policy that means nothing."""
    if len(policy.reminders_after_days) > MOST_REMINDERS:
        raise Invalid(f"must be {MOST_REMINDERS} at most", "reminders_after_days")
    last = 0
    for place, days in enumerate(policy.reminders_after_days):
        at = f"reminders_after_days[{place}]"
        if not 1 <= days <= MOST_DAYS:
            raise Invalid(f"must be 1 to {MOST_DAYS} days", at)
        if days <= last:
            raise Invalid("must be more than the one before it", at)
        last = days
    if policy.pause_after_days is not None and not 1 <= policy.pause_after_days <= MOST_DAYS:
        raise Invalid(f"must be 1 to {MOST_DAYS} days, or none", "pause_after_days")


def to_remind(due: date, reminded: Collection[int], policy: Policy, today: date) -> int | None:
    """After how many days an open invoice is to be reminded of now: the last whose day is over. One that was missed
    before it is not made up for; nor is one that went out (`reminded`) repeated."""
    over = [days for days in policy.reminders_after_days if due + timedelta(days=days) < today]
    last = max(over, default=0)
    return last if last > max(reminded, default=0) else None


def to_pause(due: date, policy: Policy, today: date) -> bool:
    """Whether an open invoice holds the subscriptions of its consumer up: the day on which they pause is over."""
    return policy.pause_after_days is not None and due + timedelta(days=policy.pause_after_days) < today


def consequences(invoice: Standing, policy: Policy, as_of: date) -> Consequences:
    """What was still open at the end of a day is reminded of on that day, and paused for on its day."""

    def came(days: int) -> date | None:
        day = invoice.due + timedelta(days=days)
        return day if day <= as_of and invoice.open_at_end_of(day) else None

    reminded = (came(days) for days in policy.reminders_after_days)
    pause = policy.pause_after_days
    return Consequences(
        reminders=tuple(day for day in reminded if day is not None), paused_on=None if pause is None else came(pause)
    )
