"""Publishing: what was drafted becomes a revision that can be read for ever and never changes."""

from __future__ import annotations

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound, NotSignedIn
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import NOBODY
from calm_tariff.services.compose.sheet import plans, publishing, tariff_sheet
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import PlanRevision
from tests.office import Office, terms


def newest(office: Office, plan: str) -> int:
    with office.ctx.transaction() as session:
        of = select(PlanRevision.id).where(PlanRevision.plan_id == office.plans[plan])
        return session.scalars(of.order_by(PlanRevision.number.desc())).first() or 0


def test_a_revision_is_read_as_it_was_published_with_what_it_changed(office: Office) -> None:
    first = newest(office, "Ketch")
    before = publishing.revision(office.manager, first)
    office.draft("Ketch", terms(fee="55"))
    office.publish("keep", note="Fuel is dearer.")
    second = publishing.revision(office.manager, newest(office, "Ketch"))
    assert (before.number, second.number, second.published_by) == (1, 2, "Ines")
    assert before.changes == []
    assert len(second.changes) == 1 and "40" in second.changes[0] and "55" in second.changes[0]
    assert second.others == [(first, 1), (second.id, 2)]
    again = publishing.revision(office.manager, first)
    assert again.rows == before.rows != second.rows  # what was published before stays
    entry = next(e for e in auditing.entries(office.manager, PageQuery()).rows if e.action == "published revision 2")
    assert entry.why == "Fuel is dearer." and entry.before != entry.after
    assert (entry.before or {})["pricing"]["prices"][0]["amount"] == "40"


def test_publishing_seals_the_meters_it_uses_and_puts_the_plan_on_sale(office: Office) -> None:
    added = plans.add(office.manager, office.product, "Sloop").plans[-1]
    office.plans["Sloop"] = added.id
    tariff_sheet.save_draft(office.manager, added.id, added.edition, terms())
    office.publish("keep")
    sold = {plan.name: (plan.state, plan.drafted) for plan in tariff_sheet.sheet(office.manager, office.product).plans}
    assert sold["Sloop"] == ("on sale", False)
    with office.ctx.transaction() as session:
        assert session.get_one(Meter, office.meter).sealed_at is not None


def test_nothing_drafted_is_nothing_to_publish(office: Office) -> None:
    with pytest.raises((Conflict, Invalid), match="no draft"):
        office.publish("keep")


def test_a_revision_is_for_the_staff_and_one_that_is_not_there_is_told(office: Office) -> None:
    with pytest.raises(NotFound, match="no such revision"):
        publishing.revision(office.manager, 999_999)
    for other in (office.acting(office.consumers[0]), office.ctx.acting(NOBODY)):
        with pytest.raises(NotSignedIn):
            publishing.revision(other, newest(office, "Ketch"))
