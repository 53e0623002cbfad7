"""A subscription's history: both sides' events in one order, from the first question to the last invoice."""

from __future__ import annotations

from datetime import date

import pytest

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.services.admit import credentials, overrides
from calm_tariff.services.admit.desk import asking, conversation, deciding
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.observe import subscription_history
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.admit.subscriptions import Subscription
from tests.office import Office, terms
from tests.services.queries import asked as queries


def test_everything_of_a_subscription_stands_in_one_order_and_nothing_of_another(office: Office) -> None:
    member, application, request = office.ask("Anglers", "Ketch")
    own = office.ctx.acting(member)
    office.clock.forward(minutes=5)
    conversation.ask_back(office.reviewer, request, "How often?")
    conversation.say(office.finance, request, "They pay late.", inside=True)
    office.clock.forward(minutes=5)
    conversation.answer(own, request, "Hourly.")
    deciding.decide(office.reviewer, request, "granted", "Welcome.")
    office.clock.forward(minutes=5)
    made = credentials.make_key(own, application, "boat")
    with office.ctx.transaction() as session:
        of = session.query(Subscription).filter_by(request_id=request).one().id
    slower = {**terms()["limits"][0], "calls": 1}
    overrides.make(office.manager, of, OverrideTyped(slower, "They asked for it.", date(2026, 10, 1)))
    office.clock.forward(days=1)
    moved = asking.MoveAsked(kind="change plan", plan_id=office.plans["Skiff"], purpose="We fetch less in winter.")
    second = asking.ask_to_move(own, of, moved)
    assert second is not None
    deciding.decide(office.reviewer, second.id, "granted")
    office.clock.forward(days=40)
    charging.run(office.finance, date(2026, 9, 1))
    history = subscription_history.one(office.finance, of)
    assert (history.consumer, history.plan, history.state) == ("Anglers", "Skiff", "active")
    assert [e.at for e in history.events] == sorted(e.at for e in history.events)
    told = [(e.kind, e.what, e.text) for e in history.events if e.kind in ("request", "key", "invoice")]
    assert [(kind, what) for kind, what, _ in told] == [
        ("request", "asked"),
        ("request", "asked back"),
        ("request", "inside"),
        ("request", "answered"),
        ("request", "granted"),
        ("key", "made a key"),
        ("request", "asked"),
        ("request", "granted"),
        ("invoice", "draft"),
    ]
    shown = " | ".join(f"{e.what} {e.text}" for e in history.events)
    assert made.secret not in shown and made.key.prefix in shown  # the beginning of a key, and never more
    for words in (
        "Hourly.",
        "overrode a limit",
        "becomes Skiff",
        "to anglers@consumer.example",
        "September 2026: €1.33 of it",
    ):
        assert words in shown
    assert next(e for e in history.events if e.text == "They pay late.").inside
    others = subscription_history.one(office.finance, office.consumers[0].subscription)
    assert "anglers" not in str(others).lower()


def test_it_is_read_with_as_many_queries_however_long_it_is(office: Office) -> None:
    one = office.consumers[0]
    with queries(office.ctx) as short:
        subscription_history.one(office.finance, one.subscription)
    for n in range(5):
        credentials.make_key(office.acting(one), one.application, f"key {n}")
    with queries(office.ctx) as long:
        subscription_history.one(office.finance, one.subscription)
    assert len(long) == len(short)


def test_a_consumer_reads_nobodys_and_one_that_is_not_there_is_none(office: Office) -> None:
    with pytest.raises(NotFound):
        subscription_history.one(office.finance, 10**9)
    with pytest.raises(NotSignedIn):
        subscription_history.one(office.acting(office.consumers[0]), office.consumers[0].subscription)
