"""Endpoints hear of what happened: in the order in which it did, each by itself, of what they chose."""

from __future__ import annotations

import json
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Conflict, NotFound, NotSignedIn
from calm_tariff.services.admit import credentials
from calm_tariff.services.base import auditing, events, jobs, webhooks
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.house import deliveries, endpoints, telling
from calm_tariff.services.house.endpoints import EndpointTyped
from calm_tariff.services.house.telling import Answered, Outgoing
from calm_tariff.store.base.events import Event
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import AuditEntry
from calm_tariff.store.house.endpoints import EventDelivery
from tests.office import Office

TAKEN = Answered(status=204, words="", took_ms=3)
NOT_TAKEN = Answered(status=500, words="not now", took_ms=4)


def operations(office: Office) -> Context:
    made = office.ctx.acting(Actor("Tomas", frozenset({"operations"}), person_id=7))
    return replace(made, sealing_secret="the one that seals")


def endpoint(ctx: Context, name: str = "Ledger", **typed: Any) -> endpoints.EndpointMade:
    return endpoints.make(ctx, EndpointTyped(name=name, url="http://93.184.215.14/hook", **typed))


def happened(ctx: Context, *names: str, kind: str = "key", action: str = "revoked a key") -> None:
    for name in names:
        with ctx.transaction() as session:
            auditing.note(session, ctx, action, (kind, 1, name))


def told(ctx: Context, made: endpoints.EndpointMade, answers: Iterable[Answered] = ()) -> list[Outgoing]:
    """What an endpoint is sent when it answers so, and takes everything after."""
    found, answers = [], iter(answers)
    while (sent := telling.next_to_tell(ctx, made.endpoint.id)) is not None:
        found.append(sent)
        answered = next(answers, TAKEN)
        telling.keep(ctx, sent, answered)
        if not answered.taken:
            break
    return found


def bodies(sent: list[Outgoing]) -> list[dict[str, Any]]:
    return [json.loads(one.signed.body) for one in sent]


def names(sent: list[Outgoing]) -> list[str]:
    return [body["data"]["subject"]["name"] for body in bodies(sent)]


def test_each_hears_of_what_it_chose_in_order_and_of_nothing_from_before(office: Office) -> None:
    ctx = operations(office)
    happened(ctx, "before")
    all_of_it, keys = endpoint(ctx, "All"), endpoint(ctx, "Keys", wants=["key.*"])
    happened(ctx, "first", "second")
    happened(ctx, "a plan", kind="plan", action="added a plan")
    happened(ctx, "third")
    assert names(told(ctx, keys)) == ["first", "second", "third"]
    heard = bodies(told(ctx, all_of_it))
    assert [body["type"] for body in heard] == [
        "endpoint.made",
        "endpoint.made",
        "key.revoked",
        "key.revoked",
        "plan.added",
        "key.revoked",
    ]
    assert told(ctx, keys) == [] and told(ctx, all_of_it) == []


def test_an_event_says_what_the_record_says_and_whose_it_is(office: Office) -> None:
    ctx, member = operations(office), office.acting(office.consumers[0])
    made = endpoint(ctx, wants=["key.*", "subscription.*"])
    key = credentials.make_key(member, office.consumers[0].application, "other").key
    (body,) = bodies(told(ctx, made))
    with ctx.transaction() as session:
        entry = session.scalars(select(AuditEntry).order_by(AuditEntry.id.desc())).first()
    assert entry is not None
    assert body["type"] == "key.made" and body["timestamp"] == office.ctx.now.isoformat()
    assert body["data"]["subject"] == {"kind": "key", "id": key.id, "name": entry.subject}
    assert body["data"]["consumer"] == office.consumers[0].member.consumer_id and body["data"]["record"] == entry.id
    assert body["data"]["by"] == {"id": member.actor.identity, "name": entry.actor}
    assert body["data"]["did"] == entry.action and key.prefix in body["data"]["said"]


def test_what_is_undone_before_it_is_committed_never_happened(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])
    with suppress(RuntimeError), ctx.transaction() as session:
        auditing.note(session, ctx, "revoked a key", ("key", 1, "never"))
        raise RuntimeError
    with ctx.transaction() as session:
        with suppress(RuntimeError), auditing.apart(session):
            auditing.note(session, ctx, "revoked a key", ("key", 1, "not this"))
            raise RuntimeError
        auditing.note(session, ctx, "revoked a key", ("key", 1, "this"))
    assert names(told(ctx, made)) == ["this"]


def test_nobody_misses_what_others_write_at_the_same_time(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])

    def write(number: int) -> None:
        for part in range(5):
            happened(ctx, f"{number}.{part}")

    heard: list[Outgoing] = []
    with ThreadPoolExecutor(8) as pool:
        under_way = [pool.submit(write, number) for number in range(8)]
        while not all(each.done() for each in under_way):
            heard += told(ctx, made)
        for each in under_way:
            each.result()
    heard += told(ctx, made)
    numbers = [sent.event_id for sent in heard]
    assert numbers == sorted(set(numbers)) and len(numbers) == 40
    for number in range(8):  # and everybody's own stay in order
        assert [n for n in names(heard) if n.startswith(f"{number}.")] == [f"{number}.{part}" for part in range(5)]


def test_one_that_does_not_take_an_event_hears_of_it_again_and_of_nothing_later(office: Office) -> None:
    ctx = operations(office)
    bad, good = endpoint(ctx, "Bad", wants=["key.*"]), endpoint(ctx, "Good", wants=["key.*"])
    happened(ctx, "first", "second")
    tries = [told(ctx, bad, [NOT_TAKEN]) for _ in range(3)]
    assert [names(each) for each in tries] == [["first"]] * 3
    assert len({each[0].signed.fields["webhook-id"] for each in tries}) == 1
    assert names(told(ctx, good)) == ["first", "second"]
    assert names(told(ctx, bad)) == ["first", "second"]
    rows = deliveries.of(ctx, bad.endpoint.id, PageQuery()).rows
    assert [(row.said.rsplit(": ", 1)[1], row.status, row.taken) for row in reversed(rows)] == [
        *[("first", 500, False)] * 3,
        ("first", 204, True),
        ("second", 204, True),
    ]
    failed = deliveries.of(ctx, bad.endpoint.id, PageQuery(), only_failed=True)
    assert failed.total == 3 and {row.answer for row in failed.rows} == {"not now"}


def test_whoever_is_behind_gets_one_job_and_one_that_is_tried_again_keeps_its_pause(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])
    assert telling.hand_out(ctx) == 1 and told(ctx, made) == []  # what it does not want is behind it then
    assert telling.hand_out(ctx) == 0
    happened(ctx, "first")
    assert telling.hand_out(ctx) == 1
    job = jobs.claim(ctx, {telling.SEND: timedelta(minutes=1)})
    assert job is not None and job.arguments == {"endpoint": made.endpoint.id}
    jobs.failed(ctx, job, "NotTaken: answered 500", 3, 0)
    telling.hand_out(ctx)
    assert jobs.claim(ctx, {telling.SEND: timedelta(minutes=1)}) is None
    seen = endpoints.one(ctx, made.endpoint.id)
    assert (seen.waiting, seen.tries, seen.gave_up) == (1, 1, False)
    assert "answered 500" in seen.trouble and seen.next_at is not None and seen.waiting_since == office.ctx.now
    deliveries.go_on(ctx, made.endpoint.id)
    assert jobs.claim(ctx, {telling.SEND: timedelta(minutes=1)}) is not None


def test_a_webhook_is_signed_with_both_secrets_for_a_day_after_there_is_another(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])
    second = endpoints.new_secret(ctx, made.endpoint.id)
    assert second.secret != made.secret
    happened(ctx, "first")
    (sent,) = told(ctx, made, [NOT_TAKEN])
    assert len(sent.signed.fields["webhook-signature"].split()) == 2
    assert holds(made.secret, sent) and holds(second.secret, sent)
    office.clock.forward(hours=25)
    (sent,) = told(ctx, made)
    assert not holds(made.secret, sent) and holds(second.secret, sent)


def holds(secret: str, sent: Outgoing) -> bool:
    """Whether one who knows that secret alone takes it for ours."""
    at = datetime.fromtimestamp(int(sent.signed.fields["webhook-timestamp"]), UTC)
    try:
        webhooks.verified(secret, sent.signed.body, sent.signed.fields, at)
    except NotSignedIn:
        return False
    return True


def test_an_event_that_nobody_can_take_is_passed_over_by_a_person_and_that_is_seen(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])
    happened(ctx, "bad", "good")
    (sent,) = told(ctx, made, [NOT_TAKEN])
    next_one = deliveries.next_of(ctx, made.endpoint.id)
    assert next_one is not None and next_one.id == sent.event_id
    with pytest.raises(Conflict, match="another event's turn"):
        deliveries.pass_over(ctx, made.endpoint.id, sent.event_id + 1)
    deliveries.pass_over(ctx, made.endpoint.id, sent.event_id)
    assert names(told(ctx, made)) == ["good"]
    assert [row.what for row in deliveries.of(ctx, made.endpoint.id, PageQuery()).rows] == [
        "sent",
        "passed over",
        "sent",
    ]


def test_what_was_taken_is_sent_again_when_asked_for_under_its_own_id(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])
    happened(ctx, "first", "second")
    sent = told(ctx, made)
    with pytest.raises(NotFound):
        deliveries.send_again(ctx, made.endpoint.id, sent[-1].event_id + 1)
    deliveries.send_again(ctx, made.endpoint.id, sent[0].event_id)
    job = jobs.claim(ctx, {telling.SEND_AGAIN: timedelta(minutes=1)})
    assert job is not None
    again = telling.to_tell_again(ctx, job.arguments["endpoint"], job.arguments["event"])
    assert again is not None and again.signed.fields["webhook-id"] == sent[0].signed.fields["webhook-id"]
    telling.keep(ctx, again, TAKEN)
    assert deliveries.of(ctx, made.endpoint.id, PageQuery()).rows[0].what == "sent again"
    assert told(ctx, made) == []  # and nothing else is


def test_one_that_is_off_is_told_nothing_and_then_all_that_waited(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])
    endpoints.turn(ctx, made.endpoint.id, on=False)
    happened(ctx, "first")
    assert telling.hand_out(ctx) == 0 and told(ctx, made) == []
    with pytest.raises(Conflict, match="it is off"):
        endpoints.test(ctx, made.endpoint.id)
    assert endpoints.turn(ctx, made.endpoint.id, on=True).waiting == 1
    assert names(told(ctx, made)) == ["first"]


def test_one_that_answers_that_it_is_gone_is_off_and_says_so(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*"])
    happened(ctx, "first")
    told(ctx, made, [Answered(status=410, words="", took_ms=1)])
    seen = endpoints.one(ctx, made.endpoint.id)
    assert not seen.on and "410" in seen.off_why and seen.waiting == 1


def test_a_test_goes_to_the_endpoint_that_is_tested_and_to_no_other(office: Office) -> None:
    ctx = operations(office)
    one, other = endpoint(ctx, "One", wants=["invoice.issued"]), endpoint(ctx, "Other")
    told(ctx, other)
    endpoints.test(ctx, one.endpoint.id)
    assert [body["type"] for body in bodies(told(ctx, one))] == ["endpoint.tested"] and told(ctx, other) == []


def test_a_room_is_told_in_a_line_and_its_address_is_seen_by_nobody(office: Office) -> None:
    ctx = operations(office)
    made = endpoints.make(
        ctx,
        EndpointTyped(name="Room", form="chat message", url="https://93.184.215.14/rooms/s3cret", wants=["consumer.*"]),
    )
    assert made.endpoint.shown == "https://93.184.215.14/…"
    with ctx.transaction() as session:
        auditing.note(session, ctx, "suspended a consumer", ("consumer", 4, "Gulls"), why="does not pay")
    (sent,) = told(ctx, made)
    assert json.loads(sent.signed.body) == {"text": "Tomas suspended a consumer: Gulls. “does not pay”"}
    assert sent.url == "https://93.184.215.14/rooms/s3cret"
    with pytest.raises(Conflict, match="nothing of it is signed"):
        endpoints.new_secret(ctx, made.endpoint.id)


def test_taken_away_it_leaves_nothing_behind_and_old_events_are_forgotten(office: Office) -> None:
    ctx = operations(office)
    made, other = endpoint(ctx, "One"), endpoint(ctx, "Other")
    happened(ctx, "first")
    told(ctx, made)
    told(ctx, other)
    endpoints.take_away(ctx, made.endpoint.id)
    with pytest.raises(NotFound):
        endpoints.one(ctx, made.endpoint.id)
    telling.forget(ctx)
    assert len(deliveries.of(ctx, other.endpoint.id, PageQuery()).rows) == 2
    office.clock.forward(days=31)
    telling.forget(ctx)
    with ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(Event)) == 0
        assert session.scalar(select(func.count()).select_from(EventDelivery)) == 0
    happened(ctx, "after")
    assert names(told(ctx, other))[-1] == "after"


def test_what_is_not_on_the_record_is_an_event_of_its_own(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["subscription.started"])
    with ctx.transaction() as session:
        thing = events.Thing("subscription", 9, "Timetable", 3)
        events.write(session, ctx, "subscription.started", thing, "It is subscribed", plan="Ketch")
    (body,) = bodies(told(ctx, made))
    assert body["data"]["consumer"] == 3 and body["data"]["record"] is None and body["data"]["plan"] == "Ketch"
    assert body["data"]["said"] == "It is subscribed"


def test_what_is_on_the_record_and_what_is_not_keep_their_order_in_one_transaction(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["key.*", "allowance.*"])
    with ctx.transaction() as session:
        auditing.note(session, ctx, "revoked a key", ("key", 1, "first"))
        events.write(session, ctx, "allowance.spent", events.Thing("subscription", 9, "second"), "It is spent")
        auditing.note(session, ctx, "made a key", ("key", 2, "third"))
    heard = bodies(told(ctx, made))
    assert [body["data"]["subject"]["name"] for body in heard] == ["first", "second", "third"]
    with ctx.transaction() as session:
        entries = session.scalars(select(AuditEntry).order_by(AuditEntry.id.desc()).limit(2)).all()
    assert [body["data"]["record"] for body in heard] == [entries[1].id, None, entries[0].id]


def test_an_event_may_be_another_than_its_action_stands_for(office: Office) -> None:
    ctx = operations(office)
    made = endpoint(ctx, wants=["subscription.paused"])
    with ctx.transaction() as session:
        thing = events.Thing("subscription", 9, "Timetable", 3)
        auditing.note(session, ctx, "moved a subscription", thing, event="subscription.paused")
        auditing.note(session, ctx, "moved a subscription", thing)
    (body,) = bodies(told(ctx, made))
    assert body["type"] == "subscription.paused" and body["data"]["did"] == "moved a subscription"
