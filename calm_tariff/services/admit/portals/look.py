"""How a portal looks to whoever opens it, with its pages and pictures."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import select

from calm_tariff.core.errors import NotFound
from calm_tariff.core.portals import SignUp
from calm_tariff.formats.markdown import html
from calm_tariff.services.admit.portals import identity_provider
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.admit.portals import Portal, PortalPage, PortalPicture

# A picture's address has its digest: what it shows never changes.
KEPT = timedelta(days=365)


@dataclass(frozen=True, slots=True)
class PageLink:
    """A further page by the end of its address and its title."""

    prefix: str
    title: str


@dataclass(frozen=True, slots=True)
class PageView:
    """A further page."""

    title: str
    html: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Look:
    """How a portal looks, what it says first and who may sign up; through which outside provider people
    sign in (empty: none); and where calls go. `logo` and `icon` are digests of
    pictures; empty where there is none."""

    name: str
    welcome: str
    welcome_html: str
    main_colour: str
    accent_colour: str
    title_font: str
    text_font: str
    logo: str
    icon: str
    pages: list[PageLink]
    sign_up: SignUp
    signs_in_through: str
    sign_up_site: str
    at_once: bool
    provider: str
    currency: str
    time_zone: str
    gateway: str
    token_endpoint: str


def look(ctx: Context, portal_id: int, gateway: str) -> Look:
    """A portal's look."""
    with ctx.reading() as session:
        p, provider = session.get_one(Portal, portal_id), provider_of(session)
        pictures = {picture.kind: picture.digest for picture in p.pictures}
        sign_up: SignUp = p.sign_up  # type: ignore[assignment]
        return Look(
            name=p.name,
            welcome=p.welcome,
            welcome_html=html(p.welcome),
            main_colour=p.main_colour,
            accent_colour=p.accent_colour,
            title_font=p.title_font,
            text_font=p.text_font,
            logo=pictures.get("logo", ""),
            icon=pictures.get("icon", ""),
            pages=[PageLink(page.prefix, page.title) for page in p.pages],
            sign_up=sign_up,
            sign_up_site=p.sign_up_site,
            signs_in_through=identity_provider.name_of(session, portal_id),
            at_once=p.at_once,
            provider=provider.name,
            currency=provider.currency,
            time_zone=provider.time_zone,
            gateway=gateway,
            token_endpoint=f"{ctx.web_address}/oauth2/token",
        )


def page(ctx: Context, portal_id: int, prefix: str) -> PageView:
    """A further page. Raises `NotFound`."""
    with ctx.reading() as session:
        query = select(PortalPage).where(PortalPage.portal_id == portal_id, PortalPage.prefix == prefix)
        found = session.scalar(query)
        if found is None:
            raise NotFound("there is no such page", prefix)
        return PageView(found.title, html(found.text))


def picture(ctx: Context, portal_id: int, digest: str) -> bytes:
    """A picture as PNG. Raises `NotFound`."""
    with ctx.reading() as session:
        query = select(PortalPicture.content).where(
            PortalPicture.portal_id == portal_id, PortalPicture.digest == digest
        )
        found = session.scalar(query)
        if found is None:
            raise NotFound("there is no such picture", digest[:64])
        return found
