"""Who a consumer is outside, and which price a subscription has: what is not mapped is shown, and waits."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, Stale
from calm_tariff.services.base import auditing
from calm_tariff.services.observe import merging
from calm_tariff.services.settle.handoff import mapped, mapping, showing
from calm_tariff.services.settle.handoff.mapped import MappedConsumer, MappedPlan
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.months import record
from tests.services.settle.documents.recorded import arrive
from tests.services.settle.handoff.outside import Outside, later


def consumers(office: Office, **wanted: str) -> list[MappedConsumer]:
    return mapped.consumers(office.finance, PageQuery(**wanted)).rows  # type: ignore[arg-type]


def plans(office: Office) -> list[MappedPlan]:
    return mapped.plans(office.finance, PageQuery()).rows


def owner(office: Office, n: int = 0) -> int:
    return office.consumers[n].member.own_consumer


def test_what_is_not_mapped_comes_first_with_what_waits_for_it(office: Office, outside: Outside) -> None:
    record(office, 90)
    arrive(office, 5, 500, whose=1)
    later(office, hours=4)
    outside.look()
    view = showing.handoff(office.finance, connected=True)
    assert (view.unmapped_consumers, view.unmapped_plans, view.waiting) == (2, 1, 3)
    assert [(each.consumer, each.customer, each.waiting) for each in consumers(office)] == [
        ("Ferries", "", 2),
        ("Kayaks", "", 1),
    ]
    mapping.set_customer(office.finance, owner(office), " C-1 ")
    assert [(each.consumer, each.customer, each.edition) for each in consumers(office)] == [
        ("Kayaks", "", 0),
        ("Ferries", "C-1", 1),
    ]
    assert [each.consumer for each in consumers(office, words="C-1")] == ["Ferries"]
    (plan,) = plans(office)
    assert (plan.plan, plan.price, plan.subscriptions, plan.waiting) == ("Ketch", "", 2, 3)
    mapping.set_plan_price(office.finance, office.plans["Ketch"], "P-1")
    view = showing.handoff(office.finance, connected=True)
    assert (view.unmapped_consumers, view.unmapped_plans) == (1, 0)


def test_a_subscription_may_have_a_price_of_its_own(office: Office, outside: Outside) -> None:
    record(office, 60)
    arrive(office, 5, 500, whose=1)
    later(office, hours=2)
    outside.map(0)
    outside.map(1)
    mapping.set_subscription_price(office.finance, office.consumers[0].subscription, "P-2")
    outside.hand_on()
    assert {each.customer: each.price for each in outside.there.all.events.values()} == {"C-1": "P-2", "C-2": "P-1"}
    rows = mapped.subscriptions(office.finance, PageQuery()).rows
    assert [(each.consumer, each.own_price, each.plan_price) for each in rows] == [
        ("Ferries", "P-2", "P-1"),
        ("Kayaks", "", "P-1"),
    ]
    (plan,) = plans(office)
    assert plan.own_prices == 1
    mapping.set_subscription_price(office.finance, office.consumers[0].subscription, "")
    assert [each.own_price for each in mapped.subscriptions(office.finance, PageQuery()).rows] == ["", ""]


def test_a_plan_whose_subscriptions_all_have_their_own_lacks_nothing(office: Office, outside: Outside) -> None:
    for each in office.consumers:
        mapping.set_subscription_price(office.finance, each.subscription, "P-2")
    assert showing.handoff(office.finance, connected=True).unmapped_plans == 0


def test_two_consumers_are_never_one_customer(office: Office, outside: Outside) -> None:
    mapping.set_customer(office.finance, owner(office), "C-1")
    with pytest.raises(Conflict, match="is Ferries already"):
        mapping.set_customer(office.finance, owner(office, 1), "C-1")
    mapping.set_customer(office.finance, owner(office), "")
    mapping.set_customer(office.finance, owner(office, 1), "C-1")
    assert [each.customer for each in consumers(office, sort="consumer")] == ["", "C-1"]


def test_who_changes_what_somebody_else_has_changed_is_told_so(office: Office, outside: Outside) -> None:
    mapping.set_customer(office.finance, owner(office), "C-1", edition=0)
    with pytest.raises(Stale, match="it is C-1 now"):
        mapping.set_customer(office.finance, owner(office), "C-2", edition=0)
    mapping.set_customer(office.finance, owner(office), "C-2", edition=1)
    ketch, subscription = office.plans["Ketch"], office.consumers[0].subscription
    mapping.set_plan_price(office.finance, ketch, "P-1", edition=0)
    mapping.set_subscription_price(office.finance, subscription, "P-1", edition=0)
    for act in (
        lambda: mapping.set_plan_price(office.finance, ketch, "P-2", edition=5),
        lambda: mapping.set_subscription_price(office.finance, subscription, "P-2", edition=0),
    ):
        with pytest.raises(Stale, match="it is P-1 now"):
            act()


def test_what_cannot_be(office: Office, outside: Outside) -> None:
    with pytest.raises(Invalid, match="customer"):
        mapping.set_customer(office.finance, owner(office), "C\u0000")
    with pytest.raises(Invalid, match="at most 100"):
        mapping.set_plan_price(office.finance, office.plans["Ketch"], "p" * 101)
    for act in (mapping.set_customer, mapping.set_plan_price, mapping.set_subscription_price):
        with pytest.raises(NotFound):
            act(office.finance, 999, "X")
        with pytest.raises(NotAllowed):
            act(office.manager, 1, "X")


def test_it_is_on_the_record(office: Office, outside: Outside) -> None:
    mapping.set_customer(office.finance, owner(office), "C-1")
    mapping.set_customer(office.finance, owner(office), "C-1")  # nothing new
    mapping.set_plan_price(office.finance, office.plans["Ketch"], "P-1")
    found = auditing.entries(office.finance, PageQuery(words="mapped")).rows
    assert [(each.action, each.subject) for each in found] == [
        ("mapped a plan to a price outside", "Harbour Data · Ketch"),
        ("mapped a consumer to a customer outside", "Ferries"),
    ]


@pytest.mark.parametrize("mapped", [(0,), (0, 1), (1,)])
def test_of_two_that_are_merged_who_goes_on_keeps_its_own_customer_or_takes_the_others(
    office: Office, outside: Outside, mapped: tuple[int, ...]
) -> None:
    for n in mapped:
        outside.map(n)
    merging.merge(office.manager, owner(office), owner(office, 1), "Ferries")
    (only,) = [each for each in consumers(office) if each.consumer == "Kayaks"]
    assert only.customer == ("C-2" if 1 in mapped else "C-1")
    assert only.subscriptions == 2
