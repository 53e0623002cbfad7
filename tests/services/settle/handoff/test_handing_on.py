"""Handing on: what waits goes out once, whatever dies, is lost, or comes twice; what is refused is said, and why."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import orjson
import pytest
from sqlalchemy import func, select, text

from calm_tariff.core.errors import Conflict, NotAllowed, NotFound
from calm_tariff.services.base.outside_billing import OutsideBilling, Taken
from calm_tariff.services.settle.handoff import handed, handing_on, mapping
from calm_tariff.services.settle.handoff.handing_on import NotTaken
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.handoff import HandedBatch, HandedUnits
from tests.office import START, Office
from tests.services.months import at_once, record
from tests.services.settle.documents.recorded import arrive
from tests.services.settle.handoff.outside import Outside, later


@pytest.fixture
def waiting(office: Office, outside: Outside) -> Outside:
    """Four hours of Ferries' that are mapped and wait."""
    record(office, 200)
    later(office, hours=6)
    outside.look()
    outside.map()
    return outside


def states(office: Office) -> dict[str, int]:
    with office.ctx.transaction() as session:
        query = select(HandedUnits.state, func.count()).group_by(HandedUnits.state)
        return dict(session.execute(query).all())


class Heard:
    """What goes to the outside, kept."""

    def __init__(self, billing: OutsideBilling) -> None:
        self.billing, self.heard = billing, list[tuple[str, bytes]]()

    def hand_on(self, key: str, body: bytes, sent_at: Any) -> Taken:
        self.heard.append((key, body))
        return self.billing.hand_on(key, body, sent_at)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.billing, name)


def test_what_is_mapped_is_handed_on_as_cloudevents(office: Office, waiting: Outside) -> None:
    heard = Heard(waiting.asks)
    handing_on.hand_on(office.ctx, heard)
    ((_, body),) = heard.heard
    first = orjson.loads(body)[0]
    subscription = office.consumers[0].subscription
    assert first == {
        "specversion": "1.0",
        "id": f"2026-09-10T12:00Z/{subscription}/{office.meter}/1",
        "source": "urn:calm-tariff:metered-usage",
        "type": "metered.usage.hour",
        "subject": f"subscriptions/{subscription}",
        "time": "2026-09-10T13:00:00Z",
        "datacontenttype": "application/json",
        "data": {
            "hour_start": "2026-09-10T12:00:00Z",
            "hour_end": "2026-09-10T13:00:00Z",
            "subscription": subscription,
            "customer": "C-1",
            "price": "P-1",
            "meter": "forecast_calls",
            "units": "60",
            "revision": 1,
            "trial": False,
        },
    }
    assert states(office) == {"accepted": 4}
    (batch,) = handed.batches(office.finance, PageQuery()).rows
    assert (batch.events, batch.accepted, batch.refused) == (4, 4, 0)
    assert batch.tries[0].taken and batch.tries[0].said == "accepted 4"
    waiting.agrees()


def test_what_is_not_mapped_waits_and_holds_up_nobody(office: Office, outside: Outside) -> None:
    record(office, 60)
    arrive(office, 5, 500, whose=1)
    later(office, hours=3)
    outside.map(1)
    outside.hand_on()
    assert states(office) == {"waiting": 1, "accepted": 1}
    (lacking,) = outside.events(state="waiting")
    assert (lacking.consumer, lacking.missing, lacking.price) == ("Ferries", "customer", "P-1")
    mapping.set_customer(office.finance, office.consumers[0].member.own_consumer, "C-1")
    outside.hand_on()
    assert states(office) == {"accepted": 2}
    outside.agrees()


def test_many_go_in_several_batches(office: Office, waiting: Outside, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(handing_on, "AT_ONCE", 3)
    waiting.hand_on()
    rows = handed.batches(office.finance, PageQuery(sort="oldest")).rows
    assert [each.events for each in rows] == [3, 1]
    waiting.agrees()


def test_an_answer_that_is_lost_is_asked_for_again_under_the_same_key_with_the_same_bytes(
    office: Office, waiting: Outside
) -> None:
    heard = Heard(waiting.asks)
    waiting.be(loses=True)
    with pytest.raises(NotTaken, match="answered 504"):
        handing_on.hand_on(office.ctx, heard)
    assert states(office) == {"sent": 4} and len(waiting.there.all.events) == 4
    arrive(office, 7, 900)
    mapping.set_customer(office.finance, office.consumers[0].member.own_consumer, "C-2")
    later(office, days=2)
    waiting.be()
    waiting.look()
    while handing_on.hand_on(office.ctx, heard) is not None:
        pass
    first, again, difference = heard.heard
    assert first == again and difference[0] != first[0]
    # The difference goes where what it corrects went, not where the consumer is mapped to by now.
    assert [each["data"]["customer"] for each in orjson.loads(difference[1])] == ["C-1"]
    assert states(office) == {"accepted": 5}
    waiting.agrees()


def test_one_that_is_away_is_tried_until_it_is_back(office: Office, waiting: Outside) -> None:
    waiting.be(away=True)
    for _ in range(3):
        with pytest.raises(NotTaken, match="answered 503"):
            handing_on.hand_on(office.ctx, waiting.asks)
    (batch,) = handed.batches(office.finance, PageQuery()).rows
    assert batch.answered_at is None
    assert [each.taken for each in handed.one_batch(office.finance, batch.id).tries] == [False] * 3
    waiting.be()
    waiting.hand_on()
    assert [each.taken for each in handed.one_batch(office.finance, batch.id).tries] == [True, False, False, False]
    waiting.agrees()


def test_what_is_refused_says_why_and_goes_again_when_it_is_mapped_anew(office: Office, outside: Outside) -> None:
    record(office, 60)
    arrive(office, 5, 500, whose=1)
    later(office, hours=3)
    outside.map(0, "C-9")
    outside.map(1)
    outside.hand_on()
    (refused,) = outside.events(state="refused")
    assert (refused.refused_why, refused.customer, refused.units) == ("there is no customer C-9", "C-9", 60)
    outside.agrees()
    outside.hand_on()  # by itself it is not sent again
    assert states(office) == {"accepted": 1, "refused": 1}
    mapping.set_customer(office.finance, office.consumers[0].member.own_consumer, "C-1")
    outside.hand_on()
    assert states(office) == {"accepted": 2}
    assert {each.id for each in outside.there.all.events.values()} == {each.event_id for each in outside.events()}
    outside.agrees()


def test_what_was_refused_is_handed_on_again_when_a_person_says_so(office: Office, outside: Outside) -> None:
    record(office, 120)
    later(office, hours=3)
    outside.map(price="P-3")
    outside.hand_on()
    assert states(office) == {"refused": 2}
    outside.there.all.prices["P-3"] = "Harbour, new"  # it was the outside that did not know its own price
    first, second = outside.events()
    handing_on.retry(office.finance, first.id)
    outside.hand_on()
    assert states(office) == {"refused": 1, "accepted": 1}
    with pytest.raises(Conflict):
        handing_on.retry(office.finance, first.id)
    assert handing_on.retry_all(office.finance) == 1
    assert handing_on.retry_all(office.finance) == 0
    outside.hand_on()
    assert states(office) == {"accepted": 2}
    assert second.id in {each.id for each in outside.events(state="accepted")}
    outside.agrees()


def test_a_difference_goes_to_the_number_that_its_customer_was_given_since(office: Office, waiting: Outside) -> None:
    waiting.hand_on()
    waiting.there.all.customers = {"C-7": "Ferries plc"}
    waiting.hear("customer.changed", to="C-7")
    later(office, minutes=1)
    waiting.there.all.customers = {"C-8": "Ferries plc"}
    waiting.hear("customer.changed", "C-7", to="C-8")
    arrive(office, 4, 900)
    waiting.hand_on()
    (difference,) = [each for each in waiting.events() if each.revision == 2]
    assert (difference.state, difference.customer, difference.units) == ("accepted", "C-8", 4)
    waiting.agrees()


def test_a_difference_that_is_refused_where_the_first_went_goes_where_it_is_mapped_now(
    office: Office, waiting: Outside
) -> None:
    waiting.hand_on()
    del waiting.there.all.customers["C-1"]
    waiting.there.all.customers["C-9"] = "Ferries of another book"
    mapping.set_customer(office.finance, office.consumers[0].member.own_consumer, "C-9")
    arrive(office, 4, 900)
    waiting.hand_on()
    (refused,) = waiting.events(state="refused")
    assert (refused.revision, refused.customer) == (2, "C-1")
    handing_on.retry(office.finance, refused.id)
    waiting.hand_on()
    assert [each.customer for each in waiting.events() if each.revision == 2] == ["C-9"]
    assert waiting.events(state="refused") == []
    waiting.agrees()


def test_an_outside_that_has_lost_a_batch_gets_it_again_and_one_that_has_not_counts_it_once(
    office: Office, waiting: Outside
) -> None:
    waiting.hand_on()
    (batch,) = handed.batches(office.finance, PageQuery()).rows
    kept = dict(waiting.there.all.events)
    for lost in (False, True):
        if lost:
            waiting.there.all.events.clear()
        handing_on.resend(office.finance, batch.id)
        assert handing_on.send_again(office.ctx, waiting.asks, batch.id)
        assert waiting.there.all.events == kept
        waiting.agrees()
    assert len(handed.one_batch(office.finance, batch.id).tries) == 3


def test_a_batch_that_is_being_sent_cannot_be_sent_again(office: Office, waiting: Outside) -> None:
    waiting.be(away=True)
    with pytest.raises(NotTaken):
        handing_on.hand_on(office.ctx, waiting.asks)
    (batch,) = handed.batches(office.finance, PageQuery()).rows
    with pytest.raises(Conflict, match="until it is answered"):
        handing_on.resend(office.finance, batch.id)


@pytest.mark.parametrize(
    ("answer", "told"),
    [
        (Taken(accepted=frozenset(), refused={}), "0 events"),
        (Taken(accepted=frozenset({"of somebody else"}), refused={}), "1 event"),
    ],
)
def test_an_answer_that_leaves_events_out_is_none(office: Office, waiting: Outside, answer: Taken, told: str) -> None:
    class Vague:
        def hand_on(self, *_: Any) -> Taken:
            return answer

    with pytest.raises(NotTaken, match=f"said what became of {told}, and was sent 4"):
        handing_on.hand_on(office.ctx, Vague())  # type: ignore[arg-type]
    assert states(office) == {"sent": 4}
    waiting.hand_on()
    waiting.agrees()


def test_a_batch_that_was_tampered_with_is_not_sent(office: Office, waiting: Outside) -> None:
    waiting.be(away=True)
    with pytest.raises(NotTaken):
        handing_on.hand_on(office.ctx, waiting.asks)
    with office.ctx.transaction() as session:
        session.execute(text("update handed_units set units = units + 1 limit 1"))
    waiting.be()
    with pytest.raises(Conflict, match="not as it was"):
        handing_on.hand_on(office.ctx, waiting.asks)
    assert waiting.there.all.events == {}


def test_two_workers_at_once_hand_nothing_on_twice(office: Office, waiting: Outside) -> None:
    keys: list[str] = []

    class Counting(Heard):
        def hand_on(self, key: str, body: bytes, sent_at: Any) -> Taken:
            keys.append(key)
            return super().hand_on(key, body, sent_at)

    at_once(office.ctx, lambda _: handing_on.hand_on(office.ctx, Counting(waiting.asks)), 4)
    waiting.hand_on()
    with office.ctx.transaction() as session:
        sent = session.scalars(select(HandedBatch)).all()
        assert sum(each.accepted for each in sent) == 4 and all(each.answered_at for each in sent)
    assert len(waiting.there.all.events) == 4
    waiting.agrees()


def test_what_waits_is_seen_to_by_a_job(office: Office, outside: Outside) -> None:
    def asked() -> int:
        with office.ctx.transaction() as session:
            return session.scalar(select(func.count()).where(Job.kind == handing_on.HAND_ON)) or 0

    record(office, 10)
    later(office, hours=2)
    outside.look()
    assert asked() == 0  # nothing of it is mapped
    outside.map()
    assert asked() == 1


def test_who_may(office: Office, waiting: Outside) -> None:
    for who in (office.manager, office.reviewer):
        for act in (
            lambda who=who: handing_on.resend(who, 1),
            lambda who=who: handing_on.retry(who, 1),
            lambda who=who: handing_on.retry_all(who),
        ):
            with pytest.raises(NotAllowed):
                act()
    for act in (lambda: handing_on.resend(office.finance, 99), lambda: handing_on.retry(office.finance, 99)):
        with pytest.raises(NotFound):
            act()
    with pytest.raises(NotFound):
        handed.one_batch(office.finance, 99)
    assert START + timedelta(hours=6) == office.clock.now
