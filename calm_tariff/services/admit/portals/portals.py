"""Portals, made and edited by the provider's people."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from datetime import datetime
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import ColumnElement, case, delete, func, select, update
from sqlalchemy.orm import Session

from calm_tariff.core import portals as rules
from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.portals import Brand, Entrance, Page
from calm_tariff.formats import pictures
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.compose import visibility
from calm_tariff.store.admit.consumers import AwaitedSignUp, Consumer
from calm_tariff.store.admit.identities import IdentityProvider
from calm_tariff.store.admit.portals import Portal, PortalPage, PortalPicture
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Product
from calm_tariff.store.house.identities import OutsideSignIn

# As machines know themselves; none of these leads to one portal more than to another.
_OWN_NAMES = frozenset({"localhost", "localhost.localdomain"})


@dataclass(frozen=True, slots=True, kw_only=True)
class PortalTyped:
    """What somebody types about a portal: how it looks, by which host name it is reached besides its path, who may
    sign up, what it offers (the products of these ids, or everything), and the groups it serves (none: everybody)."""

    brand: Brand
    entrance: Entrance = Entrance()
    host: str = ""
    everything: bool = True
    products: list[int] = field(default_factory=list)
    groups: list[int] = field(default_factory=list)
    pages: list[Page] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class PictureView:
    """A picture by what it shows: its digest and its size."""

    digest: str
    width: int
    height: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PortalView:
    """A portal. `edition` is its ETag; `path` is where it is on the installation's own host, `address` where people
    are sent; `consumers` is how many organisations came by it, of which so many are `waiting` to be let in."""

    id: int
    edition: int
    path: str
    address: str
    first: bool
    host: str
    brand: Brand
    entrance: Entrance
    everything: bool
    products: list[str]
    product_ids: list[int]
    groups: list[str]
    group_ids: list[int]
    pages: list[Page]
    logo: PictureView | None
    icon: PictureView | None
    consumers: int
    waiting: int
    created_at: datetime


def listed(ctx: Context) -> list[PortalView]:
    """All portals, the first first."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        came = _came(session)
        return [_view(ctx, p, came.get(p.id, (0, 0))) for p in session.scalars(select(Portal).order_by(Portal.id))]


def one(ctx: Context, portal_id: int) -> PortalView:
    """One portal. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _shown(session, ctx, portal_id)


def begin(ctx: Context, brand: Brand) -> None:
    """The portal that every installation has. Raises `Invalid`, naming the field."""
    brand = rules.checked(brand)
    with ctx.transaction() as session:
        session.add(_new(ctx, rules.FIRST, brand))


def create(ctx: Context, prefix: str, name: str) -> PortalView:
    """Another portal; nobody can sign up there before somebody says who may, and it offers nothing yet. Raises
    `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("product manager")
    path, brand = rules.path_of(prefix), rules.checked(Brand(name=name))
    with ctx.transaction() as session:
        _must_be_free(session, Portal.path == path, "there is a portal at this address already", "prefix")
        made = _new(ctx, path, brand)
        made.sign_up, made.everything = "nobody", False
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "made a portal", ("portal", made.id, made.name), after={"path": path})
        return _shown(session, ctx, made.id)


def save(ctx: Context, portal_id: int, edition: int, typed: PortalTyped) -> PortalView:
    """Change a portal. Raises `NotFound`, `Invalid` or `Conflict`, naming the field, and `Stale`."""
    ctx.actor.must_be("product manager")
    brand, entrance, pages = rules.checked(typed.brand), rules.entrance(typed.entrance), rules.pages(typed.pages)
    host = rules.host_name(typed.host)
    own = urlsplit(ctx.web_address)
    if host and (host.partition(":")[0] in _OWN_NAMES | {own.hostname} or host == own.netloc):
        raise Invalid("is the installation's own name, where every portal has a path", "host")
    with ctx.transaction() as session:
        portal = _held(session, portal_id)
        before = _shown(session, ctx, portal_id)
        if portal.edition != edition:
            raise Stale("somebody else has changed this portal meanwhile", portal.name, before)
        if host:
            taken = (Portal.host == host) & (Portal.id != portal_id)
            _must_be_free(session, taken, "is another portal's already", "host")
        portal.name, portal.welcome = brand.name, brand.welcome
        portal.main_colour, portal.accent_colour = brand.main_colour, brand.accent_colour
        portal.title_font, portal.text_font = brand.title_font, brand.text_font
        portal.host, portal.everything = host, typed.everything
        portal.sign_up, portal.at_once = entrance.sign_up, entrance.at_once
        portal.mail_domains = list(entrance.domains)
        portal.products = _products(session, typed.products)
        portal.groups = visibility.named(session, typed.groups)
        portal.pages.clear()
        session.flush()  # a page may have another's address now
        portal.pages.extend(
            PortalPage(place=place, prefix=page.prefix, title=page.title, text=page.text)
            for place, page in enumerate(pages)
        )
        portal.edition += 1
        session.flush()
        session.expire(portal)
        after = _shown(session, ctx, portal_id)
        if portal.host != before.host:
            stamps.touch(session, ctx)  # gateways let its pages read answers
        subject = ("portal", portal.id, portal.name)
        auditing.note(session, ctx, "changed a portal", subject, before=_terms(before), after=_terms(after))
        return after


def remove(ctx: Context, portal_id: int) -> None:
    """Take a portal away. Organisations that came by it are at home in the first from then on; letters that lead to it
    are good no more. Raises `NotFound`, or `Conflict` for the first."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        portal = _held(session, portal_id)
        home = serving.first(session)
        if portal.id == home.id:
            raise Conflict("every installation has this one; it can be changed, not taken away", "the portal")
        before = _terms(_shown(session, ctx, portal_id))
        session.execute(update(Consumer).where(Consumer.portal_id == portal.id).values(portal_id=home.id))
        for waiting in (AwaitedSignUp, OutsideSignIn, IdentityProvider):
            session.execute(delete(waiting).where(waiting.portal_id == portal.id))
        auditing.note(session, ctx, "took a portal away", ("portal", portal.id, portal.name), before=before)
        portal.products, portal.groups = [], []
        session.delete(portal)
        stamps.touch(session, ctx)


def set_picture(ctx: Context, portal_id: int, kind: pictures.Kind, content: bytes | None) -> PortalView:
    """Give a portal a logo or an icon, or take it away. Raises `NotFound`, or `Invalid` for what is no picture."""
    ctx.actor.must_be("product manager")
    drawn = pictures.drawn(content, kind, kind) if content is not None else None
    with ctx.transaction() as session:
        portal = _held(session, portal_id)
        kept = session.get(PortalPicture, (portal_id, kind))
        if drawn is None:
            if kept is not None:
                session.delete(kept)
        else:
            if kept is None:
                kept = PortalPicture(portal_id=portal_id, kind=kind)
                session.add(kept)
            kept.content, kept.digest = drawn.content, drawn.digest
            kept.width, kept.height = drawn.width, drawn.height
        did = f"changed the {kind} of a portal" if drawn else f"took the {kind} of a portal away"
        auditing.note(session, ctx, did, ("portal", portal.id, portal.name))
        session.flush()
        session.expire(portal)
        return _shown(session, ctx, portal_id)


def _new(ctx: Context, path: str, brand: Brand) -> Portal:
    return Portal(
        path=path,
        name=brand.name,
        welcome=brand.welcome,
        main_colour=brand.main_colour,
        accent_colour=brand.accent_colour,
        title_font=brand.title_font,
        text_font=brand.text_font,
        sign_up="anyone",
        created_at=ctx.now,
    )


def _held(session: Session, portal_id: int) -> Portal:
    portal = locked(session, Portal, portal_id)
    if portal is None:
        raise NotFound("there is no such portal", str(portal_id))
    return portal


def _must_be_free(session: Session, taken: ColumnElement[bool], what: str, where: str) -> None:
    if session.scalar(select(Portal.id).where(taken)) is not None:
        raise Conflict(what, where)


def _products(session: Session, ids: Sequence[int]) -> list[Product]:
    found = list(session.scalars(select(Product).where(Product.id.in_(ids))))
    if len(found) != len(set(ids)):
        raise Invalid("names a product that is not there", "products")
    return found


def _shown(session: Session, ctx: Context, portal_id: int) -> PortalView:
    portal = session.get(Portal, portal_id)
    if portal is None:
        raise NotFound("there is no such portal", str(portal_id))
    return _view(ctx, portal, _came(session).get(portal_id, (0, 0)))


def _came(session: Session) -> dict[int, tuple[int, int]]:
    """How many organisations came by each portal, and how many of them wait to be let in."""
    waits = func.sum(case((Consumer.state == "waiting", 1), else_=0))
    query = select(Consumer.portal_id, func.count(), waits).group_by(Consumer.portal_id)
    return {portal_id: (consumers, int(waiting)) for portal_id, consumers, waiting in session.execute(query)}


def _view(ctx: Context, p: Portal, came: tuple[int, int]) -> PortalView:
    sign_up: rules.SignUp = p.sign_up  # type: ignore[assignment]
    shown = {picture.kind: PictureView(picture.digest, picture.width, picture.height) for picture in p.pictures}
    return PortalView(
        id=p.id,
        edition=p.edition,
        path=p.path,
        address=serving.address(ctx, p),
        first=p.path == rules.FIRST,
        host=p.host or "",
        brand=Brand(
            name=p.name,
            welcome=p.welcome,
            main_colour=p.main_colour,
            accent_colour=p.accent_colour,
            title_font=p.title_font,
            text_font=p.text_font,
        ),
        entrance=Entrance(sign_up=sign_up, domains=tuple(p.mail_domains), at_once=p.at_once),
        everything=p.everything,
        products=[product.name for product in p.products],
        product_ids=[product.id for product in p.products],
        groups=[group.name for group in p.groups],
        group_ids=[group.id for group in p.groups],
        pages=[Page(prefix=page.prefix, title=page.title, text=page.text) for page in p.pages],
        logo=shown.get("logo"),
        icon=shown.get("icon"),
        consumers=came[0],
        waiting=came[1],
        created_at=p.created_at,
    )


def _terms(portal: PortalView) -> dict[str, Any]:
    """What the record keeps of a portal."""
    entrance = {**asdict(portal.entrance), "domains": list(portal.entrance.domains)}
    return {
        **asdict(portal.brand),
        **entrance,
        "host": portal.host,
        "products": "everything" if portal.everything else portal.products,
        "groups": portal.groups,
        "pages": [page.prefix for page in portal.pages],
    }
