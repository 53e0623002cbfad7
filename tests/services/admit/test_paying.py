"""How an organisation pays: asked for with the first plan that can cost something, changed by those who see money."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime

import pytest

from calm_tariff.core.errors import Invalid, NotAllowed
from calm_tariff.core.payment import Payment
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import applications, on_behalf, paying
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.admit.on_behalf import ConsumerTyped
from calm_tariff.services.admit.organisation import belonging
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.observe import consumers
from calm_tariff.services.settle.documents import invoices, issuing
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.accounts import letters
from tests.services.usages import usage

ORDER = Payment(method="transfer", order_number="PO 7")
WHY = "To look at the tides."


@pytest.fixture
def new(office: Office) -> Context:
    """The owner of an organisation that has said nothing of how it pays, where Skiff is free."""
    office.draft("Skiff", {"limits": [], "pricing": {"prices": [{"kind": "fee", "amount": "0"}]}})
    office.publish("keep")
    return office.ctx.acting(office.join("Terns", pays=False))


def how(ctx: Context) -> Payment | None:
    return belonging.organisation(ctx).payment


def test_a_plan_that_can_cost_something_is_not_to_be_had_before_it_is_said_how_it_is_paid(
    office: Office, new: Context
) -> None:
    application = applications.register(new, "Decks", "").id
    with pytest.raises(Invalid, match="invoices of Ketch will be paid: by transfer") as refused:
        asking.ask(new, application, office.plans["Ketch"], WHY, True)
    assert refused.value.where == "payment"
    assert how(new) is None
    assert applications.own(new)[0].plans == []

    asked = asking.ask(new, application, office.plans["Ketch"], WHY, True, payment=ORDER)

    assert how(new) == ORDER
    assert (asked.state, asked.pays) == ("waiting", "by transfer, order number PO 7")
    assert consumers.one(office.reviewer, asked.consumer_id).pays == "by transfer, order number PO 7"
    entry = next(e for e in auditing.entries(office.manager, PageQuery()).rows if e.action == "said how it pays")
    assert (entry.actor, entry.after) == ("Terns owner, Terns", {"payment": "by transfer, order number PO 7"})


def test_a_request_that_is_refused_keeps_nothing_of_how_it_would_have_been_paid(office: Office, new: Context) -> None:
    application = applications.register(new, "Decks", "").id
    asking.ask(new, application, office.plans["Skiff"], WHY, True)
    with pytest.raises(Exception, match="already waiting"):
        asking.ask(new, application, office.plans["Ketch"], WHY, True, payment=ORDER)
    assert how(new) is None


def test_a_free_plan_asks_for_nothing_and_what_is_known_is_not_asked_again(office: Office, new: Context) -> None:
    first, second = (applications.register(new, name, "").id for name in ("Decks", "Bridge"))
    asking.ask(new, first, office.plans["Skiff"], WHY, True, payment=ORDER)
    assert how(new) is None  # nothing is to be paid yet
    paying.change(new, ORDER)
    other = Payment(method="transfer", order_number="PO 8")
    asking.ask(new, second, office.plans["Ketch"], WHY, True, payment=other)
    assert how(new) == ORDER


def test_a_move_to_a_plan_that_costs_asks_for_it_too(office: Office, new: Context) -> None:
    office.change_product(route=Route(otherwise="open"))
    application = applications.register(new, "Decks", "").id
    asking.ask(new, application, office.plans["Skiff"], WHY, True)
    (held,) = applications.own(new)[0].plans
    assert held.subscription_id is not None
    wanted = MoveAsked(kind="change plan", plan_id=office.plans["Ketch"])
    with pytest.raises(Invalid, match="say how invoices of Ketch"):
        asking.ask_to_move(new, held.subscription_id, wanted)
    developer = new.acting(replace(new.actor, membership="developer"))
    with pytest.raises(NotAllowed):  # before anything is asked of them
        asking.ask_to_move(developer, held.subscription_id, wanted)
    assert [p.plan for p in applications.own(new)[0].plans] == ["Skiff"]

    asking.ask_to_move(new, held.subscription_id, replace(wanted, payment=ORDER))

    assert [p.plan for p in applications.own(new)[0].plans] == ["Ketch"]
    assert how(new) == ORDER


@pytest.mark.parametrize(("role", "may"), [("owner", True), ("billing", True), ("developer", False)])
def test_those_who_see_money_say_how_it_is_paid(office: Office, new: Context, role: str, may: bool) -> None:
    somebody = new.acting(replace(new.actor, membership=role))
    if may:
        paying.change(somebody, ORDER)
        assert how(somebody) == ORDER
    else:
        with pytest.raises(NotAllowed):
            paying.change(somebody, ORDER)
        assert how(somebody) is None


def test_an_invoice_carries_the_order_number_it_was_issued_with(office: Office) -> None:
    usage(office, 60)
    own = office.acting(office.consumers[0])
    paying.change(own, ORDER)
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, 9, tzinfo=UTC))
    charging.run(october, date(2026, 9, 1))
    with october.transaction() as session:
        (draft,) = invoices.of_consumer(session, own.actor.own_consumer, issued_only=False)
    assert invoices.one(october, draft.id).paid == "by transfer, order number PO 7"
    paying.change(own, replace(ORDER, order_number="PO 8"))
    issuing.issue(october, [draft.id])
    paying.change(own, replace(ORDER, order_number="PO 9"))

    assert invoices.own_one(own, draft.id).paid == "by transfer, order number PO 8"
    assert "to be paid by transfer, order number PO 8." in letters(office.ctx, "ferries@consumer.example")[-1].body


def test_a_back_end_says_how_it_will_be_paid_or_is_asked(office: Office) -> None:
    made = on_behalf.make_consumer(
        office.reviewer, ConsumerTyped(organisation="Tern Co", name="T", email="t@t.example")
    )
    application = on_behalf.make_application(office.reviewer, made.consumer_id, "Decks").id
    with pytest.raises(Invalid, match="say how invoices"):
        on_behalf.subscribe(office.reviewer, application, office.plans["Ketch"], WHY)
    granted = on_behalf.subscribe(office.reviewer, application, office.plans["Ketch"], WHY, payment=ORDER)
    assert (granted.state, granted.pays) == ("granted", "by transfer, order number PO 7")
