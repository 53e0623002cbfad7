"""What the portal offers: to whom it is shown, and what it would cost them."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.services.admit import groups, requests
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose import products
from calm_tariff.services.compose.apis import sunsets
from calm_tariff.services.compose.sheet import plans
from calm_tariff.store.compose.products import Product
from tests.office import START, Office

SLUG = "harbour-data"


def restrict(office: Office, consumer: int, plan: str | None = None) -> None:
    """Show the product, or one plan of it, to the group of one consumer alone."""
    group = groups.create(office.manager, "Pilots")
    member = office.consumers[consumer].member.own_consumer
    groups.set_members(office.manager, group.id, [member])
    if plan:
        plans.show_to(office.manager, office.plans[plan], [group.id])
        return
    kept = products.one(office.manager, office.product)
    with office.ctx.transaction() as session:
        typed = products.typed_of(session.get_one(Product, office.product))
    products.save(office.manager, office.product, kept.edition, replace(typed, groups=[group.id]))


def offered(ctx: Context) -> dict[str, list[str]]:
    return {line.name: line.plans for line in storefront.products(ctx)}


def test_what_is_shown_to_a_group_is_not_even_named_to_others(office: Office) -> None:
    restrict(office, consumer=0)
    pilots, others, nobody = office.acting(office.consumers[0]), office.acting(office.consumers[1]), office.ctx
    assert offered(pilots) == {"Harbour Data": ["Skiff", "Ketch"]}
    assert storefront.product(pilots, SLUG).name == "Harbour Data"
    for ctx in (others, nobody):
        assert offered(ctx) == {}
        with pytest.raises(NotFound) as hidden:
            storefront.product(ctx, SLUG)
        with pytest.raises(NotFound) as never:
            storefront.product(ctx, "never-was")
        assert hidden.value.what == never.value.what  # one cannot be told from the other


def test_a_plan_shown_to_a_group_is_left_out_for_others_in_list_and_page(office: Office) -> None:
    restrict(office, consumer=0, plan="Ketch")
    assert offered(office.acting(office.consumers[0])) == {"Harbour Data": ["Skiff", "Ketch"]}
    for ctx in (office.acting(office.consumers[1]), office.ctx):
        assert offered(ctx) == {"Harbour Data": ["Skiff"]}
        assert [offer.name for offer in storefront.product(ctx, SLUG).offers] == ["Skiff"]
    own = office.acting(office.consumers[1])
    with pytest.raises(NotFound):
        requests.ask(own, office.consumers[1].application, office.plans["Ketch"], "To have it all the same.", True)


def test_who_is_on_a_product_may_still_know_of_it(office: Office) -> None:
    restrict(office, consumer=0)
    kayaks, stranger = office.acting(office.consumers[1]), office.ctx.acting(office.join("Strangers"))
    with office.ctx.transaction() as session:
        product = session.get_one(Product, office.product)
        assert storefront.seen(session, kayaks, product)
        assert not storefront.seen(session, stranger, product)


@pytest.mark.parametrize(
    ("units", "estimates", "cheapest"),
    [
        (5, {"Skiff": Decimal(0), "Ketch": Decimal(40)}, {"Skiff"}),
        # 10 included; 20 at 0.004 each and the rest at 0.003: 0.08 + 0.03, rounded to the cent on its own line.
        (40, {"Skiff": None, "Ketch": Decimal("40.11")}, {"Ketch"}),
        (100, {"Skiff": None, "Ketch": Decimal("40.29")}, {"Ketch"}),
        (101, {"Skiff": None, "Ketch": None}, set()),
    ],
)
def test_each_plan_says_what_a_month_costs_or_that_it_does_not_reach(
    office: Office, units: int, estimates: dict[str, Decimal | None], cheapest: set[str]
) -> None:
    offers = storefront.product(office.ctx, SLUG, units).offers
    assert {offer.name: offer.estimate for offer in offers} == estimates
    assert {offer.name for offer in offers if offer.cheapest} == cheapest
    assert {offer.name: offer.reaches for offer in offers} == {"Skiff": 30, "Ketch": 100}


@pytest.mark.parametrize("units", [-1, 10**12 + 1])
def test_a_month_that_is_none_is_refused(office: Office, units: int) -> None:
    with pytest.raises(Invalid) as refused:
        storefront.product(office.ctx, SLUG, units)
    assert refused.value.where == "units"


def test_operations_of_a_version_that_is_gone_are_offered_no_more(office: Office) -> None:
    assert len(storefront.product(office.ctx, SLUG).operations) == 3
    assert storefront.product(office.ctx, SLUG).operations[0].url_path.startswith("/tides/v1/")
    sunsets.set_state(office.manager, office.api, "sunset", START.date() + timedelta(days=30))
    assert len(storefront.product(office.ctx, SLUG).operations) == 3  # until its last day
    sunsets.set_state(office.manager, office.api, "gone", None)
    assert storefront.product(office.ctx, SLUG).operations == []


def test_what_is_closed_or_withdrawn_is_on_sale_no_more(office: Office) -> None:
    plans.close(office.manager, office.plans["Skiff"])
    assert offered(office.ctx) == {"Harbour Data": ["Ketch"]}
    plans.close(office.manager, office.plans["Ketch"])
    assert offered(office.ctx) == {}
    with pytest.raises(NotFound):
        storefront.product(office.ctx, SLUG)
