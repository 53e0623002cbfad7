"""Asking for a plan, and deciding on it: the desk."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.lifecycles import CALLING, REQUEST, UNDECIDED, move
from calm_tariff.core.moves import Kind as MoveKind
from calm_tariff.core.moves import When
from calm_tariff.core.payment import Payment
from calm_tariff.core.sentences import expected_in_words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import expectations, first_trials, moves, owned, paying, subscriptions
from calm_tariff.services.admit.expectations import NOTHING, Expected
from calm_tariff.services.admit.moves import Wanted
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.admit.terms_of_use import accept
from calm_tariff.services.base import auditing, jobs, stamps
from calm_tariff.services.base.context import ROLES, SYSTEM, Context
from calm_tariff.services.base.notices import Kind, Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.products import Plan, Product

ASK_DESK = "ask the ticket desk"
Decision = Literal["granted", "declined"]
SHORTEST_PURPOSE = 10


@dataclass(frozen=True, slots=True, kw_only=True)
class MoveAsked:
    """A move of a subscription as it was asked for (core.moves), why, and to which plan, where it is to another, with
    how that will be paid, should it not be known yet."""

    kind: MoveKind
    when: When = "now"
    plan_id: int | None = None
    purpose: str = ""
    payment: Payment | None = None


@dataclass(frozen=True, slots=True)
class RequestView:
    """A request for access. `terms_dated` is the version of the terms of use that was accepted. One that moves a
    subscription says from which plan, and when: `now` or `later` (core.moves). `pays` is how the consumer pays, in
    words; "" where it has not said so."""

    id: int
    consumer_id: int
    consumer: str
    application: str
    asked_by: str
    email: str
    product: str
    plan: str
    purpose: str
    terms_dated: datetime
    state: str
    created_at: datetime
    decided_at: datetime | None
    decided_by: str | None
    note: str
    access_route: str
    first_granted_by: str | None
    first_note: str
    ticket: str | None
    moves_from: str | None
    moves_when: str | None
    expected: list[str]
    pays: str


def ask(
    ctx: Context,
    application_id: int,
    plan_id: int,
    purpose: str,
    accepted: bool,
    *,
    expected: Mapping[str, Decimal] = NOTHING,
    payment: Payment | None = None,
) -> RequestView:
    """Ask for a plan for one's own application, with the units of a month that are expected by meter, and how it will
    be paid, where that matters and is not known yet. An open product grants at once.

    Raises `Invalid` or `Conflict`, naming the field; `NotFound` for another's application.
    """
    purpose = purpose.strip()
    if len(purpose) < SHORTEST_PURPOSE:
        raise Invalid("say in a sentence what the data is for", "purpose")
    if not accepted:
        raise Invalid("the terms of use must be accepted", "terms_accepted")
    with ctx.transaction() as session:
        owned.application(session, ctx, application_id)
        plan = plan_on_sale(session, ctx, plan_id)
        terms = read(PlanTerms, plan.revisions[-1].terms)
        first_trials.refuse_another(plan, terms, first_trials.had(session, ctx.actor.consumer_id, plan.product_id))
        paying.settled(session, ctx, plan, payment)
        # Whoever asks for the same application at the same moment waits, and is then refused.
        application = owned.application(session, ctx, application_id, lock=True)
        refuse_second(session, application.id, plan)
        volume = expectations.checked(session, plan.product, expected)
        made = submit(session, ctx, plan, application, purpose, expected=volume)
        accept(session, ctx, plan.product)
        if plan.product.access_route == "open":
            carry_out(session, ctx.acting(SYSTEM), made, "granted", "")
        return view(made)


def ask_to_move(ctx: Context, subscription_id: int, wanted: MoveAsked) -> RequestView | None:
    """Make a move of one's own subscription; or ask for it, where it is to another plan of a product whose requests are
    decided by somebody: then the request is returned.

    Raises `NotFound` for another's, `Conflict` for a move that cannot be made, `Invalid`, naming the field.
    """
    with ctx.transaction() as session:
        stamps.hold(session, ctx, stamps.SHIPPING)
        found = moves.own(session, ctx, subscription_id)
        ctx.actor.consumer_to("move subscriptions")
        if wanted.kind == "change plan":
            paying.settled(session, ctx, plan_to_move_to(session, ctx, found, wanted), wanted.payment)
        application = owned.application(session, ctx, found.application_id, lock=True)
        subscription = moves.own_to_move(session, ctx, subscription_id)
        moves.arrive(session, ctx, subscription)
        plan = None
        if wanted.kind == "change plan":
            plan = plan_to_move_to(session, ctx, subscription, wanted)
        move_wanted = Wanted(kind=wanted.kind, when=wanted.when, plan=plan)
        if plan is None or plan.id == subscription.plan_id or plan.product.access_route == "open":
            moves.make(session, ctx, subscription, move_wanted)
            return None
        moves.outcome(session, ctx, subscription, move_wanted)  # one that cannot be made is not asked for
        purpose = wanted.purpose.strip()
        if len(purpose) < SHORTEST_PURPOSE:
            raise Invalid("say in a sentence why, for whoever decides", "purpose")
        refuse_waiting(session, application.id, plan)
        moving = (subscription.id, wanted.when)
        return view(submit(session, ctx, plan, application, purpose, moving=moving))


def plan_to_move_to(session: Session, ctx: Context, subscription: Subscription, wanted: MoveAsked) -> Plan:
    """The plan that a move is to: one on sale for the consumer, or the one it is on, which may follow its trial. Raises
    `NotFound`."""
    if wanted.plan_id == subscription.plan_id:
        return subscription.plan
    return plan_on_sale(session, ctx, wanted.plan_id or 0)


def plan_on_sale(session: Session, ctx: Context, plan_id: int) -> Plan:
    """A plan that the signed-in consumer can have. Raises `NotFound`."""
    plan = session.get(Plan, plan_id)
    if plan is None or not storefront.may_have(session, ctx, plan):
        raise NotFound("there is no such plan on sale", str(plan_id))
    return plan


def submit(
    session: Session,
    ctx: Context,
    plan: Plan,
    application: Application,
    purpose: str,
    *,
    moving: tuple[int, When] | None = None,
    expected: Sequence[Expected] = (),
) -> AccessRequest:
    """Put a request on the desk, or before the outside system; `moving` is the subscription that moves, and when."""
    made = AccessRequest(
        plan=plan,
        application=application,
        member_id=ctx.actor.member_id,
        purpose=purpose,
        terms_accepted=plan.product.terms_dated,
        state="waiting",
        created_at=ctx.now,
        moves_id=moving[0] if moving else None,
        moves_when=moving[1] if moving else None,
        expected=[expectations.kept(each) for each in expected],
    )
    session.add(made)
    session.flush()
    session.refresh(made)
    auditing.note(session, ctx, "asked to move" if moving else "asked for access", subject(made), why=purpose)
    if plan.product.access_route == "outside":
        made.state = move(REQUEST, "the request", made.state, "passed to outside")
        jobs.write(session, ctx, ASK_DESK, subject(made)[2], {"request": made.id}, subject=str(made.id))
    return made


def take_back(ctx: Context, request_id: int) -> RequestView:
    """Take one's own request back. Raises `NotFound` or `Conflict`."""
    with ctx.transaction() as session:
        request = locked(session, AccessRequest, request_id)
        if request is None or request.application.consumer_id != ctx.actor.consumer_to("ask for plans"):
            raise NotFound("there is no such request", str(request_id))
        request.state = move(REQUEST, "the request", request.state, "taken back")
        request.decided_at, request.decided_by = ctx.now, ctx.actor.name
        auditing.note(session, ctx, "took a request back", subject(request))
        return view(request)


def decide(ctx: Context, request_id: int, decision: Decision, note: str) -> RequestView:
    """Grant or decline. A grant subscribes the application; either is told by mail.

    Where a product is reviewed twice, the first grant waits for a second one by somebody else.
    Raises `Conflict` where it has been decided already or the same person would grant twice, `Invalid`
    for a decline without a note.
    """
    ctx.actor.must_be("reviewer", "product manager")
    if decision == "declined" and not note.strip():
        raise Invalid("say why, so that the consumer can act on it", "note")
    with ctx.transaction() as session:
        request = held(session, ctx, request_id)
        if request is None:
            raise NotFound("there is no such request", str(request_id))
        if request.state == "passed to outside":
            raise Conflict("is decided in the outside system, not here", "the request")
        twice = request.plan.product.access_route == "reviewed twice"
        if decision == "granted" and twice and request.state == "waiting":
            if ctx.actor.token_id is not None:
                raise Conflict("two people decide here, and a service token is none", "the request")
            if request.first_granted_by is None:
                request.first_granted_by, request.first_note = ctx.actor.name, note.strip()
                request.first_granted_id = ctx.actor.identity
                auditing.note(session, ctx, "agreed to a request, as the first of two", subject(request), why=note)
                return view(request)
            if request.first_granted_id == ctx.actor.identity:
                raise Conflict("you have agreed already; a second person decides", "the request")
        carry_out(session, ctx, request, decision, note.strip())
        return view(request)


def held(session: Session, ctx: Context, request_id: int) -> AccessRequest | None:
    """A request, held; with what its grant needs: where it moves a subscription, no call is shipped meanwhile."""
    if session.scalar(select(AccessRequest.moves_id).where(AccessRequest.id == request_id)) is not None:
        stamps.hold(session, ctx, stamps.SHIPPING)
    return locked(session, AccessRequest, request_id)


def moved_by(ctx: Context, request_id: int) -> int | None:
    """The subscription that a request moves, where it moves one."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        return session.scalar(select(AccessRequest.moves_id).where(AccessRequest.id == request_id))


def desk(ctx: Context, wanted: PageQuery, decided: bool = False) -> Page[RequestView]:
    """A page of the requests: undecided ones, those an outside system decides among them, or decided ones.

    Orders: since, consumer, plan, application, outcome. With none named, what has waited longest comes first, and
    what was asked last among the decided.
    """
    ctx.actor.must_be(*ROLES)
    undecided = AccessRequest.state.in_(UNDECIDED)
    query = (
        select(AccessRequest)
        .join(Application, Application.id == AccessRequest.application_id)
        .join(Consumer, Consumer.id == Application.consumer_id)
        .join(Plan, Plan.id == AccessRequest.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .where(~undecided if decided else undecided)
    )
    if wanted.words:
        query = query.where(func.lower(Consumer.name).contains(wanted.words.lower(), autoescape=True))
    orders = {
        "since": AccessRequest.created_at,
        "consumer": Consumer.name,
        "application": Application.name,
        "plan": func.concat(Product.name, " ", Plan.name),
        "outcome": AccessRequest.state,
    }
    with ctx.transaction() as session:
        asked = replace(wanted, down=decided != wanted.down) if not wanted.sort else wanted
        found = page(session, query, AccessRequest.id, orders, asked)
        return replace(found, rows=[view(r) for r in found.rows])


def waiting(session: Session) -> int:
    """How many requests wait on the desk."""
    return session.scalar(select(func.count()).where(AccessRequest.state == "waiting")) or 0


def oldest_waiting(session: Session) -> RequestView | None:
    """The request that has waited longest."""
    query = select(AccessRequest).where(AccessRequest.state == "waiting").order_by(AccessRequest.created_at).limit(1)
    found = session.scalar(query)
    return view(found) if found else None


def refuse_second(session: Session, application_id: int, plan: Plan) -> None:
    """One application holds one plan of a product at a time."""
    same_product = select(Plan.id).where(Plan.product_id == plan.product_id)
    held = session.scalar(
        select(Subscription).where(
            Subscription.application_id == application_id,
            Subscription.state.in_((*CALLING, "paused")),
            Subscription.plan_id.in_(same_product),
        )
    )
    if held:
        raise Conflict(f"the application is already on {plan.product.name} · {held.plan.name}", "application")
    refuse_waiting(session, application_id, plan)


def refuse_waiting(session: Session, application_id: int, plan: Plan) -> None:
    """One application asks for one plan of a product at a time."""
    same_product = select(Plan.id).where(Plan.product_id == plan.product_id)
    asked = session.scalar(
        select(AccessRequest).where(
            AccessRequest.application_id == application_id,
            AccessRequest.state.in_(UNDECIDED),
            AccessRequest.plan_id.in_(same_product),
        )
    )
    if asked:
        raise Conflict(f"a request for {plan.product.name} · {asked.plan.name} is already waiting", "application")


def carry_out(session: Session, ctx: Context, request: AccessRequest, decision: Decision, note: str) -> None:
    before = request.state
    request.state = move(REQUEST, "the request", request.state, decision)
    request.decided_at, request.decided_by, request.note = ctx.now, ctx.actor.name, note
    plan, application = request.plan, request.application
    offer = f"{plan.product.name} · {plan.name}"
    moving = locked(session, Subscription, request.moves_id) if request.moves_id else None
    if decision == "granted" and moving is not None:
        moves.arrive(session, ctx, moving)
        when: When = "later" if request.moves_when == "later" else "now"
        moves.make(session, ctx, moving, Wanted(kind="change plan", when=when, plan=plan))
    elif decision == "granted":
        subscriptions.begin(session, ctx, application.id, plan, request.id)
        stamps.touch(session, ctx)
    fields = {"offer": offer, "application": application.name, "note": note}
    kind: Kind = "request granted" if decision == "granted" else "request declined"
    notice = Notice(kind=kind, fields=fields, page=f"/applications/{application.id}")
    notify(session, ctx, members(_told_of(session, request)), notice)
    auditing.note(
        session,
        ctx,
        f"{decision} a request",
        subject(request),
        before={"state": before},
        after={"state": decision},
        why=note,
    )


def _told_of(session: Session, request: AccessRequest) -> list[Member]:
    """Who asked; where they have left, those who can ask in their place."""
    if request.member.left_at is None:
        return [request.member]
    return subscribers.members_who_may(session, request.application.consumer_id, "ask for plans")


def subject(request: AccessRequest) -> tuple[str, int, str]:
    plan, application = request.plan, request.application
    name = f"{application.name} of {application.consumer.name} for {plan.product.name} · {plan.name}"
    return ("request", request.id, name)


def view(r: AccessRequest) -> RequestView:
    return RequestView(
        id=r.id,
        consumer_id=r.application.consumer_id,
        consumer=r.application.consumer.name,
        application=r.application.name,
        asked_by=r.member.name,
        email=r.member.email,
        product=r.plan.product.name,
        plan=r.plan.name,
        purpose=r.purpose,
        terms_dated=r.terms_accepted,
        state=r.state,
        created_at=r.created_at,
        decided_at=r.decided_at,
        decided_by=r.decided_by,
        note=r.note,
        access_route=r.plan.product.access_route,
        first_granted_by=r.first_granted_by,
        first_note=r.first_note,
        ticket=r.ticket,
        moves_from=r.moves.plan.name if r.moves else None,
        moves_when=r.moves_when,
        expected=[expected_in_words(each.name, each.units) for each in expectations.of(r)],
        pays=paying.said(r.application.consumer),
    )
