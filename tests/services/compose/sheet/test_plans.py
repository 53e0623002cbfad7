"""Plans on a sheet: ordered, cloned, closed, withdrawn."""

from __future__ import annotations

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.services.admit import (
    carrying_over,
)
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.compose.sheet import plans
from calm_tariff.store.admit.subscriptions import Subscription
from tests.office import Office


def test_plans_are_ordered_cloned_closed_and_withdrawn_with_everybody_moved(office: Office) -> None:
    skiff, old = office.plans["Skiff"], office.plans["Ketch"]
    sheet = plans.add(office.manager, office.product, "Schooner", like=old)
    schooner = sheet.plans[-1]
    assert (schooner.drafted, schooner.terms) == (True, sheet.plans[1].terms)
    sheet = plans.reorder(office.manager, office.product, [schooner.id, skiff, old])
    assert [p.name for p in sheet.plans] == ["Schooner", "Skiff", "Ketch"]
    with pytest.raises(Invalid, match="every plan"):
        plans.reorder(office.manager, office.product, [skiff, old])
    office.publish("keep")
    plans.close(office.manager, old)
    assert "Ketch" not in [o.name for o in storefront.product(office.ctx, "harbour-data").offers]
    with pytest.raises(Conflict, match="2 subscriptions are still on it"):
        carrying_over.withdraw(office.manager, old)
    office.clock.forward(days=3)
    sheet = carrying_over.withdraw(office.manager, old, schooner.id)
    assert ([p.name for p in sheet.plans], [p.name for p in sheet.withdrawn]) == (["Schooner", "Skiff"], ["Ketch"])
    with office.ctx.transaction() as session:
        moved = session.scalars(select(Subscription)).all()
        assert {s.plan_id for s in moved} == {schooner.id}
        assert [s.revision.plan_id for s in moved[0].stays] == [old, schooner.id]
    with pytest.raises(Conflict, match="cannot become"):
        plans.reopen(office.manager, old)
    extra = plans.add(office.manager, office.product, "Dinghy").plans[-1]
    assert [p.name for p in plans.remove(office.manager, extra.id).plans] == ["Schooner", "Skiff"]
