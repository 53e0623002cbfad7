"""The queue of the desk: what waits and what was decided, who has it in hand, and who has it open."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, delete, func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.lifecycles import UNDECIDED
from calm_tariff.services.admit.desk import editions
from calm_tariff.services.admit.desk.conversation import keep, tell_person
from calm_tariff.services.admit.desk.views import RequestView, subject, view
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.requests import AccessRequest, RequestViewer
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.house.people import Person

# Who has not been heard of for so long has closed a request.
SEEN = timedelta(seconds=15)
_NEVER = datetime(9999, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, slots=True, kw_only=True)
class Sought:
    """Which requests are shown: decided ones, of one product, those that somebody has in hand (`mine`), that are
    `overdue`, in one state; or decided ones of which nobody has been told yet (`undoable`)."""

    decided: bool = False
    product_id: int | None = None
    mine: bool = False
    overdue: bool = False
    state: str = ""
    undoable: bool = False


def desk(ctx: Context, wanted: PageQuery, sought: Sought = Sought()) -> Page[RequestView]:
    """A page of the requests: undecided ones, those an outside system decides among them, or decided ones.

    Orders: since, target, weight, consumer, plan, application, outcome. With none named, what has waited longest comes
    first, and what was asked last among the decided. Words are looked for in consumers' names.
    """
    ctx.actor.must_be(*ROLES)
    now = ctx.now  # one for which are found and how they are told: what ends between two would be neither
    query = (
        select(AccessRequest)
        .join(Application, Application.id == AccessRequest.application_id)
        .join(Consumer, Consumer.id == Application.consumer_id)
        .join(Plan, Plan.id == AccessRequest.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .where(*_sought(ctx, sought, now))
    )
    if wanted.words:
        query = query.where(func.lower(Consumer.name).contains(wanted.words.lower(), autoescape=True))
    orders = {
        "since": AccessRequest.created_at,
        "target": func.coalesce(AccessRequest.due_at, _NEVER),
        "weight": AccessRequest.weight,
        "consumer": Consumer.name,
        "application": Application.name,
        "plan": func.concat(Product.name, " ", Plan.name),
        "outcome": AccessRequest.state,
    }
    with ctx.reading() as session:
        asked = replace(wanted, down=sought.decided != wanted.down) if not wanted.sort else wanted
        found = page(session, query, AccessRequest.id, orders, asked)
        return replace(found, rows=[view(r, now) for r in found.rows])


def _sought(ctx: Context, sought: Sought, now: datetime) -> list[ColumnElement[bool]]:
    undecided = AccessRequest.state.in_(UNDECIDED)
    found: list[ColumnElement[bool]] = [~undecided if sought.decided else undecided]
    if sought.product_id is not None:
        found.append(Product.id == sought.product_id)
    if sought.mine:
        found.append(AccessRequest.assigned_id == (ctx.actor.person_id or 0))
    if sought.overdue:
        found.append((AccessRequest.due_at <= now) & AccessRequest.state.in_(("waiting", "passed to outside")))
    if sought.undoable:
        found = [AccessRequest.undo_until > now]
    if sought.state:
        found.append(AccessRequest.state == sought.state)
    return found


def of_consumer(session: Session, ctx: Context, consumer_id: int, most: int) -> list[RequestView]:
    """A consumer's requests, the latest first."""
    query = select(AccessRequest).join(Application, Application.id == AccessRequest.application_id)
    query = query.where(Application.consumer_id == consumer_id).order_by(AccessRequest.id.desc()).limit(most)
    return [view(request, ctx.now) for request in session.scalars(query)]


def waiting(session: Session) -> int:
    """How many requests wait on the desk."""
    return session.scalar(select(func.count()).where(AccessRequest.state == "waiting")) or 0


def oldest_waiting(session: Session, now: datetime) -> RequestView | None:
    """The request that has waited longest."""
    query = select(AccessRequest).where(AccessRequest.state == "waiting").order_by(AccessRequest.created_at).limit(1)
    found = session.scalar(query)
    return view(found, now) if found else None


def hand_over(ctx: Context, request_id: int, person_id: int | None, edition: int | None = None) -> RequestView:
    """Put a request into a colleague's hands, or one's own, or nobody's. A colleague is told. Raises `NotFound`,
    `Conflict` where it is decided, `Invalid` for nobody that is there, `Stale`."""
    ctx.actor.must_be("reviewer", "product manager")
    with ctx.transaction() as session:
        request = locked(session, AccessRequest, request_id)
        if request is None:
            raise NotFound("there is no such request", str(request_id))
        editions.refuse_stale(ctx, request, edition)
        if request.state not in UNDECIDED:
            raise Conflict(f"it is {request.state}", "the request")
        person = None if person_id is None else session.get(Person, person_id)
        if person_id is not None and person is None:
            raise Invalid("must be one of the provider's people", "person_id")
        before = request.assigned.name if request.assigned else None
        request.assigned = person
        request.edition += 1
        to = person.name if person else "nobody"
        keep(session, ctx, request, "handed over", f"To {to}.", inside=True)
        auditing.note(session, ctx, "handed a request over", subject(request), {"in hand": before}, {"in hand": to})
        if person is not None and person.id != ctx.actor.person_id:
            tell_person(session, ctx, request, person, "request handed over", request.purpose)
        session.flush()
        return view(request, ctx.now)


def look(ctx: Context, request_id: int) -> list[str]:
    """Say that one has a request open; returns who else has. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        if session.get(AccessRequest, request_id) is None:
            raise NotFound("there is no such request", str(request_id))
        mine = insert(RequestViewer).values(
            request_id=request_id, identity=ctx.actor.identity, name=ctx.actor.name[:200], seen_at=ctx.now
        )
        session.execute(mine.on_duplicate_key_update(seen_at=mine.inserted.seen_at, name=mine.inserted.name))
        others = select(RequestViewer.name).where(
            RequestViewer.request_id == request_id,
            RequestViewer.identity != ctx.actor.identity,
            RequestViewer.seen_at > ctx.now - SEEN,
        )
        return list(session.scalars(others.order_by(RequestViewer.name)))


def forget_viewers(ctx: Context) -> None:
    """Forget who had requests open."""
    with ctx.transaction() as session:
        session.execute(delete(RequestViewer).where(RequestViewer.seen_at <= ctx.now - SEEN))
