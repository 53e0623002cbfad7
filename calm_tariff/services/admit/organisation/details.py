"""What an organisation's invoices and the provider's other systems go by: its address, its tax number, and what others
know it by."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.documents import tax
from calm_tariff.core.billing.documents.tax import Treatment
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.names import plain
from calm_tariff.formats import tax_numbers
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.consumers import Consumer, ConsumerReference
from calm_tariff.store.base.locking import locked

KEEPERS = ("product manager", "reviewer", "finance")
LONGEST_ADDRESS, LINES = 500, 8
LONGEST_SYSTEM, MOST = 40, 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Reference:
    """What another system knows a consumer by."""

    system: str
    reference: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Details:
    """An organisation's address as lines, its country (ISO 3166-1, two letters), its tax number in that country's form,
    how it is taxed (core.billing.documents.tax) and what exempts it, and its references elsewhere."""

    address: str = ""
    country: str = ""
    tax_number: str = ""
    tax_treatment: Treatment = "standard"
    tax_note: str = ""
    references: tuple[Reference, ...] = ()


def of(session: Session, consumer: Consumer) -> Details:
    """The details of a consumer."""
    query = select(ConsumerReference).where(ConsumerReference.consumer_id == consumer.id)
    references = session.scalars(query.order_by(ConsumerReference.system))
    return Details(
        address=consumer.address,
        country=consumer.country,
        tax_number=consumer.tax_number,
        tax_treatment=tax.treatment(consumer.tax_treatment),
        tax_note=consumer.tax_note,
        references=tuple(Reference(system=r.system, reference=r.reference) for r in references),
    )


def countries(ctx: Context) -> dict[str, str]:
    """The countries by their codes of two letters (ISO 3166-1)."""
    ctx.actor.must_be(*ROLES)
    return tax_numbers.countries()


def read(typed: Details) -> Details:
    """Details as they are kept. Raises `Invalid`, naming the field."""
    lines = [plain(line, "address") for line in typed.address.splitlines() if line.strip()]
    address = "\n".join(lines)
    if len(lines) > LINES or len(address) > LONGEST_ADDRESS:
        raise Invalid(f"must be at most {LINES} lines and {LONGEST_ADDRESS} characters", "address")
    country = tax_numbers.country(typed.country)
    number = tax_numbers.tax_number(typed.tax_number, country)
    if len(typed.references) > MOST:
        raise Invalid(f"at most {MOST} fit", "references")
    references: list[Reference] = []
    for place, each in enumerate(typed.references):
        system = plain(each.system, f"references.{place}.system", LONGEST_SYSTEM)
        if system in (r.system for r in references):
            raise Invalid(f"{system} stands there twice", f"references.{place}.system")
        references.append(Reference(system=system, reference=plain(each.reference, f"references.{place}.reference")))
    return Details(
        address=address,
        country=country,
        tax_number=number,
        tax_treatment=typed.tax_treatment,
        tax_note=tax.note(typed.tax_treatment, typed.tax_note, number),
        references=tuple(sorted(references, key=lambda r: r.system)),
    )


def change(ctx: Context, consumer_id: int, typed: Details) -> Details:
    """Have a consumer's details be these. Raises `NotFound`, `Invalid`, naming the field, or `Conflict` for an erased
    one and where a reference is another's."""
    ctx.actor.must_be(*KEEPERS)
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        if consumer.erased_at is not None:
            raise Conflict("its data was erased", consumer.name)
        return set_to(session, ctx, consumer, read(typed))


def set_to(session: Session, ctx: Context, consumer: Consumer, to: Details) -> Details:
    """Have the details of a consumer, which is held, be these, which were read. Raises `Conflict` where a reference is
    another's."""
    before = of(session, consumer)
    if before == to:
        return to
    for place, each in enumerate(to.references):
        query = select(Consumer.name).join(ConsumerReference, ConsumerReference.consumer_id == Consumer.id)
        query = query.where(ConsumerReference.system == each.system, ConsumerReference.reference == each.reference)
        other = session.scalar(query.where(Consumer.id != consumer.id))
        if other is not None:
            raise Conflict(f"{each.system} knows {other} by {each.reference}", f"references.{place}.reference")
    consumer.address, consumer.country, consumer.tax_number = to.address, to.country, to.tax_number
    consumer.tax_treatment, consumer.tax_note = to.tax_treatment, to.tax_note
    session.execute(delete(ConsumerReference).where(ConsumerReference.consumer_id == consumer.id))
    for each in to.references:
        session.add(ConsumerReference(consumer_id=consumer.id, system=each.system, reference=each.reference))
    session.flush()
    was, now = _said(before), _said(to)
    changed = {name for name in now if was[name] != now[name]}
    auditing.note(
        session,
        ctx,
        "changed an organisation's details",
        ("consumer", consumer.id, consumer.name),
        before={name: was[name] for name in was if name in changed},
        after={name: now[name] for name in now if name in changed},
    )
    return to


def _said(details: Details) -> dict[str, Any]:
    return {
        "address": details.address,
        "country": details.country,
        "tax number": details.tax_number,
        "tax": f"{details.tax_treatment}: {details.tax_note}" if details.tax_note else details.tax_treatment,
        "references": [f"{each.system}: {each.reference}" for each in details.references],
    }
