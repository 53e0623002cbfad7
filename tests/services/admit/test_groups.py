"""What is for a group others cannot even name."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core.errors import NotFound
from calm_tariff.services.admit import applications, groups
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.compose import products
from calm_tariff.services.compose.sheet import plans
from tests.office import Office


def test_what_is_for_a_group_others_cannot_even_name(office: Office) -> None:
    schools = groups.create(office.manager, "Schools")
    plans.show_to(office.manager, office.plans["Skiff"], [schools.id])
    ferries, kayaks = (office.acting(c) for c in office.consumers)
    groups.set_members(office.manager, schools.id, [ferries.actor.own_consumer])
    assert [o.name for o in storefront.product(ferries, "harbour-data").offers] == ["Skiff", "Ketch"]
    assert [o.name for o in storefront.product(kayaks, "harbour-data").offers] == ["Ketch"]
    product = products.one(office.manager, office.product)
    with office.ctx.transaction() as session:
        typed = products.typed_of(products.get(session, office.product))
    products.save(office.manager, office.product, product.edition, replace(typed, groups=[schools.id]))
    assert [p.name for p in storefront.products(ferries)] == ["Harbour Data"]
    assert storefront.products(kayaks) == []
    with pytest.raises(NotFound):
        storefront.product(kayaks, "harbour-data")
    other = applications.register(kayaks, "Second", "")
    with pytest.raises(NotFound):
        asking.ask(kayaks, other.id, office.plans["Skiff"], "To have a look.", True)
