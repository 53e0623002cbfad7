"""What the portal offers: to whom it is shown, and what it would cost them."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from calm_tariff.core.errors import NotFound
from calm_tariff.services.admit import groups
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose import products
from calm_tariff.services.compose.apis import sunsets, versions
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.compose.sheet import plans
from calm_tariff.store.compose.apis import ApiDocument
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
        asking.ask(own, office.consumers[1].application, office.plans["Ketch"], "To have it all the same.", True)


def test_who_is_on_a_product_may_still_know_of_it(office: Office) -> None:
    restrict(office, consumer=0)
    kayaks, stranger = office.acting(office.consumers[1]), office.ctx.acting(office.join("Strangers"))
    with office.ctx.transaction() as session:
        product = session.get_one(Product, office.product)
        assert storefront.seen(session, kayaks, product)
        assert not storefront.seen(session, stranger, product)


def test_plans_stand_side_by_side_in_sentences_and_what_they_share_is_known(office: Office) -> None:
    found = storefront.product(office.ctx, SLUG)
    assert [offer.name for offer in found.offers] == ["Skiff", "Ketch"]
    terms = {(row.group, row.label): (row.cells, row.same) for row in found.terms}
    assert terms["Speed", "Rate"] == (
        ["2 calls a second, up to 5 at once, for each key", "10 calls a second, up to 20 at once, for each key"],
        False,
    )
    assert terms["Price", "Fee"][0][1] == "€40 a month, by the day"
    # Both sell usage alike, and of what neither has there is no row.
    assert terms["Price", "Forecast calls"][1] and ("Price", "Setup") not in terms and ("Speed", "Pace") not in terms


@pytest.mark.parametrize(
    ("of_tides", "shown_path", "shown_body"),
    [
        ({"image/png": {"example": "x" * 500}}, "/tides/v1/stations/{id}", '{"id":"lm-01"}'),
        (
            {"application/json": {"example": ["06:12", "12:27"]}},
            "/tides/v1/stations/{id}/tides",
            '["06:12","12:27"]',
        ),
    ],
    ids=["JSON before an image", "the longer one"],
)
def test_the_first_answer_is_the_json_that_says_most_of_what_the_plans_count_first(
    office: Office, of_tides: dict[str, object], shown_path: str, shown_body: str
) -> None:
    assert storefront.product(office.ctx, SLUG).first_answer is None
    kinds = {
        # Says most of all, but no plan counts it: nobody comes for it.
        "/stations": {"application/json": {"example": list(range(50))}},
        "/stations/{id}": {"application/json": {"example": {"id": "lm-01"}}},
        "/stations/{id}/tides": of_tides,
    }
    paths = {path: {"get": {"responses": {"200": {"content": content}}}} for path, content in kinds.items()}
    with office.ctx.transaction() as session:
        text = json.dumps({"openapi": "3.1.0", "paths": paths})
        session.add(ApiDocument(api_version_id=office.api, name="tides", text=text, imported_at=START))
    shown = storefront.product(office.ctx, SLUG).first_answer
    assert shown and (shown.url_path, shown.body) == (shown_path, shown_body)


def test_an_announced_end_is_said_with_the_version_that_takes_its_place(office: Office) -> None:
    assert storefront.product(office.ctx, SLUG).ends == []
    last = START.date() + timedelta(days=30)
    sunsets.set_state(office.manager, office.api, "sunset", last)
    [end] = storefront.product(office.ctx, SLUG).ends
    assert (end.version, end.instead) == ("Tides v1", None)
    typed = ApiTyped(
        name="Tides",
        version="v2",
        description="",
        base_path="/tides/v2",
        back_end_url="http://127.0.0.1:9",
        operations=[OperationTyped("GET", "/stations")],
    )
    versions.create(office.manager, typed)
    [end] = storefront.product(office.ctx, SLUG).ends
    assert (end.instead, end.ends_at) == ("Tides v2", datetime(2026, 10, 9, 23, tzinfo=UTC))


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
