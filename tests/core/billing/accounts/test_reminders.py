"""When is reminded, and when is paused."""

from datetime import date, timedelta
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.accounts.account import Entry, Invoiced, Paid, settled
from calm_tariff.core.billing.accounts.reminders import Consequences, Policy, check, consequences, to_pause, to_remind
from calm_tariff.core.errors import Invalid

DUE = date(2026, 10, 16)
INVOICE = Invoiced(id="INV-2026-00001", on=date(2026, 10, 2), due=DUE, amount=Decimal(50))
POLICY = Policy(reminders_after_days=(3, 10), pause_after_days=12)


def led_to(as_of: date, *entries: Entry, policy: Policy = POLICY) -> Consequences:
    (standing,) = settled((INVOICE, *entries), as_of, "EUR").invoices
    return consequences(standing, policy, as_of)


def test_what_is_open_at_the_end_of_a_day_is_reminded_of_on_that_day() -> None:
    assert led_to(date(2026, 10, 18)) == Consequences(reminders=(), paused_on=None)
    assert led_to(date(2026, 10, 19)).reminders == (date(2026, 10, 19),)
    assert led_to(date(2026, 12, 1)) == Consequences(
        reminders=(date(2026, 10, 19), date(2026, 10, 26)), paused_on=date(2026, 10, 28)
    )
    assert led_to(date(2026, 12, 1), policy=Policy(reminders_after_days=(), pause_after_days=None)) == Consequences(
        reminders=(), paused_on=None
    )


def test_what_is_paid_on_the_day_of_a_reminder_is_not_reminded_of() -> None:
    def payment(on: date, amount: int) -> Paid:
        return Paid(on=on, amount=Decimal(amount), for_=INVOICE.id)

    paid = led_to(date(2026, 12, 1), payment(date(2026, 10, 26), 50))
    assert paid == Consequences(reminders=(date(2026, 10, 19),), paused_on=None)
    in_part = led_to(date(2026, 12, 1), payment(date(2026, 10, 26), 49))
    assert len(in_part.reminders) == 2 and in_part.paused_on


def test_a_reminder_goes_out_once_its_day_is_over_and_one_that_was_missed_does_not() -> None:
    def due(day: int, *reminded: int) -> int | None:
        return to_remind(DUE, reminded, POLICY, date(2026, 10, day))

    assert [due(19), due(20), due(26), due(27)] == [None, 3, 3, 10]
    assert [due(20, 3), due(27, 3), due(27, 3, 10), due(27, 10)] == [None, 10, None, None]
    assert to_remind(DUE, [], Policy(reminders_after_days=()), date(2027, 1, 1)) is None


def test_calls_are_held_up_once_the_day_of_the_pause_is_over() -> None:
    assert [to_pause(DUE, POLICY, date(2026, 10, day)) for day in (28, 29)] == [False, True]
    assert not to_pause(DUE, Policy(pause_after_days=None), date(2030, 1, 1))


@given(st.integers(1, 60), st.sets(st.integers(1, 40), max_size=5))
def test_looking_every_day_reminds_on_the_days_that_the_rule_names(until: int, days: set[int]) -> None:
    policy, sent = Policy(reminders_after_days=tuple(sorted(days))), list[int]()
    for today in (DUE + timedelta(days=n) for n in range(until + 1)):
        after = to_remind(DUE, sent, policy, today)
        sent += [] if after is None else [after]
    (standing,) = settled((INVOICE,), DUE + timedelta(days=until - 1), "EUR").invoices
    named = consequences(standing, policy, DUE + timedelta(days=until - 1)).reminders
    assert [DUE + timedelta(days=n) for n in sent] == list(named)


@pytest.mark.parametrize(
    ("policy", "where"),
    [
        (Policy(reminders_after_days=(3, 3)), "reminders_after_days[1]"),
        (Policy(reminders_after_days=(0,)), "reminders_after_days[0]"),
        (Policy(reminders_after_days=(5, 366)), "reminders_after_days[1]"),
        (Policy(reminders_after_days=tuple(range(1, 12))), "reminders_after_days"),
        (Policy(pause_after_days=0), "pause_after_days"),
    ],
)
def test_a_policy_that_means_nothing_is_refused(policy: Policy, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        check(policy)
    assert refused.value.where == where
