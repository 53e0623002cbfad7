"""Portals, and who is invited to them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Body
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core import contrast
from calm_tariff.core.contrast import Contrast
from calm_tariff.core.portals import ACCENT, FONTS, MAIN, Brand, Entrance, Page, SignUp
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.formats.pictures import Kind
from calm_tariff.services.admit.portals import identity_provider, invitations, own_site, portals
from calm_tariff.services.admit.portals.identity_provider import IdentityProviderTyped, IdentityProviderView
from calm_tariff.services.admit.portals.invitations import InvitationView
from calm_tariff.services.admit.portals.own_site import OwnSiteView
from calm_tariff.services.admit.portals.portals import PortalTyped, PortalView
from calm_tariff.services.base.context import ROLES

router = APIRouter(tags=["portals"], route_class=Again)
Content = Annotated[bytes, Body(media_type="application/octet-stream")]


class PortalName(BaseModel):
    """A new portal: its name, and the end of its path."""

    name: str = Field(max_length=200)
    prefix: str = Field(max_length=100)


class IdentityProviderIn(BaseModel):
    """Through whom people sign in to a portal: the provider's name and issuer (OpenID Connect), and the client that the
    portal is to it. Without a secret, the one that was kept stays."""

    name: str = Field(max_length=60)
    issuer: str = Field(max_length=200)
    client_id: str = Field(max_length=200)
    client_secret: str = Field(default="", max_length=1000)


class OwnSiteIn(BaseModel):
    """Where accounts are made instead of at the portal; empty: at the portal."""

    sign_up_site: str = Field(max_length=200)


class PageIn(BaseModel):
    """A further page, in Markdown, at the end of its address."""

    prefix: str = Field(max_length=100)
    title: str = Field(max_length=200)
    text: str = Field(max_length=100_000)


class PortalIn(BaseModel):
    """A portal; see `services.admit.portals.portals.PortalTyped`."""

    name: str = Field(max_length=200)
    welcome: str = Field(default="", max_length=20_000)
    main_colour: str = Field(max_length=20)
    accent_colour: str = Field(max_length=20)
    title_font: str = FONTS[0]
    text_font: str = FONTS[1]
    host: str = Field(default="", max_length=300)
    sign_up: SignUp = "anyone"
    mail_domains: list[str] = []
    at_once: bool = True
    everything: bool = True
    products: list[int] = []
    groups: list[int] = []
    pages: list[PageIn] = []

    def typed(self) -> PortalTyped:
        """As the service takes it."""
        return PortalTyped(
            brand=Brand(
                name=self.name,
                welcome=self.welcome,
                main_colour=self.main_colour,
                accent_colour=self.accent_colour,
                title_font=self.title_font,
                text_font=self.text_font,
            ),
            entrance=Entrance(sign_up=self.sign_up, domains=tuple(self.mail_domains), at_once=self.at_once),
            host=self.host,
            everything=self.everything,
            products=self.products,
            groups=self.groups,
            pages=[Page(prefix=p.prefix, title=p.title, text=p.text) for p in self.pages],
        )


class Invited(BaseModel):
    """Who is invited."""

    email: str = Field(max_length=1000)


@router.get("/portals")
def all_portals(ctx: Asking) -> list[PortalView]:
    """All portals."""
    return portals.listed(ctx)


@router.post("/portals", status_code=201)
def make_portal(ctx: Asking, typed: PortalName) -> PortalView:
    """Another portal. It offers nothing, and nobody can sign up there, until that is changed."""
    return portals.create(ctx, typed.prefix, typed.name)


@router.get("/portals/contrast")
def judge_colours(ctx: Asking, main: str = MAIN, accent: str = ACCENT) -> list[Contrast]:
    """How well a portal's colours can be told apart; without any, those of a portal that was given none."""
    ctx.actor.must_be(*ROLES)
    return contrast.judged(contrast.colour(main, "main"), contrast.colour(accent, "accent"))


@router.get("/portals/fonts")
def shipped_fonts(ctx: Asking) -> list[str]:
    """The fonts a portal can have."""
    ctx.actor.must_be(*ROLES)
    return list(FONTS)


@router.get("/portals/{portal_id}")
def one_portal(ctx: Asking, portal_id: int) -> PortalView:
    """One portal."""
    return portals.one(ctx, portal_id)


@router.put("/portals/{portal_id}")
def save_portal(ctx: Asking, portal_id: int, edition: Edition, typed: PortalIn) -> PortalView:
    """Change a portal."""
    return portals.save(ctx, portal_id, edition, typed.typed())


@router.delete("/portals/{portal_id}", status_code=204)
def remove_portal(ctx: Asking, portal_id: int) -> None:
    """Take a portal away; the first stays."""
    portals.remove(ctx, portal_id)


@router.put("/portals/{portal_id}/pictures/{kind}")
def set_picture(ctx: Asking, portal_id: int, kind: Kind, content: Content) -> PortalView:
    """Give a portal a logo or an icon: the bytes of a PNG, JPEG, WebP or GIF, known by what they hold."""
    return portals.set_picture(ctx, portal_id, kind, content)


@router.delete("/portals/{portal_id}/pictures/{kind}")
def remove_picture(ctx: Asking, portal_id: int, kind: Kind) -> PortalView:
    """Take a portal's logo or icon away."""
    return portals.set_picture(ctx, portal_id, kind, None)


@router.get("/portals/{portal_id}/invitations")
def all_invited(ctx: Asking, portal_id: int) -> list[InvitationView]:
    """Who was invited and has not answered."""
    return invitations.listed(ctx, portal_id)


@router.post("/portals/{portal_id}/invitations", status_code=201)
def invite(ctx: Asking, portal_id: int, typed: Invited) -> InvitationView:
    """Invite somebody to make their organisation's account."""
    return invitations.invite(ctx, portal_id, typed.email)


@router.delete("/portals/{portal_id}/invitations", status_code=204)
def take_invitation_back(ctx: Asking, portal_id: int, email: str) -> None:
    """Take an invitation back."""
    invitations.take_back(ctx, portal_id, email)


@router.get("/portals/{portal_id}/sign-in")
def signs_in_through(ctx: Asking, portal_id: int) -> IdentityProviderView:
    """Through which outside provider people sign in to a portal, besides by password."""
    return identity_provider.of_portal(ctx, portal_id)


@router.put("/portals/{portal_id}/sign-in")
def sign_in_through(ctx: Asking, portal_id: int, typed: IdentityProviderIn) -> IdentityProviderView:
    """Have people sign in to a portal through an outside provider, too."""
    return identity_provider.set_provider(ctx, portal_id, IdentityProviderTyped(**typed.model_dump()))


@router.delete("/portals/{portal_id}/sign-in", status_code=204)
def sign_in_through_nobody(ctx: Asking, portal_id: int) -> None:
    """Have nobody sign in to a portal through an outside provider any more."""
    identity_provider.remove(ctx, portal_id)


@router.get("/portals/{portal_id}/own-site")
def own_site_of(ctx: Asking, portal_id: int) -> OwnSiteView:
    """Where accounts are made instead of at the portal, and whether documentation elsewhere may ask for keys."""
    return own_site.of_portal(ctx, portal_id)


@router.put("/portals/{portal_id}/own-site")
def set_own_site(ctx: Asking, portal_id: int, typed: OwnSiteIn) -> OwnSiteView:
    """Have accounts made at a site of one's own."""
    return own_site.set_site(ctx, portal_id, typed.sign_up_site)


@router.post("/portals/{portal_id}/documentation-secret", status_code=201)
def make_documentation_secret(ctx: Asking, portal_id: int) -> str:
    """A secret by which documentation elsewhere asks for somebody's keys, shown this once."""
    return own_site.make_secret(ctx, portal_id)


@router.delete("/portals/{portal_id}/documentation-secret", status_code=204)
def take_documentation_secret(ctx: Asking, portal_id: int) -> None:
    """Let no documentation ask any more."""
    own_site.take_secret(ctx, portal_id)
