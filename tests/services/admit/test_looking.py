"""The provider's people see the portal as a consumer does: only that one, for a while, and on the record."""

from __future__ import annotations

from dataclasses import replace

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, NotFound, NotSignedIn
from calm_tariff.services.admit import applications, looking
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.house.people import Person, SignedIn
from tests.office import Office
from tests.services.accounts import signed_in
from tests.services.admit.organisation.test_joining import first


def asked(office: Office, ctx: Context, consumer: int = 0) -> str:
    return looking.ask(ctx, office.consumers[consumer].member.own_consumer).address.split("#")[1]


def test_the_address_is_good_once_and_shows_what_its_owner_sees(office: Office) -> None:
    ines, here = signed_in(office), first(office)
    door = looking.ask(ines, office.consumers[0].member.own_consumer)
    assert door.address.startswith(serving.address(office.ctx, portal(office)) + "/looking#")
    token = door.address.split("#")[1]
    assert looking.who(office.ctx, here, token) is None  # not before it has begun
    looks = looking.begin(office.ctx, here, token)
    who = looking.who(office.ctx, here, looks)
    assert who is not None
    assert (who.consumer, who.membership, who.looking) == ("Ferries", "owner", "product manager")
    assert who.identity == ines.actor.identity
    assert [a.name for a in applications.own(office.ctx.acting(who))] == ["Ferries app"]
    with pytest.raises(NotFound, match="good once"):
        looking.begin(office.ctx, here, token)
    told = EntryFilter(action="looked at the portal as a consumer does")
    (entry,) = auditing.entries(ines, PageQuery(), told).rows
    assert (entry.by, entry.subject) == (ines.actor.identity, "Ferries")
    with office.ctx.transaction() as session:  # its own members' sessions are theirs
        assert session.scalars(select(SignedIn.member_id).where(SignedIn.person_id.is_not(None))).all() == [None]


def portal(office: Office):
    with office.ctx.transaction() as session:
        return serving.first(session)


def test_it_is_over_after_a_while_when_it_is_ended_and_when_the_person_is_gone(office: Office) -> None:
    ines, here = signed_in(office), first(office)
    late = asked(office, ines)
    office.clock.forward(minutes=3)
    with pytest.raises(NotFound):
        looking.begin(office.ctx, here, late)
    one, two, three = (looking.begin(office.ctx, here, asked(office, ines)) for _ in range(3))
    looking.end(office.ctx, one)
    looking.end(office.ctx, one)
    assert looking.who(office.ctx, here, one) is None
    office.clock.forward(minutes=59)
    assert looking.who(office.ctx, here, two) is not None
    with office.ctx.transaction() as session:
        session.get_one(Person, ines.actor.person_id).roles = ["owner"]
    assert looking.who(office.ctx, here, two) is None
    with office.ctx.transaction() as session:
        person = session.get_one(Person, ines.actor.person_id)
        person.roles, person.deactivated_at = ["product manager"], office.ctx.now
    assert looking.who(office.ctx, here, three) is None
    with office.ctx.transaction() as session:
        session.get_one(Person, ines.actor.person_id).deactivated_at = None
    office.clock.forward(minutes=2)
    assert looking.who(office.ctx, here, three) is None


def test_it_is_for_people_of_the_provider_and_for_portals_that_serve_the_consumer(office: Office) -> None:
    with pytest.raises(NotSignedIn):
        looking.ask(office.acting(office.consumers[0]), office.consumers[0].member.own_consumer)
    script = office.ctx.acting(replace(office.manager.actor, token_id=7))
    with pytest.raises(Conflict, match="for people"):
        looking.ask(script, office.consumers[0].member.own_consumer)
    ines = signed_in(office)
    with pytest.raises(NotFound):
        looking.ask(ines, 10**9)
    elsewhere = replace(first(office), id=10**6, groups=frozenset({10**6}))
    with pytest.raises(NotFound):
        looking.begin(office.ctx, elsewhere, asked(office, ines))
    looks = looking.begin(office.ctx, first(office), asked(office, ines))
    assert looking.who(office.ctx, elsewhere, looks) is None
