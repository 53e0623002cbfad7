"""Requests as the provider's people see them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from calm_tariff.core.events import Thing
from calm_tariff.core.periods import instant_of, moment_of
from calm_tariff.core.routes import Agreed, Seat, Way, still_needed
from calm_tariff.core.sentences import expected_in_words, seats_in_words, way_in_words
from calm_tariff.core.targets import later
from calm_tariff.formats.values import read
from calm_tariff.services.admit import paying
from calm_tariff.services.admit.desk import expectations
from calm_tariff.store.admit.requests import AccessRequest, RequestAgreement


@dataclass(frozen=True, slots=True)
class AgreementView:
    """Somebody has agreed, as what (core.routes.Seat), with a note."""

    name: str
    seat: str
    note: str
    at: datetime


@dataclass(frozen=True, slots=True)
class RequestView:
    """A request for access. `terms_dated` is the version of the terms of use that was accepted. One that moves a
    subscription says from which plan, and when: `now` or `later` (core.moves). `pays` is how the consumer pays, in
    words; "" where it has not said so.

    `step` is how it is decided, `way` says so in words, and `needs` whose agreement is still needed; with `last`, the
    next one is enough. `weight` is what a
    month of it was expected to be charged, before tax. `due_at` is by when it is to be answered: while it is asked
    back, later by as long as that takes. Until `undo_until` its decision can be undone; nobody has been told of it yet.
    """

    id: int
    edition: int
    consumer_id: int
    consumer: str
    application: str
    asked_by: str
    email: str
    product: str
    plan_id: int
    plan: str
    purpose: str
    terms_dated: datetime
    state: str
    created_at: datetime
    due_at: datetime | None
    weight: Decimal
    assigned_id: int | None
    assigned_to: str | None
    decided_at: datetime | None
    decided_by: str | None
    reason: str
    note: str
    undo_until: datetime | None
    step: str
    way: str
    needs: str
    last: bool
    agreed: list[AgreementView]
    ticket: str | None
    ticket_state: str
    moves_from: str | None
    moves_when: str | None
    expected: list[str]
    pays: str


def way_of(request: AccessRequest) -> Way:
    """How a stored request is decided."""
    return read(Way, request.way)


def agreed_by(request: AccessRequest) -> list[Agreed]:
    """Who has agreed to it, as the rules take it."""
    return [Agreed(each.identity, seat_of(each)) for each in request.agreed]


def seat_of(agreement: RequestAgreement) -> Seat:
    """As what somebody agreed."""
    seat: Seat = agreement.seat  # type: ignore[assignment]
    return seat


def needed(request: AccessRequest) -> tuple[Seat, ...]:
    """Whose agreement a request that waits here still needs."""
    return still_needed(way_of(request), agreed_by(request))


def subject(request: AccessRequest) -> Thing:
    """What the record calls it."""
    plan, application = request.plan, request.application
    name = f"{application.name} of {application.consumer.name} for {plan.product.name} · {plan.name}"
    return Thing("request", request.id, name, application.consumer_id)


def due_at(request: AccessRequest, now: datetime) -> datetime | None:
    """By when a request is to be answered; what it is asked back for does not count."""
    if request.due_at is None or request.asked_back_at is None:
        return request.due_at
    return moment_of(later(instant_of(request.due_at), instant_of(request.asked_back_at), instant_of(now)))


def view(r: AccessRequest, now: datetime) -> RequestView:
    """A stored request as the provider's people see it at a moment."""
    way = way_of(r)
    return RequestView(
        id=r.id,
        edition=r.edition,
        consumer_id=r.application.consumer_id,
        consumer=r.application.consumer.name,
        application=r.application.name,
        asked_by=r.member.name,
        email=r.member.email,
        product=r.plan.product.name,
        plan_id=r.plan_id,
        plan=r.plan.name,
        purpose=r.purpose,
        terms_dated=r.terms_accepted,
        state=r.state,
        created_at=r.created_at,
        due_at=due_at(r, now),
        weight=r.weight,
        assigned_id=r.assigned_id,
        assigned_to=r.assigned.name if r.assigned else None,
        decided_at=r.decided_at,
        decided_by=r.decided_by,
        reason=r.reason,
        note=r.note,
        undo_until=r.undo_until if r.undo_until and r.undo_until > now else None,
        step=way.step,
        way=way_in_words(way),
        needs=seats_in_words(needed(r)),
        last=len(needed(r)) <= 1,
        agreed=[AgreementView(each.name, each.seat, each.note, each.at) for each in r.agreed],
        ticket=r.ticket,
        ticket_state=r.ticket_state,
        moves_from=r.moves.plan.name if r.moves else None,
        moves_when=r.moves_when,
        expected=[expected_in_words(each.name, each.units) for each in expectations.of(r)],
        pays=paying.said(r.application.consumer),
    )
