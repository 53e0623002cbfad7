"""The sums on both sides, by hour and month; and that a tampering with what was handed on is found in the books."""

from __future__ import annotations

from datetime import UTC, date, datetime
from decimal import Decimal

import pytest
from sqlalchemy import text

from calm_tariff.core.errors import Away, Conflict, Invalid
from calm_tariff.services.settle.books import audits, showing
from calm_tariff.services.settle.handoff import mapping, sums
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.months import OCTOBER, SEPTEMBER, record
from tests.services.settle.documents.recorded import arrive
from tests.services.settle.handoff.outside import Outside, later


@pytest.fixture
def handed(office: Office, outside: Outside) -> Outside:
    """90 units of Ferries' accepted, five of Kayaks' that wait, three more that are not due."""
    record(office, 90)
    arrive(office, 5, 500, whose=1)
    later(office, hours=3)
    outside.map()
    outside.hand_on()
    record(office, 3, office.clock.now, tail=700)
    later(office, minutes=5)
    return outside


def test_each_unit_is_in_one_place(office: Office, handed: Outside) -> None:
    ferries, kayaks = handed.sums()
    assert (ferries.consumer, ferries.recorded, ferries.accepted, ferries.waiting, ferries.to_come) == (
        *("Ferries", 93, 90, 0),
        3,
    )
    assert (ferries.outside, ferries.agrees) == (90, True)
    assert (kayaks.recorded, kayaks.accepted, kayaks.waiting, kayaks.to_come) == (5, 0, 5, 0)
    assert (kayaks.outside, kayaks.agrees) == (0, True)
    assert [each.outside for each in handed.sums(ask=False)] == [None, None]
    assert handed.sums(OCTOBER) == []


def test_what_the_outside_has_otherwise_comes_first(office: Office, handed: Outside) -> None:
    mapping.set_customer(office.finance, office.consumers[1].member.own_consumer, "C-2")
    handed.hand_on()
    lost = next(each for each in handed.there.all.events.values() if each.customer == "C-2")
    del handed.there.all.events[lost.id]
    rows = sums.of_month(office.finance, SEPTEMBER, PageQuery(sort="differing"), handed.asks).rows
    assert [(each.consumer, each.accepted, each.outside, each.agrees) for each in rows] == [
        ("Kayaks", 5, 0, False),
        ("Ferries", 90, 90, True),
    ]


def test_what_the_outside_alone_knows_is_shown(office: Office, handed: Outside) -> None:
    one = next(iter(handed.there.all.events.values()))
    one.subscription = 999
    strange = [each for each in handed.sums() if not each.agrees]
    assert [(each.consumer, each.outside) for each in strange] == [
        ("Ferries", 90 - Decimal(one.units)),
        ("known to the outside alone", Decimal(one.units)),
    ]


def test_an_outside_that_is_away_is_said_so(office: Office, handed: Outside) -> None:
    handed.be(away=True)
    with pytest.raises(Away, match="answered 503"):
        handed.sums()
    with pytest.raises(Conflict, match="none is connected"):
        sums.connected(None)
    with pytest.raises(Invalid):
        handed.sums(date(2026, 9, 2))


def test_months_there_are(office: Office, outside: Outside) -> None:
    office.clock.now = datetime(2026, 11, 5, tzinfo=UTC)
    with office.ctx.transaction() as session:
        assert sums.months(session, office.ctx) == [date(2026, 11, 1), OCTOBER, SEPTEMBER]


def test_the_books_tell_where_units_are_that_are_billed_outside(office: Office, handed: Outside) -> None:
    found = audits.look_through(office.finance)
    assert found.differences == []
    proof = next(each for each in found.proofs if each.check == "handoff")
    assert dict(proof.sums) == {"recorded": 98, "accepted outside": 90, "waiting": 5, "not due yet": 3}
    charges = next(each for each in found.proofs if each.check == "charges")
    assert dict(charges.sums)["billed outside"] == 98
    audits.go_on(office.ctx, audits.begin(office.finance))
    rows = showing.units(office.finance, SEPTEMBER, PageQuery(sort="consumer")).rows
    assert [(each.outside, each.running, each.agrees) for each in rows] == [(93, 0, True), (5, 0, True)]


@pytest.mark.parametrize(
    ("tampering", "what"),
    [
        ("update handed_units set units = units + 1 where state = 'accepted' limit 1", "units of batch"),
        ("delete from handed_units where state = 'accepted' limit 1", "events of batch"),
        ("update handed_units set customer = 'C-2' where state = 'accepted' limit 1", "as they were sent"),
        ("update handed_batch set units = units + 1", "units of batch"),
        ("update handed_batch set accepted = accepted + 1", "events of batch"),
    ],
)
def test_a_tampering_with_what_was_handed_on_is_found(
    office: Office, handed: Outside, tampering: str, what: str
) -> None:
    with office.ctx.transaction() as session:
        session.execute(text(tampering))
    (difference,) = audits.look_through(office.finance).differences
    assert difference.check == "handoff" and what in difference.what
