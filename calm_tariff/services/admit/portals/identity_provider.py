"""The outside provider of identities that a portal takes sign-ins from, as its owner sets it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.base.sealing import Sealed, seal, unseal
from calm_tariff.services.house.signing_in import outside
from calm_tariff.services.house.signing_in.outside import Client
from calm_tariff.store.admit.identities import IdentityProvider
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.locking import locked

# Where a provider sends people back to, below a portal's address.
BACK = "/signed-in"


@dataclass(frozen=True, slots=True, kw_only=True)
class IdentityProviderTyped:
    """A provider by what people call it and by its issuer's address (OpenID Connect Discovery), and the client that the
    portal is to it. Without a secret, the one that was kept stays."""

    name: str
    issuer: str
    client_id: str
    client_secret: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class IdentityProviderView:
    """A portal's provider; `back` is the address that it must be told to send people back to. Empty where there is
    none."""

    name: str
    issuer: str
    client_id: str
    back: str


def of_portal(ctx: Context, portal_id: int) -> IdentityProviderView:
    """A portal's provider. Raises `NotFound` where there is no such portal."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(session, ctx, _portal(session, portal_id, lock=False))


def set_provider(ctx: Context, portal_id: int, typed: IdentityProviderTyped) -> IdentityProviderView:
    """Have a portal take sign-ins from a provider. Raises `NotFound`, `Invalid`, naming the field, or `Conflict` where
    secrets cannot be kept."""
    ctx.actor.must_be("product manager")
    typed = replace(typed, **{f: names.plain(getattr(typed, f), f) for f in ("name", "issuer", "client_id")})
    issuer = outside.checked_issuer(ctx, typed.issuer)
    if not ctx.sealing_secret:
        raise Conflict("this installation keeps no secrets: it has no CALM_VALUE_SECRET", "client_secret")
    with ctx.transaction() as session:
        portal = _portal(session, portal_id)
        kept = locked(session, IdentityProvider, portal_id)
        if kept is None and not typed.client_secret:
            raise Invalid("must not be empty", "client_secret")
        before = _view(session, ctx, portal)
        made = kept or IdentityProvider(portal_id=portal_id)
        made.name, made.issuer, made.client_id = typed.name, issuer, typed.client_id
        if typed.client_secret:
            made.client_secret = seal(ctx.sealing_secret, typed.client_secret)
        session.add(made)
        session.flush()
        after = _view(session, ctx, portal)
        _noted(session, ctx, portal, before=before, after=after)
        return after


def remove(ctx: Context, portal_id: int) -> None:
    """Take sign-ins from no outside provider any more. Raises `NotFound`."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        portal = _portal(session, portal_id)
        kept = locked(session, IdentityProvider, portal_id)
        if kept is not None:
            _noted(session, ctx, portal, before=_view(session, ctx, portal), after=None)
            session.delete(kept)


def client(session: Session, ctx: Context, portal_id: int) -> Client:
    """A portal as the client of its provider. Raises `NotFound` where it has none, or its secret cannot be opened."""
    kept = session.get(IdentityProvider, portal_id)
    if kept is None:
        raise NotFound("this portal takes sign-ins from no outside provider", "provider")
    try:
        secret = unseal(ctx.sealing_secret, kept.client_secret)
    except Sealed:
        raise NotFound("this portal cannot ask its provider at the moment", "provider") from None
    return Client(kept.issuer, kept.client_id, secret, serving.address(ctx, kept.portal) + BACK, kept.name)


def name_of(session: Session, portal_id: int) -> str:
    """What people call a portal's provider; empty where there is none."""
    kept = session.get(IdentityProvider, portal_id)
    return kept.name if kept else ""


def _portal(session: Session, portal_id: int, lock: bool = True) -> Portal:
    portal = locked(session, Portal, portal_id) if lock else session.get(Portal, portal_id)
    if portal is None:
        raise NotFound("there is no such portal", str(portal_id))
    return portal


def _view(session: Session, ctx: Context, portal: Portal) -> IdentityProviderView:
    kept = session.get(IdentityProvider, portal.id)
    back = serving.address(ctx, portal) + BACK
    if kept is None:
        return IdentityProviderView(name="", issuer="", client_id="", back=back)
    return IdentityProviderView(name=kept.name, issuer=kept.issuer, client_id=kept.client_id, back=back)


def _noted(
    session: Session,
    ctx: Context,
    portal: Portal,
    *,
    before: IdentityProviderView,
    after: IdentityProviderView | None,
) -> None:
    def said(view: IdentityProviderView | None) -> dict[str, str] | None:
        return {"name": view.name, "issuer": view.issuer, "client": view.client_id} if view and view.name else None

    words = "changed through whom people sign in"
    auditing.note(session, ctx, words, ("portal", portal.id, portal.name), before=said(before), after=said(after))
