"""Asking for a plan, and deciding on it: the desk."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.lifecycles import CALLING, REQUEST, move
from calm_tariff.core.periods import DAY
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.markdown import html
from calm_tariff.formats.values import read
from calm_tariff.services import auditing, groups, mailing, stamps, storefront, subscriptions
from calm_tariff.services.applications import ApplicationView, of_consumer, owned
from calm_tariff.services.context import ROLES, SYSTEM, Context
from calm_tariff.services.sheet_cells import Column
from calm_tariff.services.sheet_rows import SheetRow, rows
from calm_tariff.services.tariff_sheet import vocabulary_of
from calm_tariff.store import usage_queries
from calm_tariff.store.admission import AccessRequest, Application, Subscription, TermsAccepted
from calm_tariff.store.catalogue import Plan, Product
from calm_tariff.store.paging import Page, Wanted, page
from calm_tariff.store.people import Consumer

Decision = Literal["granted", "declined"]


@dataclass(frozen=True, slots=True)
class RequestView:
    """A request for access. `terms_dated` is the version of the terms of use that was accepted."""

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


@dataclass(frozen=True, slots=True)
class Background:
    """What a reviewer weighs: what the plan gives, and what is known of the consumer."""

    plan_rows: list[SheetRow]
    consumer_since: datetime
    applications: list[ApplicationView]
    earlier: list[RequestView]
    calls_28_days: dict[str, int]


@dataclass(frozen=True, slots=True)
class TermsToAccept:
    """A product's newest terms of use, which its subscriber is asked to accept."""

    slug: str
    product: str
    number: int
    dated: datetime
    html: str


@dataclass(frozen=True, slots=True)
class RequestWithBackground:
    """A request with everything in view."""

    request: RequestView
    background: Background


def ask(ctx: Context, application_id: int, plan_id: int, purpose: str, accepted: bool) -> RequestView:
    """Ask for a plan for one's own application. An open product grants at once.

    Raises `Invalid` or `Conflict`, naming the field; `NotFound` for another's application.
    """
    purpose = purpose.strip()
    if len(purpose) < 10:
        raise Invalid("say in a sentence what the data is for", "purpose")
    if not accepted:
        raise Invalid("the terms of use must be accepted", "terms_accepted")
    with ctx.transaction() as session:
        # Whoever asks for the same application at the same moment waits, and is then refused.
        application = owned(session, ctx, application_id, lock=True)
        plan = session.get(Plan, plan_id)
        mine = groups.of_consumer(session, application.consumer_id)
        if plan is None or plan.state != "on sale" or not (groups.sees(plan, mine) and groups.sees(plan.product, mine)):
            raise NotFound("there is no such plan on sale", str(plan_id))
        _refuse_second(session, application.id, plan)
        made = AccessRequest(
            plan=plan, application=application, member_id=ctx.actor.member_id, purpose=purpose,
            terms_accepted=plan.product.terms_dated, state="waiting", created_at=ctx.now,
        )  # fmt: skip
        session.add(made)
        session.flush()
        session.refresh(made)
        _accept(session, ctx, plan.product)
        auditing.note(session, ctx, "asked for access", _subject(made), why=purpose)
        if plan.product.access_route == "open":
            _decide(session, ctx.acting(SYSTEM), made, "granted", "")
        if plan.product.access_route == "outside":
            made.state = move(REQUEST, "the request", made.state, "passed to outside")
        return _view(made)


def accept_terms(ctx: Context, slug: str) -> None:
    """Accept the newest terms of use of a product for one's own organisation. Raises `NotFound`."""
    with ctx.transaction() as session:
        product = session.scalar(select(Product).where(Product.slug == slug))
        if product is None or not storefront.seen(session, product, ctx.actor.own_consumer):
            raise NotFound("there is no such product", slug)
        _accept(session, ctx, product)
        auditing.note(
            session, ctx, f"accepted terms of use {product.terms_number}", ("product", product.id, product.name)
        )


def to_accept(ctx: Context) -> list[TermsToAccept]:
    """Terms of use of one's own subscriptions whose newest version nobody here has accepted yet."""
    consumer = ctx.actor.own_consumer
    with ctx.transaction() as session:
        query = (
            select(Product)
            .join(Plan, Plan.product_id == Product.id)
            .join(Subscription, Subscription.plan_id == Plan.id)
            .join(Application, Application.id == Subscription.application_id)
            .where(Application.consumer_id == consumer, Subscription.state != "ended")
            .distinct()
            .order_by(Product.name)
        )
        held = select(TermsAccepted.product_id, TermsAccepted.number).where(TermsAccepted.consumer_id == consumer)
        accepted = {(product, number) for product, number in session.execute(held)}
        return [
            TermsToAccept(p.slug, p.name, p.terms_number, p.terms_dated, html(p.terms_of_use))
            for p in session.scalars(query)
            if (p.id, p.terms_number) not in accepted
        ]


def take_back(ctx: Context, request_id: int) -> RequestView:
    """Take one's own request back. Raises `NotFound` or `Conflict`."""
    with ctx.transaction() as session:
        request = session.get(AccessRequest, request_id, with_for_update=True)
        if request is None or request.application.consumer_id != ctx.actor.own_consumer:
            raise NotFound("there is no such request", str(request_id))
        request.state = move(REQUEST, "the request", request.state, "taken back")
        request.decided_at, request.decided_by = ctx.now, ctx.actor.name
        auditing.note(session, ctx, "took a request back", _subject(request))
        return _view(request)


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
        request = session.get(AccessRequest, request_id, with_for_update=True)
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
                auditing.note(session, ctx, "agreed to a request, as the first of two", _subject(request), why=note)
                return _view(request)
            if request.first_granted_id == ctx.actor.identity:
                raise Conflict("you have agreed already; a second person decides", "the request")
        _decide(session, ctx, request, decision, note.strip())
        return _view(request)


def without_ticket(ctx: Context) -> list[RequestView]:
    """Requests for the outside system that have no ticket there yet."""
    with ctx.transaction() as session:
        query = select(AccessRequest).where(AccessRequest.state == "passed to outside", AccessRequest.ticket.is_(None))
        return [_view(r) for r in session.scalars(query)]


def with_ticket(ctx: Context) -> list[RequestView]:
    """Requests whose outside ticket is not decided yet."""
    with ctx.transaction() as session:
        query = select(AccessRequest).where(
            AccessRequest.state == "passed to outside", AccessRequest.ticket.is_not(None)
        )
        return [_view(r) for r in session.scalars(query)]


def keep_ticket(ctx: Context, request_id: int, ticket: str) -> None:
    """Note the ticket the outside system has opened for a request."""
    with ctx.transaction() as session:
        request = session.get_one(AccessRequest, request_id)
        request.ticket = ticket
        auditing.note(session, ctx, f"opened ticket {ticket}", _subject(request))


def decide_outside(ctx: Context, request_id: int, decision: Decision, note: str) -> None:
    """Carry out what the outside system has decided. One decided or taken back meanwhile stays as it is."""
    with ctx.transaction() as session:
        request = session.get_one(AccessRequest, request_id, with_for_update={"of": AccessRequest})
        if request.state == "passed to outside":
            _decide(session, ctx, request, decision, note)


def desk(ctx: Context, wanted: Wanted, decided: bool = False) -> Page[RequestView]:
    """A page of the requests: undecided ones, those an outside system decides among them, or decided ones.

    Orders: since, consumer, plan, application, outcome. With none named, what has waited longest comes first, and
    what was asked last among the decided.
    """
    ctx.actor.must_be(*ROLES)
    undecided = AccessRequest.state.in_(("waiting", "passed to outside"))
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
        "since": AccessRequest.created_at, "consumer": Consumer.name, "application": Application.name,
        "plan": func.concat(Product.name, " ", Plan.name), "outcome": AccessRequest.state,
    }  # fmt: skip
    with ctx.transaction() as session:
        asked = replace(wanted, down=decided != wanted.down) if not wanted.sort else wanted
        found = page(session, query, AccessRequest.id, orders, asked)
        return replace(found, rows=[_view(r) for r in found.rows])


def waiting(session: Session) -> int:
    """How many requests wait on the desk."""
    return session.scalar(select(func.count()).where(AccessRequest.state == "waiting")) or 0


def oldest_waiting(session: Session) -> RequestView | None:
    """The request that has waited longest."""
    query = select(AccessRequest).where(AccessRequest.state == "waiting").order_by(AccessRequest.created_at).limit(1)
    found = session.scalar(query)
    return _view(found) if found else None


def one(ctx: Context, request_id: int) -> RequestWithBackground:
    """A request with what a reviewer weighs. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        request = session.get(AccessRequest, request_id)
        if request is None:
            raise NotFound("there is no such request", str(request_id))
        return RequestWithBackground(_view(request), _background(session, ctx, request))


def _background(session: Session, ctx: Context, request: AccessRequest) -> Background:
    plan, consumer = request.plan, request.application.consumer
    terms = read(PlanTerms, plan.revisions[-1].terms)
    shown = rows([Column(plan.id, terms, None)], vocabulary_of(session, plan.product))
    earlier = session.scalars(
        select(AccessRequest)
        .join(Application, Application.id == AccessRequest.application_id)
        .where(AccessRequest.id != request.id, Application.consumer_id == consumer.id)
        .order_by(AccessRequest.id.desc())
    )
    month = usage_queries.verdicts_between(session, ctx.now_us - 28 * DAY, ctx.now_us, consumer.id)
    return Background(
        [row for row in shown if row.cells[0].sentences],
        consumer.created_at,
        of_consumer(session, consumer.id, ctx.now),
        [_view(r) for r in earlier],
        month.get(consumer.id, {}),
    )


def _refuse_second(session: Session, application_id: int, plan: Plan) -> None:
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
    asked = session.scalar(
        select(AccessRequest).where(
            AccessRequest.application_id == application_id,
            AccessRequest.state.in_(("waiting", "passed to outside")),
            AccessRequest.plan_id.in_(same_product),
        )
    )
    if asked:
        raise Conflict(f"a request for {plan.product.name} · {asked.plan.name} is already waiting", "application")


def _decide(session: Session, ctx: Context, request: AccessRequest, decision: Decision, note: str) -> None:
    before = request.state
    request.state = move(REQUEST, "the request", request.state, decision)
    request.decided_at, request.decided_by, request.note = ctx.now, ctx.actor.name, note
    plan, application = request.plan, request.application
    offer = f"{plan.product.name} · {plan.name}"
    if decision == "granted":
        subscriptions.begin(session, ctx, application.id, plan, request.id)
        stamps.touch(session, ctx)
        text = (
            f"{application.name} may now call {offer}.\n\nMake a key at "
            f"{ctx.web_address}/portal/applications/{application.id} and send it with each call."
        )
    else:
        text = f"Your request of {offer} for {application.name} was declined."
    if note:
        text += f"\n\nThe reviewer writes: {note}"
    mailing.write(
        session, ctx, request.member.email, f"{offer}: {decision}", f"Dear {request.member.name},\n\n{text}\n"
    )
    auditing.note(
        session, ctx, f"{decision} a request", _subject(request), {"state": before}, {"state": decision}, note
    )


def _accept(session: Session, ctx: Context, product: Product) -> None:
    """Keep that the signed-in consumer accepts the newest terms of use."""
    place = (ctx.actor.own_consumer, product.id, product.terms_number)
    if session.get(TermsAccepted, place) is None:
        consumer, product_id, number = place
        session.add(
            TermsAccepted(
                consumer_id=consumer, product_id=product_id, number=number, member=ctx.actor.name, accepted_at=ctx.now
            )
        )


def _subject(request: AccessRequest) -> tuple[str, int, str]:
    plan, application = request.plan, request.application
    name = f"{application.name} of {application.consumer.name} for {plan.product.name} · {plan.name}"
    return ("request", request.id, name)


def _view(r: AccessRequest) -> RequestView:
    return RequestView(
        r.id, r.application.consumer_id, r.application.consumer.name, r.application.name, r.member.name,
        r.member.email, r.plan.product.name, r.plan.name, r.purpose, r.terms_accepted, r.state, r.created_at,
        r.decided_at, r.decided_by, r.note, r.plan.product.access_route, r.first_granted_by, r.first_note, r.ticket,
    )  # fmt: skip
