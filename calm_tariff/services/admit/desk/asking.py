"""Asking for a plan, and taking that back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.lifecycles import CALLING, REQUEST, UNDECIDED, move
from calm_tariff.core.moves import Kind as MoveKind
from calm_tariff.core.moves import When
from calm_tariff.core.payment import Payment
from calm_tariff.core.sentences import way_in_words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read, write
from calm_tariff.services.admit import first_trials, moves, owned, paying
from calm_tariff.services.admit.desk import expectations, routing
from calm_tariff.services.admit.desk.conversation import keep, tell_consumer
from calm_tariff.services.admit.desk.deciding import carry_out, pass_on
from calm_tariff.services.admit.desk.expectations import NOTHING, Expected
from calm_tariff.services.admit.desk.views import RequestView, subject, view, way_of
from calm_tariff.services.admit.moves import Wanted
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.admit.terms_of_use import accept
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import SYSTEM, Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan

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
        if way_of(made).at_once:
            carry_out(session, ctx.acting(SYSTEM), made, "granted", "")
        return view(made, ctx.now)


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
        at_once = plan is None or plan.id == subscription.plan_id
        if plan is None or at_once or routing.routed(session, ctx, plan, application).way.at_once:
            moves.make(session, ctx, subscription, move_wanted)
            return None
        moves.outcome(session, ctx, subscription, move_wanted)  # one that cannot be made is not asked for
        purpose = wanted.purpose.strip()
        if len(purpose) < SHORTEST_PURPOSE:
            raise Invalid("say in a sentence why, for whoever decides", "purpose")
        refuse_waiting(session, application.id, plan)
        moving = (subscription.id, wanted.when)
        return view(submit(session, ctx, plan, application, purpose, moving=moving), ctx.now)


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
    routed = routing.routed(session, ctx, plan, application, expected)
    made = AccessRequest(
        plan=plan,
        application=application,
        member_id=ctx.actor.member_id,
        purpose=purpose,
        terms_accepted=plan.product.terms_dated,
        state="waiting",
        way=write(routed.way),
        weight=routed.weight,
        due_at=routed.due_at,
        created_at=ctx.now,
        moves_id=moving[0] if moving else None,
        moves_when=moving[1] if moving else None,
        expected=[expectations.kept(each) for each in expected],
    )
    session.add(made)
    session.flush()
    session.refresh(made)
    auditing.note(session, ctx, "asked to move" if moving else "asked for access", subject(made), why=purpose)
    keep(session, ctx, made, "asked", purpose)
    if routed.way.at_once:
        return made
    if not routed.way.seats:
        pass_on(session, ctx, made)
    tell_consumer(session, ctx, made, "request received", {"said": way_in_words(routed.way)})
    return made


def take_back(ctx: Context, request_id: int) -> RequestView:
    """Take one's own request back. Raises `NotFound` or `Conflict`."""
    with ctx.transaction() as session:
        request = locked(session, AccessRequest, request_id)
        if request is None or request.application.consumer_id != ctx.actor.consumer_to("ask for plans"):
            raise NotFound("there is no such request", str(request_id))
        end_by_asker(session, ctx, request)
        return view(request, ctx.now)


def end_by_asker(session: Session, ctx: Context, request: AccessRequest) -> None:
    """Take a request back, which whoever calls this holds."""
    request.state = move(REQUEST, "the request", request.state, "taken back")
    request.decided_at, request.decided_by, request.asked_back_at = ctx.now, ctx.actor.name, None
    request.edition += 1
    keep(session, ctx, request, "taken back")
    auditing.note(session, ctx, "took a request back", subject(request))


def end_those_without_a_subscription(ctx: Context) -> int:
    """Take back what asks to move a subscription that has ended meanwhile; how many there were."""
    moving = select(AccessRequest.id).join(Subscription, Subscription.id == AccessRequest.moves_id)
    moving = moving.where(AccessRequest.state.in_(UNDECIDED), Subscription.state == "ended")
    with ctx.transaction() as session:
        found = session.scalars(moving.order_by(AccessRequest.id)).all()
    for request_id in found:
        with ctx.transaction() as session:
            request = locked(session, AccessRequest, request_id)
            if request is not None and request.state in UNDECIDED:
                end_by_asker(session, ctx.acting(SYSTEM), request)
    return len(found)


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
