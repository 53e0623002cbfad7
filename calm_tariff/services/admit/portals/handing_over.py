"""Handing signing up and subscribing to the provider's own site: a person is sent there with a statement of who asks
for what. It is signed as tokens are, and good for some minutes; the site's back end answers through the console's API
(`services.admit.on_behalf`)."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from urllib.parse import urlencode, urlsplit

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.services.admit import owned, tokens
from calm_tariff.services.admit.portals import serving, storefront
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.compose.products import Plan, Product

LIFE = timedelta(minutes=5)


def to_sign_up(ctx: Context) -> str:
    """Where somebody goes who wants an account at the portal they came by. Raises `NotFound` where accounts are made
    there."""
    with ctx.transaction() as session:
        portal = _portal(session, ctx)
        if not portal.sign_up_site:
            raise NotFound("accounts are made at this portal itself", "sign_up_site")
        back = f"{serving.address(ctx, portal)}/sign-in"
        return _sent(session, ctx, portal, portal.sign_up_site, {"asks": "sign up", "back": back})


def to_subscribe(ctx: Context, slug: str, plan_id: int, application_id: int | None = None) -> str:
    """Where the signed-in member goes who chose a plan, for one of their applications or a new one. Raises `NotFound`
    where the plan is not to be had, is chosen here, or the application is another's."""
    ctx.actor.consumer_to("ask for plans")
    with ctx.transaction() as session:
        product, plans = storefront.found(session, ctx, slug)
        plan = next((each for each in plans if each.id == plan_id), None)
        if plan is None or not product.subscribing_site:
            raise NotFound("no such plan is chosen elsewhere", str(plan_id))
        portal, member = _portal(session, ctx), session.get_one(Member, ctx.actor.member_id)
        said: dict[str, Any] = {
            "asks": "subscribe",
            "product": product.slug,
            "plan": {"id": plan.id, "name": plan.name},
            "member": {"name": member.name, "email": member.email, "role": member.role},
            "consumer": {"id": member.consumer_id, "name": member.consumer.name},
            "back": f"{serving.address(ctx, portal)}/applications",
        }
        if application_id is not None:
            application = owned.application(session, ctx, application_id)
            said["application"] = {"id": application.id, "name": application.name}
        return _sent(session, ctx, portal, product.subscribing_site, said)


def refuse_here(ctx: Context, plan_id: int) -> None:
    """Raise `Conflict` for a plan that is chosen at the provider's own site, and not here."""
    with ctx.transaction() as session:
        plan = session.get(Plan, plan_id)
        product = session.get(Product, plan.product_id) if plan else None
        if product is not None and product.subscribing_site:
            site = urlsplit(product.subscribing_site).netloc
            raise Conflict(f"plans of {product.name} are chosen at {site}", "plan_id")


def refuse_sign_up(ctx: Context) -> None:
    """Raise `Conflict` where accounts are made at the provider's own site, and not here."""
    with ctx.transaction() as session:
        site = _portal(session, ctx).sign_up_site
        if site:
            raise Conflict(f"accounts are made at {urlsplit(site).netloc}", "email")


def _portal(session: Session, ctx: Context) -> Portal:
    here = ctx.actor.portal_id
    return serving.first(session) if here is None else session.get_one(Portal, here)


def _sent(session: Session, ctx: Context, portal: Portal, site: str, said: dict[str, Any]) -> str:
    url = urlsplit(site)
    claims = {"aud": f"{url.scheme}://{url.netloc}", "portal": {"id": portal.id, "name": portal.name}, **said}
    query = urlencode({"statement": tokens.statement(session, ctx, claims, LIFE)})
    return url._replace(query=f"{url.query}&{query}" if url.query else query).geturl()
