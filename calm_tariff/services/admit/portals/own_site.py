"""A provider's own pages beside a portal: where accounts are made instead, and what documentation elsewhere may ask."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.formats.addresses import page_address
from calm_tariff.services.base import auditing, webhooks
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.base.sealing import Sealed, seal, unseal
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.locking import locked


@dataclass(frozen=True, slots=True)
class OwnSiteView:
    """Where accounts are made instead of at the portal (empty: here), and whether documentation elsewhere may ask for
    somebody's keys."""

    sign_up_site: str
    documented: bool


def of_portal(ctx: Context, portal_id: int) -> OwnSiteView:
    """A portal's own site. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(_portal(session, portal_id, lock=False))


def set_site(ctx: Context, portal_id: int, address: str) -> OwnSiteView:
    """Have accounts made at a site of one's own, or here again where the address is empty. Raises `NotFound` or
    `Invalid`, naming the field."""
    ctx.actor.must_be("product manager")
    address = page_address(address, "sign_up_site")
    with ctx.transaction() as session:
        portal = _portal(session, portal_id)
        before, portal.sign_up_site = portal.sign_up_site, address
        subject = ("portal", portal.id, portal.name)
        auditing.note(
            session, ctx, "changed where accounts are made", subject, before={"at": before}, after={"at": address}
        )
        return _view(portal)


def make_secret(ctx: Context, portal_id: int) -> str:
    """A secret by which a documentation elsewhere asks, shown this once; one that was made before is good no more.
    Raises `NotFound`, or `Conflict` where secrets cannot be kept."""
    ctx.actor.must_be("product manager")
    if not ctx.sealing_secret:
        raise Conflict("this installation keeps no secrets: it has no CALM_VALUE_SECRET")
    with ctx.transaction() as session:
        portal, secret = _portal(session, portal_id), webhooks.new_secret()
        portal.documentation_secret = seal(ctx.sealing_secret, secret)
        auditing.note(session, ctx, "let a documentation ask for keys", ("portal", portal.id, portal.name))
        return secret


def take_secret(ctx: Context, portal_id: int) -> None:
    """Let no documentation ask any more. Raises `NotFound`."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        portal = _portal(session, portal_id)
        if portal.documentation_secret:
            portal.documentation_secret = ""
            auditing.note(session, ctx, "let no documentation ask for keys", ("portal", portal.id, portal.name))


def secret_of(session: Session, ctx: Context, portal_id: int) -> str:
    """The secret by which a portal's documentation asks; empty where there is none, or it cannot be opened."""
    portal = session.get(Portal, portal_id)
    try:
        return unseal(ctx.sealing_secret, portal.documentation_secret) if portal and portal.documentation_secret else ""
    except Sealed:
        return ""


def _portal(session: Session, portal_id: int, lock: bool = True) -> Portal:
    portal = locked(session, Portal, portal_id) if lock else session.get(Portal, portal_id)
    if portal is None:
        raise NotFound("there is no such portal", str(portal_id))
    return portal


def _view(portal: Portal) -> OwnSiteView:
    return OwnSiteView(portal.sign_up_site, bool(portal.documentation_secret))
