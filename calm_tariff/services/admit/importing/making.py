"""What a row of a file makes: by the services that make the same for one consumer by hand, so that their rules are its
rules."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import membership
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.importing import COLUMNS, Kind, parts
from calm_tariff.core.meters import Environment
from calm_tariff.core.payment import payment
from calm_tariff.formats.addresses import looks
from calm_tariff.services.admit import applications, groups, on_behalf, paying
from calm_tariff.services.admit.on_behalf import ConsumerTyped
from calm_tariff.services.admit.organisation import details
from calm_tariff.services.admit.organisation.details import Details, Reference
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.products import Plan, Product

Cells = Mapping[str, str]
# Fields of the services that are columns under other names.
_COLUMNS: Mapping[Kind, Mapping[str, str]] = {
    "consumers": {"name": "owner", "method": "pays", "payment": "pays", "portal_id": "portal"},
    "members": {},
    "applications": {"name": "application"},
    "subscriptions": {"plan_id": "plan", "application_id": "application"},
}


@dataclass(frozen=True, slots=True)
class RowMade:
    """What came of a row: whose it is, and in words."""

    consumer_id: int
    said: str


def make(session: Session, ctx: Context, kind: Kind, cells: Cells, letters: bool) -> RowMade:
    """Make what a row says, in a transaction that the caller ends. Raises what the service raises, naming the field."""
    return _MAKERS[kind](session, ctx.joining(session), cells, letters)


def column(kind: Kind, where: str) -> str:
    """The column of a file that a field of a service is; empty for none."""
    first = where.split(".")[0]
    return _COLUMNS[kind].get(first, first if first in {c.name for c in COLUMNS[kind]} else "")


def same(kind: Kind, cells: Cells) -> list[str]:
    """What no two rows of one file may share."""
    whose = cells.get("organisation", "").casefold()
    if kind == "consumers":
        look, shape = looks(cells.get("organisation", ""))
        return [f"look {look}", f"shape {shape}", f"address {cells.get('email', '').casefold()}"]
    if kind == "members":
        return [f"address {cells.get('email', '').casefold()}"]
    if kind == "applications":
        return [f"{whose}\n{cells.get('application', '').casefold()}"]
    names = (cells.get(name, "").casefold() for name in ("application", "product", "plan"))
    return ["\n".join((whose, *names))]


def _consumer(session: Session, ctx: Context, cells: Cells, letters: bool) -> RowMade:
    portal = None
    if cells.get("portal"):
        portal = session.scalar(select(Portal.id).where(Portal.name == cells["portal"]))
        if portal is None:
            raise NotFound(f"there is no portal {cells['portal']}", "portal")
    typed = ConsumerTyped(
        organisation=cells["organisation"], name=cells["owner"], email=cells["email"], portal_id=portal
    )
    known = _details(cells)
    wanted = _groups(session, cells)
    made = on_behalf.make_consumer(ctx, typed, letter=letters)
    consumer = locked(session, Consumer, made.consumer_id)
    assert consumer is not None
    details.set_to(session, ctx, consumer, known)
    if wanted:
        groups.join(session, ctx, consumer, wanted)
    if cells.get("pays") or cells.get("order_number"):
        paying.change(
            on_behalf.acting_for(session, ctx, consumer.id),
            payment(cells.get("pays") or "transfer", cells.get("order_number", ""), ""),
        )
    return RowMade(consumer.id, "its account is made, and let in")


def _details(cells: Cells) -> Details:
    references = []
    for part in parts(cells.get("references", "")):
        system, _, reference = part.partition(":")
        references.append(Reference(system=system.strip(), reference=reference.strip()))
    return details.read(
        Details(
            address="\n".join(parts(cells.get("address", ""))),
            country=cells.get("country", ""),
            tax_number=cells.get("tax_number", ""),
            references=tuple(references),
        )
    )


def _groups(session: Session, cells: Cells) -> list[ConsumerGroup]:
    found = []
    for name in dict.fromkeys(parts(cells.get("groups", ""))):
        group = session.scalar(select(ConsumerGroup).where(ConsumerGroup.name == name))
        if group is None:
            raise NotFound(f"there is no group {name}", "groups")
        found.append(group)
    return found


def _member(session: Session, ctx: Context, cells: Cells, letters: bool) -> RowMade:
    consumer = _organisation(session, cells)
    role = membership.role(cells["role"].lower())
    on_behalf.make_member(ctx, consumer.id, cells["name"], cells["email"], role, letter=letters)
    return RowMade(consumer.id, f"belongs to it, as {role}")


def _application(session: Session, ctx: Context, cells: Cells, letters: bool) -> RowMade:
    consumer = _organisation(session, cells)
    environment = cells.get("environment") or "live"
    if environment not in ("live", "sandbox"):
        raise Invalid("must be live or sandbox", "environment")
    own = on_behalf.acting_for(session, ctx, consumer.id)
    where: Environment = "sandbox" if environment == "sandbox" else "live"
    applications.register(own, cells["application"], cells.get("purpose", ""), where, cells.get("contact", ""))
    return RowMade(consumer.id, "is registered")


def _subscription(session: Session, ctx: Context, cells: Cells, letters: bool) -> RowMade:
    consumer = _organisation(session, cells)
    named = Application.name == cells["application"]
    application = session.scalar(select(Application.id).where(Application.consumer_id == consumer.id, named))
    if application is None:
        raise NotFound(f"{consumer.name} has no application {cells['application']}", "application")
    wanted = session.scalar(
        select(Plan.id)
        .join(Product, Product.id == Plan.product_id)
        .where(Product.name == cells["product"], Plan.name == cells["plan"])
    )
    if wanted is None:
        raise NotFound(f"there is no plan {cells['product']} · {cells['plan']}", "plan")
    asked = on_behalf.subscribe(ctx, application, wanted, cells["purpose"])
    if asked.state == "granted":
        return RowMade(consumer.id, "is subscribed")
    return RowMade(consumer.id, f"is asked for; its request is {asked.state}, and waits for others")


def _organisation(session: Session, cells: Cells) -> Consumer:
    consumer = session.scalar(select(Consumer).where(Consumer.name == cells["organisation"]))
    if consumer is None:
        raise NotFound(f"there is no consumer {cells['organisation']}", "organisation")
    if consumer.state not in ("let in", "suspended"):
        raise Conflict(f"its account is {consumer.state}", "organisation")
    return consumer


_MAKERS: Mapping[Kind, Callable[[Session, Context, Cells, bool], RowMade]] = {
    "consumers": _consumer,
    "members": _member,
    "applications": _application,
    "subscriptions": _subscription,
}
