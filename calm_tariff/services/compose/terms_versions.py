"""Versions of a product's terms of use: each is kept as it was, and whoever subscribes is asked to accept a newer
one."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.formats.letters import Prose
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.compose.products import Product, TermsOfUse


@dataclass(frozen=True, slots=True)
class TermsVersion:
    """A version of the terms of use, and how many of the product's consumers have accepted it."""

    number: int
    text: str
    dated: datetime
    written_by: str
    accepted: int


def of_product(ctx: Context, product_id: int) -> list[TermsVersion]:
    """All versions of a product's terms of use, newest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        accepted = subscribers.accepted_by_version(session, product_id)
        query = select(TermsOfUse).where(TermsOfUse.product_id == product_id).order_by(TermsOfUse.number.desc())
        return [
            TermsVersion(t.number, t.text, t.dated, t.written_by, accepted.get(t.number, 0))
            for t in session.scalars(query)
        ]


def keep(session: Session, ctx: Context, product: Product) -> None:
    """Keep the terms of use that a product has now as one of their versions."""
    session.add(
        TermsOfUse(
            product_id=product.id,
            number=product.terms_number,
            text=product.terms_of_use,
            dated=product.terms_dated,
            written_by=ctx.actor.name,
        )
    )


def ask_again(session: Session, ctx: Context, product: Product) -> None:
    """Tell the members of every subscribed consumer that the terms of use have a new version."""
    told = subscribers.members_of(session, subscribers.consumers_subscribed(session, product.id))
    fields = {"product": product.name, "terms": Prose(product.terms_of_use)}
    notice = Notice(kind="terms of use changed", fields=fields, page="/applications")
    notify(session, ctx, members(told), notice)
