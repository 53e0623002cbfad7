"""How far a new installation has come on the way to its first served call."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.first_steps import Step, walk
from calm_tariff.core.sentences.first_steps import IN_WORDS
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.admit.applications import ApiKey
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.products import PlanRevision, Product
from calm_tariff.store.serve.usage import Call

# That there is one of these is the sign that a step is done.
_SIGNS: dict[Step, type[ApiVersion | Product | PlanRevision | ApiKey]] = {
    "api": ApiVersion,
    "product": Product,
    "plan": PlanRevision,
    "key": ApiKey,
}
_LINKS: dict[Step, str] = {
    "settings": "/house/settings",
    "api": "/compose/apis/new",
    "product": "/compose/products/new",
    "plan": "/compose/products",
    "call": "/observe/traffic",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class FirstStep:
    """A step on the way to the first served call: what is done in it, what leads there, and how it stands."""

    title: str
    detail: str
    action: str
    link: str
    done: bool
    next: bool


def first_steps(session: Session, ctx: Context) -> list[FirstStep]:
    """The steps of an installation that has served no call yet; none afterwards."""
    if session.scalar(select(Call.call_id).where(Call.verdict.in_(("served", "held"))).limit(1)) is not None:
        return []
    done = {step for step, table in _SIGNS.items() if session.scalar(select(table.id).limit(1)) is not None}
    if provider_of(session).settled_at is not None:
        done.add("settings")
    portal = session.scalars(select(Portal).order_by(Portal.id).limit(1)).first()
    return [
        FirstStep(
            title=IN_WORDS[each.step][0],
            detail=IN_WORDS[each.step][1],
            action=IN_WORDS[each.step][2],
            link=_LINKS.get(each.step) or f"{ctx.web_address.rstrip('/')}{portal.path if portal else ''}/",
            done=each.done,
            next=each.next,
        )
        for each in walk(done)
    ]
