"""What a worker does for each kind of job, and when it does it again."""

from __future__ import annotations

import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from sqlalchemy import select

from calm_tariff.formats.journal import line
from calm_tariff.services.admit import subscriptions
from calm_tariff.services.admit.desk import deciding, queue
from calm_tariff.services.base import jobs, mailing
from calm_tariff.services.compose.apis import sunsets, versions
from calm_tariff.services.serve import shipping
from calm_tariff.settings import Settings
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from calm_tariff.worker import handlers as module
from calm_tariff.worker.handlers import ASK_BACK_ENDS, TRIES, Handler, handlers
from calm_tariff.worker.loop import Loop
from tests.office import START, Office, terms
from tests.ports import free_port

TRIAL = {**terms(), "trial": {"days": 14, "units": "20", "meter": "forecast_calls", "then": "charge"}}


def of(office: Office, **settings: Any) -> dict[str, Handler]:
    return {handler.kind: handler for handler in handlers(office.ctx, Settings(**settings))}


def waiting(office: Office, kind: str) -> list[Job]:
    with office.ctx.transaction() as session:
        return list(session.scalars(select(Job).where(Job.kind == kind).order_by(Job.id)))


def shipped(office: Office, calls: list[dict[str, Any]]) -> None:
    """Calls that came to the database from a gateway's journal."""
    with tempfile.TemporaryDirectory() as folder:
        own = Path(folder) / "gateway-1"
        own.mkdir()
        (own / "000000000001.jsonl").write_bytes(b"".join(map(line, calls)))
        assert shipping.ship(office.ctx, Path(folder)).calls == len(calls)


def ended(office: Office) -> list[Stay]:
    """The trials that are over, by what their subscriptions are now."""
    with office.ctx.transaction() as session:
        query = select(Stay).join(Subscription, Subscription.id == Stay.subscription_id)
        return list(session.scalars(query.where(Stay.trial, Subscription.state == "active")))


def test_a_letter_is_sent_by_its_job_and_tried_for_a_day_and_a_half_where_nobody_answers(office: Office) -> None:
    got: list[str] = []

    class Kept:
        async def handle_DATA(self, server, session, envelope) -> str:  # noqa: N802
            got.extend(envelope.rcpt_tos)
            return "250 OK"

    office.ask("Anglers", "Ketch")
    deciding.decide(office.reviewer, office.ask("Divers", "Ketch")[2], "declined", "No.")
    office.clock.forward(minutes=1)  # until then it can be undone, and no letter goes out
    with office.ctx.transaction() as session:
        letters = {mail.id: mail.recipient for mail in session.scalars(select(Mail).where(Mail.sent_at.is_(None)))}
    assert {job.arguments["letter"] for job in waiting(office, mailing.SEND)} == set(letters) != set()
    away = of(office, mail_port=free_port())[mailing.SEND]
    with pytest.raises(OSError):
        away.do({"letter": next(iter(letters))})
    server = Controller(Kept(), hostname="127.0.0.1", port=free_port())
    server.start()
    try:
        loop = Loop(office.ctx, [of(office, mail_port=server.port)[mailing.SEND]])
        while job := loop.take():
            loop.do(job)
    finally:
        server.stop()
    assert sorted(got) == sorted(letters.values()) and waiting(office, mailing.SEND) == []
    assert away.tries == TRIES == 40 and away.at_once > 1


def test_a_trial_asks_for_its_own_end_at_its_moment_and_sooner_when_its_units_may_be_used(office: Office) -> None:
    office.draft("Ketch", TRIAL)
    office.publish("keep")
    by_days, by_units = office.admit("Anglers", "Ketch"), office.admit("Divers", "Ketch")
    first, second = waiting(office, subscriptions.END_TRIAL)
    ends = datetime(2026, 9, 23, 23, tzinfo=UTC)
    assert [(job.arguments["subscription"], job.run_at) for job in (first, second)] == [
        (by_days.subscription, ends),
        (by_units.subscription, ends),
    ]
    loop = Loop(office.ctx, [of(office)[subscriptions.END_TRIAL]])
    assert loop.take() is None
    with office.ctx.transaction() as session:
        by_units.stay = session.scalars(select(Stay.id).where(Stay.subscription_id == by_units.subscription)).first()
    for came in (range(19), range(19, 20)):  # of twenty units
        shipped(office, [office.call(by_units, START + timedelta(minutes=n), n) for n in came])
        office.clock.now = START + timedelta(days=1, minutes=came.start)
        due = loop.take()
        assert due is not None and due.arguments == {"subscription": by_units.subscription}
        loop.do(due)
        assert loop.take() is None
    assert [s.subscription_id for s in ended(office)] == [by_units.subscription]
    office.clock.now = ends
    due = loop.take()
    assert due is not None
    loop.do(due)
    assert {s.subscription_id for s in ended(office)} == {by_units.subscription, by_days.subscription}
    assert waiting(office, subscriptions.END_TRIAL) == []


def test_a_version_asks_for_its_own_end_and_is_gone_then(office: Office) -> None:
    last = (office.ctx.now + timedelta(days=30)).date()
    sunsets.set_state(office.manager, office.api, "sunset", last)
    [job] = waiting(office, sunsets.END_VERSION)
    assert (job.arguments, job.about) == ({"version": office.api}, "Tides v1")
    assert job.run_at == versions.one(office.manager, office.api).sunset_at
    loop = Loop(office.ctx, [of(office)[sunsets.END_VERSION]])
    assert loop.take() is None
    office.clock.now = job.run_at
    due = loop.take()
    assert due is not None
    loop.do(due)
    assert versions.one(office.manager, office.api).state == "gone" and waiting(office, sunsets.END_VERSION) == []


def test_what_is_done_again_and_again_is_never_given_up(office: Office) -> None:
    known = of(office)
    again = {kind: handler.every for kind, handler in known.items() if handler.every}
    assert again[ASK_BACK_ENDS] == timedelta(seconds=15) and len(again) >= 7
    assert {handler.tries for handler in known.values() if handler.every} == {None}
    for kind, handler in known.items():
        if handler.every and kind != ASK_BACK_ENDS:
            assert handler.do({}) is None  # each by itself, on a real database


def test_a_ticket_is_asked_about_less_often_the_longer_it_waits(office: Office, monkeypatch) -> None:
    assert deciding.ASK_DESK not in of(office)  # there is no desk
    desk = {"ticket_desk": "http://desk.example", "ticket_desk_secret": "x" * 32}
    _, _, request = office.ask("Anglers", "Ketch")
    asked: list[int] = []
    monkeypatch.setattr(module, "ask_ticket_desk", lambda ctx, address, secret, which: asked.append(which) or False)
    seen = queue.desk(office.reviewer, PageQuery()).rows[0]
    monkeypatch.setattr(module.outside_decisions, "passed", lambda ctx, which: seen)
    ask = of(office, **desk)[deciding.ASK_DESK]
    waits = []
    for hours in (0, 1, 100):
        office.clock.now = seen.created_at + timedelta(hours=hours)
        again = ask.do({"request": request})
        assert again is not None
        waits.append((again - office.ctx.now).total_seconds())
    assert waits == [1, 60, 60] and asked == [request] * 3
    monkeypatch.setattr(module, "ask_ticket_desk", lambda *_: True)
    assert ask.do({"request": request}) is None and ask.tries is None


def test_a_job_that_is_done_twice_does_nothing_the_second_time(office: Office) -> None:
    with office.ctx.transaction() as session:
        jobs.write(session, office.ctx, sunsets.END_VERSION, "Tides v1", {"version": office.api})
    for kind, arguments in (
        (sunsets.END_VERSION, {"version": office.api}),
        (subscriptions.END_TRIAL, {"subscription": 1}),
    ):
        assert of(office)[kind].do(arguments) is None
    assert versions.one(office.manager, office.api).state == "live"
