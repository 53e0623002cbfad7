"""How the demo's consumers came: each signed up, asked for plans, and was answered."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from calm_tariff.core.payment import Payment
from calm_tariff.demo.office import DemoOffice
from calm_tariff.demo.scenario import DAYS, PASSWORD, DemoApplication, DemoConsumer
from calm_tariff.services.admit import applications, credentials, groups, letting_in, sign_up
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base.context import Actor
from calm_tariff.services.house.signing_in import sessions


def admit(office: DemoOffice, consumer: DemoConsumer, offers: dict[str, int]) -> dict[int, str]:
    """A consumer signs up, asks for plans, and is answered; returns the secrets of its keys by the key's id."""
    begin = min((a.from_day for a in consumer.applications), default=DAYS - 1)
    signing = replace(office.on(begin, "Rui", 0))
    typed = SignUpTyped(name=consumer.owner, organisation=consumer.name, password=PASSWORD)
    here = Actor(portal_id=serving.asked(signing, consumer.portal).id)
    token = sign_up.open_account(signing.acting(here), consumer.email, typed)
    member = sessions.who(signing, MEMBERS, token)
    if not member.let_in and not consumer.waits:
        letting_in.answer(signing, member.consumer_id or 0, "let in")
        member = sessions.who(signing, MEMBERS, token)
    sessions.sign_out(signing, token)
    if consumer.group:
        ctx = office.on(begin, "Rui", 0)
        group = next(g for g in groups.everything(ctx) if g.name == consumer.group)
        groups.set_members(ctx, group.id, [*group.consumer_ids, member.own_consumer])
    secrets: dict[int, str] = {}
    for application in consumer.applications:
        secrets |= _ask(office, member, offers, application, consumer)
    return secrets


def _ask(
    office: DemoOffice, member: Actor, offers: dict[str, int], application: DemoApplication, of: DemoConsumer
) -> dict[int, str]:
    """An application asks for its plan and, where that is granted, gets its keys."""
    own = office.on(application.from_day, "Rui", 1).acting(member)
    made = applications.register(own, application.name, application.purpose, contact=of.email)
    offer, expected = offers[application.offer], dict(application.expected)
    payment = Payment(method="transfer", order_number=of.order_number)
    request = asking.ask(own, made.id, offer, application.purpose, True, expected=expected, payment=payment)
    if application.outcome == "waiting":
        return {}
    if request.state == "waiting":
        decision: Any = application.outcome
        for who in ("Rui", "Ines") if request.step == "reviewed twice" else ("Rui",):
            deciding.decide(office.on(application.from_day, who, 2), request.id, decision, application.note)
    if application.outcome != "granted":
        return {}
    at = office.on(application.from_day, "Rui", 3).acting(member)
    labels = ("server", *(f"server {n}" for n in range(2, application.keys + 1)))
    keys = [credentials.make_key(at, made.id, label) for label in labels]
    return {new.key.id: new.secret for new in keys}
