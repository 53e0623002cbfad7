"""The finder: consumers, applications, key prefixes, plans, invoices and call ids by a few letters."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.compose.apis import Api, ApiVersion
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.serve import call_queries
from calm_tariff.store.settle.money_documents import CreditNote, Invoice

EACH = 5


@dataclass(frozen=True, slots=True)
class Found:
    """Something found: what it is, its name, and where it is."""

    kind: str
    name: str
    link: str


def find(ctx: Context, words: str) -> list[Found]:
    """The best few of each kind."""
    ctx.actor.must_be(*ROLES)
    words = words.strip()
    if not words:
        return []
    like = "%" + words.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
    with ctx.reading() as session:
        found: list[Found] = []
        for c in session.scalars(select(Consumer).where(Consumer.name.ilike(like)).order_by(Consumer.name).limit(EACH)):
            found.append(Found("consumer", c.name, f"/admit/consumers/{c.id}"))
        for a in session.scalars(select(Application).where(Application.name.ilike(like)).limit(EACH)):
            found.append(Found("application", f"{a.name}, {a.consumer.name}", f"/admit/consumers/{a.consumer_id}"))
        for k in session.scalars(select(ApiKey).where(ApiKey.prefix.like(like)).limit(EACH)):
            owner = k.application
            found.append(Found("key", f"{k.prefix}… of {owner.name}", f"/admit/consumers/{owner.consumer_id}"))
        for p in session.scalars(select(Product).where(Product.name.ilike(like)).limit(EACH)):
            found.append(Found("product", p.name, f"/compose/products/{p.id}"))
        for plan in session.scalars(select(Plan).where(Plan.name.ilike(like)).limit(EACH)):
            found.append(Found("plan", f"{plan.product.name} · {plan.name}", f"/compose/products/{plan.product_id}"))
        for v in session.scalars(select(ApiVersion).join(Api).where(Api.name.ilike(like)).limit(EACH)):
            found.append(Found("API", f"{v.api.name} {v.version}", f"/compose/apis/{v.id}"))
        for m in session.scalars(select(Meter).where(Meter.name.ilike(like)).limit(EACH)):
            found.append(Found("meter", m.name, f"/compose/meters/{m.id}"))
        for i in session.scalars(select(Invoice).where(Invoice.number.like(like)).limit(EACH)):
            found.append(Found("invoice", f"{i.number}, {i.consumer.name}", f"/settle/invoices/{i.id}"))
        for n in session.scalars(select(CreditNote).where(CreditNote.number.like(like)).limit(EACH)):
            found.append(Found("credit note", f"{n.number}, {n.consumer.name}", f"/settle/credit-notes/{n.id}"))
        if len(words) == 26 and call_queries.one(session, words.upper()):
            found.append(Found("call", words.upper(), f"/observe/traffic?call={words.upper()}"))
        return found
