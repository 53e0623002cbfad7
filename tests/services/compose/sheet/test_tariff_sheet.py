"""Drafts save themselves, are compared, and are refused by field."""

from __future__ import annotations

import json

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, Stale
from calm_tariff.services.base import auditing
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.store.admit.subscriptions import Stay
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office, terms
from tests.services.queries import asked
from tests.services.usages import ketch


def test_a_draft_saves_itself_is_compared_and_becomes_a_revision_that_never_changes(office: Office) -> None:
    before = ketch(tariff_sheet.sheet(office.manager, office.product))
    assert (before.live_revision, before.drafted) == (1, False)
    sheet = tariff_sheet.save_draft(office.manager, before.id, before.edition, terms(burst=40))
    assert [(c.plan, c.term, c.was, c.becomes) for c in sheet.changes] == [
        ("Ketch", "Rate", "up to 20 at once", "up to 40 at once")
    ]
    rate_row = next(r for r in sheet.rows if r.label == "Rate")
    changed = [p.text for cell in rate_row.cells for s in cell.sentences for p in s if p.changed]
    assert changed == ["40"]
    published = office.publish("keep", "more burst")
    assert (ketch(published).live_revision, ketch(published).drafted) == (2, False)
    with pytest.raises(Conflict, match="no draft"):
        office.publish("keep")
    entry = auditing.entries(office.manager, PageQuery("published revision 2")).rows[0]
    assert (entry.before["limits"][0]["burst"], entry.after["limits"][0]["burst"], entry.why) == (20, 40, "more burst")
    with office.ctx.transaction() as session:
        assert {s.revision.number for s in session.scalars(select(Stay))} == {1}  # subscribers kept theirs


def test_two_people_editing_at_once_see_each_others_terms(office: Office) -> None:
    plan = office.plans["Ketch"]
    seen = ketch(tariff_sheet.sheet(office.manager, office.product)).edition
    tariff_sheet.save_draft(office.manager, plan, seen, terms(burst=40))
    with pytest.raises(Stale) as refused:
        tariff_sheet.save_draft(office.manager, plan, seen, terms(burst=50))
    assert ketch(refused.value.current).terms["limits"][0]["burst"] == 40
    back = tariff_sheet.save_draft(office.manager, plan, ketch(refused.value.current).edition, terms())
    assert not ketch(back).drafted  # terms equal to the live ones are no draft
    for drafted in (terms(burst=60), terms(), terms(burst=40)):  # it stands as it stood, and yet is another
        back = office.draft("Ketch", drafted)
    with pytest.raises(Stale):
        tariff_sheet.save_draft(office.manager, plan, ketch(refused.value.current).edition, terms(burst=50))


@pytest.mark.parametrize(
    ("wrong", "where"),
    [
        (terms(burst=0), "limits[0].burst"),
        ({**terms(), "surprise": 1}, "surprise"),
        (json.loads(json.dumps(terms()).replace("forecast_calls", "no_such_meter")), "terms"),
        (json.loads(json.dumps(terms()).replace('"up_to": "20"', '"up_to": null')), "pricing.prices[1].tiers[0].up_to"),
    ],
)
def test_terms_that_make_no_sense_are_refused_by_field_and_nothing_is_lost(office: Office, wrong, where: str) -> None:
    office.draft("Ketch", terms(burst=40))
    with pytest.raises(Invalid) as refused:
        office.draft("Ketch", wrong)
    assert refused.value.where == where
    assert ketch(tariff_sheet.sheet(office.manager, office.product)).terms["limits"][0]["burst"] == 40


def test_a_sheet_of_many_plans_asks_the_database_no_more_often(office: Office) -> None:
    found = []
    for plan in ("Sloop", "Schooner", "Barque"):
        for _ in range(2):
            with asked(office.ctx) as statements:
                assert tariff_sheet.sheet(office.manager, office.product).plans
        found.append(len(statements))
        office.plans[plan] = plans.add(office.manager, office.product, plan).plans[-1].id
        office.draft(plan, terms())
    assert len(set(found)) == 1 and found[0] <= 12, statements
