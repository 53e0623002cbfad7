"""Products: names, copies, who may name them."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.routes import Route
from calm_tariff.formats.values import write
from calm_tariff.services.admit import applications, credentials, groups
from calm_tariff.services.compose import products
from calm_tariff.services.compose.sheet import plans
from calm_tariff.services.house import service_tokens
from calm_tariff.store.compose.products import Product
from tests.office import Office


def _fields(typed) -> dict:
    return {name: getattr(typed, name) for name in typed.__dataclass_fields__}


def test_invisible_characters_are_refused_wherever_something_is_named(office: Office) -> None:
    one = office.acting(office.consumers[0])
    wrong = "a\u200bb"
    for work, field in (
        (lambda: applications.register(one, wrong, ""), "name"),
        (lambda: credentials.make_key(one, office.consumers[0].application, wrong), "label"),
        (lambda: groups.create(office.manager, wrong), "name"),
        (lambda: plans.add(office.manager, office.product, wrong), "name"),
        (lambda: plans.rename(office.manager, office.plans["Ketch"], wrong), "name"),
        (lambda: products.clone(office.manager, office.product, wrong), "name"),
        (lambda: service_tokens.make_for_machine(office.manager, wrong, "finance"), "label"),
    ):
        with pytest.raises(Invalid) as refused:
            work()
        assert refused.value.where == field


def test_a_taken_name_is_told_as_such(office: Office) -> None:
    other = products.clone(office.manager, office.product, "Other")
    with office.ctx.transaction() as session:
        typed = products.typed_of(session.get_one(Product, other.id))
    with pytest.raises(Conflict) as taken:
        products.save(
            office.manager, other.id, other.edition, typed.__class__(**{**_fields(typed), "name": "Harbour Data"})
        )
    assert taken.value.where == "name"
    # What only the database sees is told by the column, and not by what is in it.
    with pytest.raises(Conflict) as twice, office.ctx.transaction() as session:
        session.add(
            Product(
                slug="harbour-data",
                name="X",
                description="",
                terms_of_use="",
                terms_dated=office.ctx.now,
                route=write(Route(otherwise="open")),
            )
        )
    assert "slug" in twice.value.where and "harbour" not in str(twice.value)
    with pytest.raises(Invalid) as long, office.ctx.transaction() as session:
        session.get_one(Product, other.id).name = "x" * 300
    assert long.value.where == "name"


def test_a_cloned_product_keeps_how_its_callers_prove_who_they_are(office: Office) -> None:
    product = products.one(office.manager, office.product)
    shown = products.CredentialsTyped(["basic", "key"], "X-Tide-Key", "key", True)
    products.set_credentials(office.manager, office.product, product.edition, shown)
    copied = products.clone(office.manager, office.product, "Twin")
    with office.ctx.transaction() as session:
        twin = session.get_one(Product, copied.id)
        assert products.credentials_of(twin) == products.credentials_of(session.get_one(Product, office.product))
        assert len(twin.plans) == 2


LONG = "Everything of the whole coast, each quarter of an hour"


@pytest.mark.parametrize(
    ("name", "slug"),
    [
        ("Hafen & Höhen", "hafen-hohen"),
        ("潮位 2", "chao-wei-2"),
        (LONG, "everything-of-the-whole-coast-each-quart"),
    ],
)
def test_an_address_is_made_of_a_name_in_any_script(office: Office, name: str, slug: str) -> None:
    assert products.clone(office.manager, office.product, name).slug == slug
    with pytest.raises(Invalid, match="letters or digits"):
        products.clone(office.manager, office.product, "– –")
