"""What the provider's people do for a consumer: under their own name, told to its members, and by nobody else."""

from __future__ import annotations

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.admit import on_behalf
from calm_tariff.services.base import auditing, own_notices
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.store.base.events import Event
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.accounts import letters, signed_in

OWNER = "ferries@consumer.example"


def test_a_key_is_made_for_an_application_under_ones_own_name_and_its_members_are_told(office: Office) -> None:
    ferries = office.consumers[0]
    own = signed_in(office, "operations@test.example")
    made = on_behalf.make_key(own, ferries.application, "spare")
    assert made.secret.startswith("calmkey-live-") and made.key.label == "spare"
    (entry,) = auditing.entries(own, PageQuery(), EntryFilter(by=own.actor.identity, action="made a key")).rows
    assert entry.actor.startswith("operations, for Ferries owner")
    letter = letters(office.ctx, OWNER)[-1]
    assert letter.kind == "key changed" and letter.subject == f"{made.key.prefix}… of Ferries app was made"
    assert f"operations of Test Office has made the key {made.key.prefix}… (spare)" in letter.body
    assert made.secret not in letter.body
    assert own_notices.own(office.acting(ferries)).rows[0].subject == letter.subject


def test_a_key_is_revoked_with_a_reason_which_its_members_read(office: Office) -> None:
    ferries = office.consumers[0]
    own = signed_in(office, "reviewer@test.example")
    with pytest.raises(Invalid, match="must say why") as refused:
        on_behalf.revoke_key(own, ferries.key, "  ")
    assert refused.value.where == "reason"
    assert on_behalf.revoke_key(own, ferries.key, "It was in a public place.").state == "revoked"
    assert "They write: It was in a public place." in letters(office.ctx, OWNER)[-1].body
    (entry,) = auditing.entries(own, PageQuery(), EntryFilter(action="revoked a key")).rows
    assert entry.why == "It was in a public place." and entry.by == own.actor.identity
    with office.ctx.transaction() as session:
        event = session.scalars(select(Event).where(Event.type == "key.revoked")).one()
        assert (event.consumer_id, event.by) == (ferries.member.consumer_id, own.actor.identity)
    with pytest.raises(Conflict):
        on_behalf.revoke_key(own, ferries.key, "Again.")


def test_nobody_else_does_and_what_is_not_there_is_told(office: Office) -> None:
    ferries = office.consumers[0]
    for other in (office.finance, office.acting(ferries)):
        with pytest.raises(NotAllowed if other is office.finance else Exception):
            on_behalf.make_key(other, ferries.application, "spare")
        with pytest.raises(NotAllowed if other is office.finance else Exception):
            on_behalf.revoke_key(other, ferries.key, "Why.")
    with pytest.raises(NotFound):
        on_behalf.make_key(office.manager, 10**6, "spare")
    with pytest.raises(NotFound):
        on_behalf.revoke_key(office.manager, 10**6, "Why.")


def test_a_plan_that_one_of_the_house_adds_says_nothing_of_an_own_site(office: Office) -> None:
    ferries = office.consumers[0]
    own = signed_in(office, "product@test.example")
    assert ferries.member.consumer_id is not None
    application = on_behalf.make_application(own, ferries.member.consumer_id, "Second")
    granted = on_behalf.subscribe(own, application.id, office.plans["Skiff"], "For the second boat.")
    assert granted.state == "granted"
    assert "own site" not in letters(office.ctx, OWNER)[-1].body
