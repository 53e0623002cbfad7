"""The ticket desk: told of a request in order and each thing once; what it calls back counts once, if it signed it."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from typing import Any

import pytest
from standardwebhooks import Webhook

from calm_tariff.core.errors import Conflict, Invalid, NotFound, NotSignedIn
from calm_tariff.core.routes import Route
from calm_tariff.services.admit.desk import asking, conversation, outside_decisions, outside_events, own_requests
from calm_tariff.services.base import webhooks
from calm_tariff.services.observe import request_in_view
from calm_tariff.store.base.jobs import Job
from tests.office import Office

SECRET = "what both sides sign their webhooks with"


@pytest.fixture
def outside(office: Office) -> Office:
    """The product's requests are decided outside."""
    office.change_product(route=Route(otherwise="outside"))
    return office


def told(office: Office, request: int) -> list[dict[str, Any]]:
    """What the desk is told, as one that takes all of it."""
    events = []
    while (event := outside_events.next_to_tell(office.ctx, request, SECRET)) is not None:
        fields = dict(event.signed.fields)
        assert webhooks.verified(webhooks.secret_of(SECRET), event.signed.body, fields, office.ctx.now)
        events.append({"id": fields["webhook-id"], **json.loads(event.signed.body)})
        outside_events.told(office.ctx, request, event.message_id)
    return events


def call_back(
    office: Office,
    request: int,
    kind: str,
    *,
    secret: str = SECRET,
    event_id: str = "desk_1",
    at: datetime | None = None,
    **of: Any,
) -> None:
    """Something that the desk says of its ticket T-1."""
    data = {"reference": f"request-{request}", "ticket": "T-1", **of}
    body = json.dumps({"type": kind, "timestamp": "2026-09-10T12:00:00Z", "data": data})
    now = at or office.ctx.now
    fields = {
        "webhook-id": event_id,
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(webhooks.secret_of(secret)).sign(event_id, now, body),
    }
    outside_events.receive(office.ctx, SECRET, body.encode(), fields)


def standing(office: Office, request: int) -> tuple[str, str | None, str]:
    seen = request_in_view.one(office.manager, request).request
    return seen.state, seen.ticket, seen.ticket_state


def test_the_desk_is_told_all_there_is_and_then_each_word_in_its_order(outside: Office) -> None:
    member, _, request = outside.ask("Anglers", "Ketch")
    own = outside.ctx.acting(member)
    (passed,) = told(outside, request)
    assert (passed["type"], passed["data"]["reference"]) == ("request.passed", f"request-{request}")
    said = passed["data"]
    assert (said["organisation"], said["plan"], said["purpose"]) == ("Anglers", "Ketch", "What Anglers does.")
    assert said["charge_of_a_month"] == {"amount": "40.00", "currency": "EUR"}
    assert said["page"].endswith(f"/admit/desk/{request}") and said["answer_to"].endswith("/api/v1/ticket-desk/events")
    conversation.answer(own, request, "It is urgent.")
    conversation.say(outside.reviewer, request, "They know.", inside=True)
    conversation.say(outside.reviewer, request, "We have passed it on.")
    asking.take_back(own, request)
    events = told(outside, request)
    assert [(e["type"], e["data"].get("text", "")) for e in events] == [
        ("request.commented", "It is urgent."),
        ("request.commented", "We have passed it on."),
        ("request.taken_back", ""),
    ]
    assert len({e["id"] for e in (passed, *events)}) == 4 and told(outside, request) == []
    with outside.ctx.transaction() as session:
        assert [job.arguments for job in session.query(Job).filter_by(kind=conversation.TELL_DESK)] == [
            {"request": request}
        ]


def test_what_is_not_taken_is_told_again_under_the_same_id(outside: Office) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    first = outside_events.next_to_tell(outside.ctx, request, SECRET)
    outside.clock.forward(hours=1)
    again = outside_events.next_to_tell(outside.ctx, request, SECRET)
    assert first and again and first.signed.body == again.signed.body
    assert first.signed.fields["webhook-id"] == again.signed.fields["webhook-id"]
    assert first.signed.fields["webhook-signature"] != again.signed.fields["webhook-signature"]


def test_a_request_that_is_decided_here_is_told_to_nobody(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    conversation.answer(office.ctx.acting(member), request, "It is urgent.")
    assert told(office, request) == []
    with pytest.raises(NotFound):
        call_back(office, request, "ticket.decided", decision="granted")


def test_comments_travel_both_ways_and_what_is_not_for_the_consumer_stays_inside(outside: Office) -> None:
    member, _, request = outside.ask("Anglers", "Ketch")
    own = outside.ctx.acting(member)
    told(outside, request)
    call_back(outside, request, "ticket.opened", event_id="a")
    call_back(outside, request, "ticket.changed", event_id="b", state="being looked at")
    call_back(outside, request, "ticket.commented", event_id="c", text="Who are they?", by="Zé")
    call_back(outside, request, "ticket.commented", event_id="d", text="By Friday.", public=True)
    assert standing(outside, request) == ("passed to outside", "T-1", "being looked at")
    shown = [m.text for m in own_requests.one(own, request).messages]
    assert "By Friday." in shown and not any("Who are they?" in text for text in shown)
    inside = [m.text for m in request_in_view.one(outside.reviewer, request).messages]
    assert "Zé: Who are they?" in inside
    assert told(outside, request) == []  # the desk's own words do not come back to it


def test_a_decision_counts_once(outside: Office) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    call_back(outside, request, "ticket.decided", decision="granted", note="Fine by us.")
    assert standing(outside, request)[0] == "granted"
    with pytest.raises(Conflict, match="was taken already"):
        call_back(outside, request, "ticket.decided", decision="declined", note="No.")
    call_back(outside, request, "ticket.decided", event_id="later", decision="declined", note="No.")
    seen = request_in_view.one(outside.manager, request).request
    assert (seen.state, seen.note, seen.decided_by) == ("granted", "Fine by us.", "the ticket desk")


def test_nothing_counts_that_the_desk_did_not_sign_or_not_of_late(outside: Office) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    for wrong in (
        {"secret": "what somebody else would like to sign with"},
        {"at": outside.ctx.now - timedelta(minutes=6)},
        {"at": outside.ctx.now + timedelta(minutes=6)},
    ):
        with pytest.raises(NotSignedIn):
            call_back(outside, request, "ticket.decided", decision="granted", **wrong)  # type: ignore[arg-type]
    for fields in (
        {},
        {"webhook-id": "x", "webhook-timestamp": "soon", "webhook-signature": "v1,x"},
        {"webhook-id": "x" * 101, "webhook-timestamp": "1", "webhook-signature": "v1,x"},
        {"webhook-id": "x", "webhook-timestamp": str(int(outside.ctx.now.timestamp())), "webhook-signature": "v1,é x"},
    ):
        with pytest.raises(NotSignedIn):
            outside_events.receive(outside.ctx, SECRET, b"{}", fields)
    assert standing(outside, request)[0] == "passed to outside"


@pytest.mark.parametrize(
    ("kind", "of", "where"),
    [
        ("ticket.sung", {}, "type"),
        ("ticket.decided", {}, "data.decision"),
        ("ticket.decided", {"decision": "allowed"}, "data.decision"),
        ("ticket.changed", {"state": " "}, "data.state"),
        ("ticket.changed", {"state": "x" * 41}, "data.state"),
        ("ticket.commented", {"text": ""}, "data.text"),
        ("ticket.opened", {"ticket": "x" * 41}, "data.ticket"),
        ("ticket.opened", {"reference": "request-x"}, "data.reference"),
        ("ticket.opened", {"colour": "red"}, "data.colour"),
    ],
)
def test_nonsense_is_refused_where_it_is_and_may_be_put_right(
    outside: Office, kind: str, of: dict[str, Any], where: str
) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    with pytest.raises(Invalid) as refused:
        call_back(outside, request, kind, **of)
    assert refused.value.where == where
    call_back(outside, request, "ticket.opened")  # under the same id: what was refused was not taken
    with pytest.raises(NotFound):
        call_back(outside, request, "ticket.opened", event_id="other", ticket="T-2")


def test_it_is_reminded_after_a_time_and_never_grants_by_that(outside: Office) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    told(outside, request)
    for days, reminders in ((1, 0), (4, 1), (1, 0), (2, 1)):
        outside.clock.forward(days=days)
        outside_decisions.remind(outside.ctx, request)
        assert [e["type"] for e in told(outside, request)] == ["request.reminder"] * reminders
    assert standing(outside, request)[0] == "passed to outside"


def test_ids_are_kept_for_as_long_as_they_could_be_sent_again(outside: Office) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    call_back(outside, request, "ticket.opened")
    outside.clock.forward(minutes=4)
    outside_events.forget(outside.ctx)
    with pytest.raises(Conflict):
        call_back(outside, request, "ticket.opened")
    outside.clock.forward(hours=2)
    outside_events.forget(outside.ctx)
    call_back(outside, request, "ticket.opened")


def test_a_move_that_cannot_be_made_any_more_is_declined_and_says_why(office: Office) -> None:
    one = office.consumers[0]
    office.change_product(route=Route(otherwise="outside"))
    wanted = asking.MoveAsked(kind="change plan", plan_id=office.plans["Skiff"], purpose="We fetch less in winter.")
    asked = asking.ask_to_move(office.acting(one), one.subscription, wanted)
    assert asked is not None and asked.state == "passed to outside"
    asking.ask_to_move(office.acting(one), one.subscription, asking.MoveAsked(kind="end"))
    call_back(office, asked.id, "ticket.decided", decision="granted", note="Fine.")
    seen = request_in_view.one(office.manager, asked.id).request
    assert seen.state == "declined" and seen.note.startswith("Fine. It cannot be made any more")
    kinds = [m.kind for m in request_in_view.one(office.manager, asked.id).messages]
    assert kinds.count("declined") == 1 and "granted" not in kinds
