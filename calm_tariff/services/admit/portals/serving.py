"""What a portal offers and whom it serves: whatever is asked through it goes by these."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import urljoin, urlsplit

from sqlalchemy import ColumnElement, select, true
from sqlalchemy.orm import Session

from calm_tariff.core import portals
from calm_tariff.core.errors import NotFound
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.consumers import Consumer, ConsumerInGroup
from calm_tariff.store.admit.portals import Portal, PortalProduct


@dataclass(frozen=True, slots=True)
class PortalAsked:
    """The portal that somebody asks through: where it is, to be joined to the installation's address, and the groups
    that it serves beside those who came by it; none of them means everybody."""

    id: int
    where: str
    groups: frozenset[int]

    def served(self) -> ColumnElement[bool]:
        """The consumers that may come in here."""
        if not self.groups:
            return true()
        grouped = select(ConsumerInGroup.c.consumer_id).where(ConsumerInGroup.c.group_id.in_(self.groups))
        return (Consumer.portal_id == self.id) | Consumer.id.in_(grouped)

    def serves(self, session: Session, consumer_id: int) -> bool:
        """Whether a consumer may come in here."""
        query = select(Consumer.id).where(Consumer.id == consumer_id, self.served())
        return session.scalar(query) is not None


def asked(ctx: Context, path: str) -> PortalAsked:
    """The portal at a path. Raises `NotFound`."""
    with ctx.transaction() as session:
        found = session.scalar(select(Portal).where(Portal.path == path))
        if found is None:
            raise NotFound("there is no such portal", path)
        return PortalAsked(found.id, found.where, frozenset(group.id for group in found.groups))


def paths_by_host(ctx: Context) -> dict[str, str]:
    """The paths of the portals that have a host name of their own."""
    with ctx.transaction() as session:
        query = select(Portal.host, Portal.path).where(Portal.host.is_not(None))
        return {host: path for host, path in session.execute(query) if host}


def origins(session: Session, ctx: Context) -> frozenset[str]:
    """The origins of all portals' pages (RFC 6454): the installation's own, and the names that portals have."""
    scheme = urlsplit(ctx.web_address).scheme
    named = session.scalars(select(Portal.host).where(Portal.host.is_not(None)))
    return ctx.web_origins | {f"{scheme}://{host}" for host in named}


def first(session: Session) -> Portal:
    """The portal that every installation has."""
    return session.scalars(select(Portal).where(Portal.path == portals.FIRST)).one()


def address(ctx: Context, portal: Portal) -> str:
    """Where a portal is, as people write it."""
    return urljoin(ctx.web_address, portal.where)


def offered(session: Session, portal_id: int | None) -> frozenset[int] | None:
    """The products that a portal offers; None for every one. What is asked through no portal is not narrowed."""
    portal = session.get(Portal, portal_id) if portal_id is not None else None
    if portal is None or portal.everything:
        return None
    return frozenset(session.scalars(select(PortalProduct.c.product_id).where(PortalProduct.c.portal_id == portal.id)))
