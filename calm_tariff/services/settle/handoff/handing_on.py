"""Handing usage on: what waits and is mapped goes out in batches, each under one key until it is answered, with the
same bytes however often it is sent.

Whoever dies between sending and writing down the answer sends the batch again: the outside counts it once.

Source: docs/arithmetic.md, section 8.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from hashlib import sha256
from typing import Any

from sqlalchemy import ColumnElement, Select, case, func, select, update
from sqlalchemy.orm import Session, aliased

from calm_tariff.core.errors import Away, Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import HANDED, move
from calm_tariff.core.sentences.listing import so_many
from calm_tariff.formats.handed_usage import HandedHour, batch
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.outside_billing import OutsideBilling, Taken
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import all_locked, hold_all, locked
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.settle.handoff import (
    HandedBatch,
    HandedTry,
    HandedUnits,
    OutsideCustomer,
    PlanPrice,
    SubscriptionPrice,
)

HAND_ON, SEND_AGAIN = "hand usage on", "send handed usage again"
SUBJECT = "outside billing"
# So many events go in one batch, and so many batches in one turn.
AT_ONCE, IN_ONE_TURN = 500, 20
LONGEST_WORDS = 2000


class NotTaken(Exception):
    """The outside did not take a batch; it is sent again."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Outgoing:
    """A batch on its way: its id here, the key it is known by outside, and its body."""

    batch_id: int
    key: str
    body: bytes


def hand_on(ctx: Context, billing: OutsideBilling) -> datetime | None:
    """Send what waits, batch by batch; when to go on, where there is more. Raises `NotTaken` at the first batch that is
    not taken."""
    for _ in range(IN_ONE_TURN):
        out = _next(ctx)
        if out is None:
            return None
        _sent(ctx, billing, out)
    return ctx.now


def send_again(ctx: Context, billing: OutsideBilling, batch_id: int) -> bool:
    """Send what was accepted of a batch once more as it was, under a key of its own; whether there was anything to
    send. Raises `NotTaken`."""
    with ctx.transaction() as session:
        found = session.get(HandedBatch, batch_id)
        out = _outgoing(session, found) if found is not None and found.accepted else None
    if out is None:
        return False
    _sent(ctx, billing, replace(out, key=_key(ctx)))
    return True


def see_to(session: Session, ctx: Context) -> None:
    """Have what waits handed on, where anything may be: a try that failed keeps its pause."""
    under_way = session.scalar(select(HandedBatch.id).where(HandedBatch.answered_at.is_(None)).limit(1))
    if under_way is not None or session.execute(_ready().limit(1)).first() is not None:
        jobs.see_to(session, ctx, HAND_ON, SUBJECT, {}, subject=SUBJECT)


def soon(session: Session, ctx: Context) -> None:
    """Have what waits handed on now, with all its tries."""
    jobs.write(session, ctx, HAND_ON, SUBJECT, {}, subject=SUBJECT)


def resend(ctx: Context, batch_id: int) -> None:
    """Have what was accepted of a batch sent once more as it was, for an outside that has lost it. Raises `NotFound`,
    or `Conflict` for one that is still being sent."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        found = session.get(HandedBatch, batch_id)
        if found is None:
            raise NotFound("there is no such batch", str(batch_id))
        if found.answered_at is None:
            raise Conflict("is being sent until it is answered", f"batch {batch_id}")
        thing = Thing("outside billing", batch_id, f"batch {batch_id}")
        auditing.note(session, ctx, "had usage handed on again", thing, after={"events": found.events})
        about, arguments = f"batch {batch_id}", {"batch": batch_id}
        jobs.write(session, ctx, SEND_AGAIN, about, arguments, subject=str(batch_id))


def retry(ctx: Context, handed_id: int) -> None:
    """Have units that were refused handed on again, as they are mapped now. Raises `NotFound`, or `Conflict` where they
    were not refused."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        if session.get(HandedUnits, handed_id) is None:
            raise NotFound("there is nothing that was handed on by this id", str(handed_id))
        (found,) = all_locked(session, HandedUnits, [handed_id])
        _wait_again(session, ctx, [found])


def retry_all(ctx: Context) -> int:
    """Have everything that was refused handed on again; how much it is."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        ids = session.scalars(select(HandedUnits.id).where(HandedUnits.state == "refused")).all()
        found = [each for each in all_locked(session, HandedUnits, ids) if each.state == "refused"]
        if found:
            _wait_again(session, ctx, found)
        return len(found)


def release(session: Session, ctx: Context, which: ColumnElement[bool]) -> None:
    """Have those handed on again that were refused, of some, because they are mapped otherwise now; and what waited."""
    ids = session.scalars(select(HandedUnits.id).where(HandedUnits.state == "refused", which)).all()
    for each in all_locked(session, HandedUnits, ids):
        if each.state == "refused":
            _waiting(each)
    soon(session, ctx)


def of_batch(session: Session, found: HandedBatch) -> tuple[list[HandedUnits], bytes]:
    """A batch's events as they are now, in the order in which they were sent, and the body that they make: those that
    are being sent, or, once it was answered, those that were accepted."""
    state = "sent" if found.answered_at is None else "accepted"
    query = select(HandedUnits).where(HandedUnits.batch_id == found.id, HandedUnits.state == state)
    query = query.order_by(HandedUnits.id)
    units = list(session.scalars(query))
    keys = dict(session.execute(select(Meter.id, Meter.key)).all())
    return units, batch(_hour(each, keys) for each in units)


def waiting() -> Select[Any]:
    """What waits, with the customer and the price that it goes to, as far as they are known: those that what was
    accepted of the same hour went to, else those that it is mapped to now."""
    return (
        select(HandedUnits.id, CUSTOMER.label("customer"), PRICE.label("price"))
        .join(Subscription, Subscription.id == HandedUnits.subscription_id)
        .join(Application, Application.id == Subscription.application_id)
        .outerjoin(OutsideCustomer, OutsideCustomer.consumer_id == Application.consumer_id)
        .outerjoin(SubscriptionPrice, SubscriptionPrice.subscription_id == Subscription.id)
        .outerjoin(PlanPrice, PlanPrice.plan_id == HandedUnits.plan_id)
        .where(HandedUnits.state == "waiting")
    )


_BEFORE = aliased(HandedUnits)


def _went_to(column: Any) -> Any:
    """What was accepted of the same hour went there; nothing for what was refused there since."""
    same = (
        (_BEFORE.subscription_id == HandedUnits.subscription_id)
        & (_BEFORE.meter_id == HandedUnits.meter_id)
        & (_BEFORE.hour_us == HandedUnits.hour_us)
    )
    query = (
        select(column)
        .where(same, _BEFORE.state == "accepted", HandedUnits.anew.is_(False))
        .order_by(_BEFORE.revision)
        .limit(1)
    )
    return query.correlate(HandedUnits).scalar_subquery()


# Who was given another number there is the same customer.
_FORMER = _went_to(_BEFORE.customer)
_RENUMBERED = func.json_contains(OutsideCustomer.formerly, func.json_quote(_FORMER)) == 1
CUSTOMER = case(
    (_FORMER.is_(None) | _RENUMBERED, OutsideCustomer.customer),
    else_=_FORMER,
)
PRICE = func.coalesce(_went_to(_BEFORE.price), SubscriptionPrice.price, PlanPrice.price)


def _ready() -> Select[Any]:
    """What waits and is mapped, the oldest hour first."""
    mapped = waiting().where(CUSTOMER.is_not(None), PRICE.is_not(None))
    return mapped.order_by(HandedUnits.hour_us, HandedUnits.id)


def _next(ctx: Context) -> Outgoing | None:
    """The batch to be sent now: one that was not answered yet, or one made of what waits; None where nothing may be
    sent."""
    with ctx.transaction() as session:
        going = session.scalar(
            select(HandedBatch).where(HandedBatch.answered_at.is_(None)).order_by(HandedBatch.id).limit(1)
        )
        if going is None:
            going = _made(session, ctx)
        return _outgoing(session, going) if going is not None else None


def _made(session: Session, ctx: Context) -> HandedBatch | None:
    goes_to: dict[tuple[str, str], list[int]] = {}
    for row in session.execute(_ready().limit(AT_ONCE)):
        goes_to.setdefault((row.customer, row.price), []).append(row.id)
    if not goes_to:
        return None
    made = HandedBatch(key=_key(ctx), made_at=ctx.now, events=0, units=Decimal(0), digest="")
    session.add(made)
    session.flush()
    hold_all(session, HandedUnits, [each for ids in goes_to.values() for each in ids])
    many = 0
    for (customer, price), ids in goes_to.items():
        sent = {"batch_id": made.id, "customer": customer, "price": price}
        many += _moved(session, HandedUnits.id.in_(ids), "waiting", "sent", **sent)
    made.events = many
    _summed(session, made)
    return made


def _moved(session: Session, which: ColumnElement[bool], state: str, to: str, **values: Any) -> int:
    """Units of some that are in a state are in another from now on; how many they are."""
    assert to in HANDED[state]
    change = update(HandedUnits).where(which, HandedUnits.state == state).values(state=to, **values)
    done = session.execute(change, execution_options={"synchronize_session": False})
    session.expire_all()
    return int(done.rowcount)  # type: ignore[attr-defined]


def _summed(session: Session, of: HandedBatch) -> None:
    """Write down what a batch's events come to, and the digest of their body."""
    units, body = of_batch(session, of)
    of.units, of.digest = sum((each.units for each in units), Decimal(0)), sha256(body).hexdigest()


def _key(ctx: Context) -> str:
    return f"usage-{ctx.token()[:32]}"


def _outgoing(session: Session, found: HandedBatch) -> Outgoing:
    """A batch as it is sent. Raises `Conflict` where its events are no longer what they were."""
    _, body = of_batch(session, found)
    if sha256(body).hexdigest() != found.digest:
        raise Conflict("is not as it was when it was made; it is not sent", f"batch {found.id}")
    return Outgoing(batch_id=found.id, key=found.key, body=body)


def _sent(ctx: Context, billing: OutsideBilling, out: Outgoing) -> None:
    begun = time.monotonic()
    try:
        taken = billing.hand_on(out.key, out.body, ctx.now)
        error = _answered(ctx, out, taken, _ms(begun))
    except Away as away:
        error = str(away)
        with ctx.transaction() as session:
            _tried(session, ctx, out, error, _ms(begun), taken=False)
    if error:
        raise NotTaken(error)


def _answered(ctx: Context, out: Outgoing, answer: Taken, took_ms: int) -> str:
    """Write down what became of a batch; or what is wrong with the answer: then nothing has become of it."""
    with ctx.transaction() as session:
        found = locked(session, HandedBatch, out.batch_id)
        assert found is not None
        ids = {each.event_id: each.id for each in of_batch(session, found)[0]}
        told = answer.accepted | answer.refused.keys()
        if told != ids.keys() or answer.accepted & answer.refused.keys():
            wrong = f"said what became of {so_many(len(told), 'event')}, and was sent {len(ids)}"
            _tried(session, ctx, out, wrong, took_ms, taken=False)
            return wrong
        said = f"accepted {len(answer.accepted)}"
        said += f" and refused {len(answer.refused)}" if answer.refused else ""
        _tried(session, ctx, out, said, took_ms, taken=True)
        if found.answered_at is not None:  # it was sent again: what became of it at first stands
            return ""
        hold_all(session, HandedUnits, list(ids.values()))
        reasons: dict[str, list[int]] = {}
        for of, why in answer.refused.items():
            reasons.setdefault(why[:LONGEST_WORDS], []).append(ids[of])
        _moved(
            session, HandedUnits.id.in_([ids[of] for of in answer.accepted]), "sent", "accepted", answered_at=ctx.now
        )
        for why, some in reasons.items():
            _moved(session, HandedUnits.id.in_(some), "sent", "refused", answered_at=ctx.now, refused_why=why)
        found.answered_at, found.accepted, found.refused = ctx.now, len(answer.accepted), len(answer.refused)
        session.flush()
        _summed(session, found)
        return ""


def _tried(session: Session, ctx: Context, out: Outgoing, said: str, took_ms: int, *, taken: bool) -> None:
    words = said[:LONGEST_WORDS]
    session.add(HandedTry(batch_id=out.batch_id, at=ctx.now, taken=taken, said=words, took_ms=took_ms))


def _wait_again(session: Session, ctx: Context, found: Sequence[HandedUnits]) -> None:
    for each in found:
        _waiting(each)
    thing = Thing("outside billing", found[0].id, f"{len(found)} refused events")
    auditing.note(session, ctx, "had usage handed on again", thing, after={"events": len(found)})
    soon(session, ctx)


def _waiting(of: HandedUnits) -> None:
    """Units that were refused leave their batch and wait again, under the id that they had, as they are mapped now."""
    of.state = move(HANDED, "the units", of.state, "waiting")
    of.customer = of.price = of.batch_id = of.answered_at = None
    of.refused_why, of.anew = "", True


def _hour(of: HandedUnits, keys: Mapping[int, str]) -> HandedHour:
    return HandedHour(
        of=of.of,
        revision=of.revision,
        meter=keys[of.meter_id],
        customer=of.customer or "",
        price=of.price or "",
        units=of.units,
        trial=of.trial,
    )


def _ms(begun: float) -> int:
    return round((time.monotonic() - begun) * 1000)
