"""Receipts: every rung of a recorded call, what would have let a refused one in, and what a consumer does not see."""

from dataclasses import replace
from datetime import timedelta
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Limit, Pace
from calm_tariff.core.periods import instant_of, zone
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.journal import rungs
from calm_tariff.formats.values import read
from calm_tariff.services.admit import credentials
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.services.serve import history, receipts
from calm_tariff.services.serve.receipts import Receipt
from tests.office import START, Consumer, Office, terms

AT = instant_of(START)


def decided(office: Office, one: Consumer, limits, above: dict[str, str], calls: int, **said: Any) -> dict[str, Any]:
    """The record of the last of so many calls at once, decided by core under these limits."""
    stack, counts, clock = Stack(limits, zone("Europe/Lisbon"), AT), {}, Clock()
    for _ in range(calls):
        asked = Call(
            at_us=AT,
            key=str(one.key),
            application=str(one.application),
            consumer="c",
            subscription=str(one.subscription),
            operation="o",
            units=1,
            values=said.get("values"),
        )
        decision = stack.decide(asked, counts, clock)
    refused = decision.verdict == "refused"
    return office.call(
        one,
        START,
        calls,
        verdict=decision.verdict,
        refused_by=decision.by,
        wait_us=decision.wait_us,
        retry_after_us=decision.retry_after_us,
        checks=rungs(decision, above),
        reserved=0 if refused else 1,
        units={} if refused else {str(office.meter): "1"},
        status=429 if refused else 200,
        decide_us=85,
        back_end_us=0 if refused else 700,
        told={"retry-after": "1"} if refused else {},
        carried=said.get("values") or {},
        remarks=["its counts were away, and local ones were used"],
    )


def receipt(office: Office, record: dict[str, Any]) -> Receipt:
    history.take_in(office.ctx, [record])
    return receipts.receipt(office.manager, record["call_id"])


def limits(raw: dict[str, Any] | None = None) -> tuple[Limit, ...]:
    return read(PlanTerms, raw or terms()).limits


def test_a_served_call_opens_to_every_rung_with_its_counts(office: Office) -> None:
    one = office.consumers[0]
    found = receipt(office, decided(office, one, limits(), {}, 3))
    assert found.summary == "Every limit had room, and the back end was asked."
    assert [(r.state, r.kind) for r in found.rungs] == [
        ("passed", kind) for kind in ("credential", "access", "rate", "quota", "back end", "meter")
    ]
    credential, access, rate, quota, back_end, meter = found.rungs
    assert credential.title.endswith("… of Ferries app, Ferries") and credential.link.startswith("/admit/consumers/")
    assert access.title == "Subscription to Harbour Data · Ketch, revision 1"
    assert access.link == f"/compose/revisions/{one.revision}"
    assert (rate.title, rate.note) == (
        "10 calls a second, up to 20 at once, for each key",
        "18 of 20 left before, 17 after",
    )
    assert (rate.before, rate.used, rate.allowed) == (2, 3, 20)
    assert (quota.note, quota.before, quota.used, quota.allowed) == ("2 used before, 3 after", 2, 3, 100)
    assert back_end.title == "Tides v1 answered 200" and back_end.note == "0.7 ms; 0 bytes in, 100 bytes out"
    assert meter.title == "1 counted on Forecast calls" and meter.link == f"/compose/meters/{office.meter}"
    assert found.took == "0.9 ms in all: deciding 85 µs, back end 0.7 ms; test"
    assert found.remarks and found.told == ["200"] and found.advice == []


def test_a_refused_call_says_when_and_what_would_have_let_it_in(office: Office) -> None:
    one = office.consumers[0]
    wider = plans.add(office.manager, office.product, "Schooner").plans[-1]
    tariff_sheet.save_draft(office.manager, wider.id, wider.edition, terms(calls=10, burst=40))
    office.publish("keep")
    found = receipt(office, decided(office, one, limits(), {}, 21))
    assert found.summary == "Rate was reached. The call came 100.0 ms too soon."
    rate, quota, end = found.rungs[2:]
    assert (rate.state, rate.note) == ("refused", "0 of 20 left; the next one 100.0 ms later, at 13:00:00.100")
    assert (quota.state, quota.note) == ("passed", "20 used, not counted")
    assert (end.title, end.note) == ("Back end not asked", "no unit counted, nothing charged")
    assert found.advice == [
        "At 13:00:00.100 it would have been let in.",
        "With Rate at 21 at once it would have been let in at once.",
        "Schooner would have let it in.",
    ]
    # A draft of the plan itself that would have, too, is for the provider's eyes.
    office.draft("Ketch", terms(burst=30))
    record = decided(office, one, limits(), {}, 21)
    assert receipts.receipt(office.manager, record["call_id"]).advice[-1] == (
        "Ketch as drafted and Schooner would have let it in."
    )
    assert receipts.own_receipt(office.acting(one), record["call_id"]).advice[-1] == "Schooner would have let it in."


def test_limits_above_plans_and_of_one_subscription_are_named_as_such(office: Office) -> None:
    one = office.consumers[0]
    rate, quota = limits()
    house = read(
        Pace,
        {
            "kind": "pace",
            "name": "every API: Pace",
            "counted_per": "everyone",
            "calls": 10,
            "per_seconds": 1,
            "max_wait_ms": 500,
        },
    )
    own = read(type(rate), {**terms()["limits"][0], "counted_per": "header:X-Station", "burst": 2})
    above = {house.name: "provider", own.name: "subscription"}
    held = receipt(office, decided(office, one, (house, own, quota), above, 2, values={"header:X-Station": "lm-01"}))
    pace, mine = held.rungs[2:4]
    assert held.summary == "It came 100.0 ms too soon for the pace, was held so long, and then served."
    assert (pace.state, pace.note) == ("held", "held for 100.0 ms")
    assert pace.title.startswith("every API: Pace, 10 a second evenly spaced")
    assert mine.title.startswith("For this subscription alone: 10 calls a second, up to 2 at once")
    assert mine.note.endswith("counted for lm-01")
    wide = replace(own, burst=20)
    refused = receipt(office, decided(office, one, (house, wide, quota), above, 7, values=None))
    assert refused.summary.startswith("every API: Pace was reached")
    assert "it carried no such value, and was counted for its key" in refused.rungs[3].note
    assert not any("would have let it in." in line for line in refused.advice)  # no plan changes what stands above
    assert "With every API: Pace at a wait of up to 600 ms it would have been let in at once." in refused.advice


@pytest.mark.parametrize(
    ("by", "credential", "status", "title", "rungs_"),
    [
        ("credential", "none", 401, "No valid credential", ["none was sent", "nothing else was checked"]),
        (
            "credential",
            "key",
            401,
            "No valid credential",
            ["it is unknown, revoked, expired or malformed", "nothing else was checked"],
        ),
        ("route", "key", 404, "No such operation", ["nothing else was checked"]),
    ],
)
def test_what_got_no_further_than_the_door_says_why(office: Office, by, credential, status, title, rungs_) -> None:
    nobody = dict.fromkeys(("revision_id", "stay_id", "subscription_id", "key_id", "product_id"))
    if by == "credential":
        nobody |= {"application_id": None, "consumer_id": None}
    record = office.call(
        office.consumers[0],
        START,
        5,
        verdict="refused",
        refused_by=by,
        credential=credential,
        status=status,
        units={},
        **nobody,
    )
    found = receipt(office, record)
    assert found.summary == f"{title}." and found.rungs[-1].title == title
    assert [r.note for r in found.rungs][-len(rungs_) :] == rungs_


@pytest.mark.parametrize("by", ["access", "suspension", "payment", "pause", "body", "back end", "counters"])
def test_what_was_refused_before_any_limit_touched_none(office: Office, by: str) -> None:
    record = office.call(office.consumers[0], START, 5, verdict="refused", refused_by=by, status=403, units={})
    found = receipt(office, record)
    assert found.rungs[-1].note == "no limit was touched, nothing counted"
    assert found.summary == f"{found.rungs[-1].title}." and found.advice == []


def test_a_consumer_sees_its_own_receipts_without_internals(office: Office) -> None:
    one, other = office.consumers
    record = decided(office, one, limits(), {}, 1)
    history.take_in(office.ctx, [record])
    whole = receipts.receipt(office.reviewer, record["call_id"])
    mine = receipts.own_receipt(office.acting(one), record["call_id"])
    assert [r.title for r in mine.rungs] == [r.title for r in whole.rungs]
    assert all(r.link is None for r in mine.rungs) and any(r.link for r in whole.rungs)
    assert mine.remarks == [] and mine.took == "0.9 ms in all"
    with pytest.raises(NotFound, match="no call of yours"):
        receipts.own_receipt(office.acting(other), record["call_id"])
    with pytest.raises(NotFound, match="takes a moment"):
        receipts.receipt(office.manager, "01NOSUCHCALL")
    with pytest.raises(NotSignedIn):
        receipts.receipt(office.acting(one), record["call_id"])
    # The credential is told as it is now.
    credentials.revoke_key(office.acting(one), one.key)
    assert "now revoked" in receipts.receipt(office.manager, record["call_id"]).rungs[0].note


def test_a_call_no_meter_counts_and_a_back_end_that_fails(office: Office) -> None:
    record = decided(office, office.consumers[0], limits(), {}, 1) | {"units": {}, "status": 503}
    found = receipt(office, record)
    assert [(r.state, r.title) for r in found.rungs[-2:]] == [
        ("refused", "Tides v1 answered 503"),
        ("end", "No meter counted it"),
    ]
    megabytes = {**record, "call_id": record["call_id"][:-1] + "Z", "units": {str(office.meter): "12.345678"}}
    assert receipt(office, megabytes).rungs[-1].title == "12.345678 counted on Forecast calls"
    assert Decimal("12.345678") == Decimal(megabytes["units"][str(office.meter)])


def test_an_allowance_gone_for_the_month_says_from_which_day_on(office: Office) -> None:
    one = office.consumers[0]
    found = receipt(office, decided(office, one, limits(terms(calls=500, burst=500, units=4)), {}, 5))
    assert found.summary.startswith("Forecast calls was reached. The call came 491 hours too soon.")
    assert found.advice[:2] == [
        "From 1 October, 00:00 on it would have been let in.",
        "With Forecast calls at 5 a month it would have been let in at once.",
    ]
    assert START + timedelta(microseconds=found.call.took_us) > START
