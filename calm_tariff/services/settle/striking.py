"""Striking recorded calls out, with a preview of what that changes, and having them count again.

Source: docs/arithmetic.md, sections 5 and 6.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import reasons
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.ids import outside_call_id
from calm_tariff.core.names import cut
from calm_tariff.core.periods import day_start, local_day, moment_of, month_of
from calm_tariff.core.rating import rate
from calm_tariff.core.sentences.listing import so_many
from calm_tariff.core.striking import MOST_CALLS, must_be_as_shown, must_fit, named
from calm_tariff.services.base import auditing, idempotency, stamps
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.periods import reckoning
from calm_tariff.services.settle.usage_consequences import UnitsTold
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import strikes
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.strikes import Counted, Strike
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.settle.money_documents import Invoice


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """Which calls are meant: those of a consumer that a filter means, from one of the provider's days to another where
    these are given, or those of a source that are named."""

    filter: CallFilter
    first_day: date | None = None
    last_day: date | None = None
    source: str = ""
    ids: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class StruckMonth:
    """What it changes of a consumer's month, before tax: what that comes to now, and would come to. With an invoice by
    `number` the month is issued, and the difference is proposed as a credit note for it."""

    month: date
    calls: int
    units: list[UnitsTold]
    before: Decimal
    after: Decimal
    invoice_id: int | None
    number: str


@dataclass(frozen=True, slots=True, kw_only=True)
class StrikePreview:
    """What striking calls out would change: how many calls, of which consumer, between which moments, by month."""

    consumer_id: int
    consumer: str
    calls: int
    first_at: datetime | None
    last_at: datetime | None
    months: list[StruckMonth]


@dataclass(frozen=True, slots=True, kw_only=True)
class StrikeView:
    """Calls that were struck out, by whom, when and why, and what they came to. With `undone_at` they count again."""

    id: int
    consumer_id: int
    consumer: str
    calls: int
    first_at: datetime
    last_at: datetime
    units: list[UnitsTold]
    at: datetime
    by: str
    why: str
    undone_at: datetime | None
    undone_by: str
    undone_why: str


def preview(ctx: Context, wanted: Wanted) -> StrikePreview:
    """What striking calls out would change. Raises `NotFound`, `Invalid`, or `Conflict` where it would be too many."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        consumer, calls = _meant(session, wanted)
        must_fit(len(calls))
        return StrikePreview(
            consumer_id=consumer.id,
            consumer=consumer.name,
            calls=len(calls),
            first_at=moment_of(calls[0].at_us) if calls else None,
            last_at=moment_of(calls[-1].at_us) if calls else None,
            months=_months(session, consumer.id, calls),
        )


def strike_out(ctx: Context, wanted: Wanted, why: str, shown: int, key: str | None = None) -> StrikeView:
    """Strike calls out: all that a preview has `shown`, or none. They stay recorded, marked, and no longer count.
    Raises `NotFound`, `Invalid`, or `Conflict` where other calls are meant by now."""
    ctx.actor.must_be("finance")
    reason = reasons.given(why, field="why")
    with ctx.transaction() as session:
        known = idempotency.answered(session, ctx, key, "strike")
        if known is not None:
            return _views(session, [session.get_one(Strike, known["strike_id"])])[0]
        # No call comes meanwhile, and none is struck out by somebody else.
        stamps.hold(session, ctx, stamps.SHIPPING)
        consumer, calls = _meant(session, wanted)
        must_be_as_shown(len(calls), shown)
        made = Strike(
            consumer_id=consumer.id,
            at=ctx.now,
            by=cut(ctx.actor.name),
            identity=ctx.actor.identity,
            why=reason,
            wanted=_kept(wanted),
            call_ids=[call.call_id for call in calls] if wanted.ids else [],
            calls=len(calls),
            units={str(meter): str(units) for meter, units in _units(calls).items()},
            since_us=calls[0].at_us,
            last_us=calls[-1].at_us,
        )
        session.add(made)
        session.flush()
        strikes.mark(session, calls, made.id)
        reckoning.forget(session, ctx)
        auditing.note(session, ctx, "struck calls out", _subject(made, consumer), after=_told(made), why=reason)
        idempotency.remember(session, ctx, key, {"strike_id": made.id})
        return _views(session, [made])[0]


def undo(ctx: Context, strike_id: int, why: str) -> StrikeView:
    """Have calls count again that were struck out. Raises `NotFound`, or `Conflict` where they do, or are not kept any
    more."""
    ctx.actor.must_be("finance")
    reason = reasons.given(why, field="why")
    with ctx.transaction() as session:
        held = locked(session, Strike, strike_id)
        if held is None:
            raise NotFound("no such calls were struck out", str(strike_id))
        if held.undone_at is not None:
            raise Conflict("they count again already", f"strike {strike_id}")
        stamps.hold(session, ctx, stamps.SHIPPING)
        between = CallFilter(consumer_id=held.consumer_id, since_us=held.since_us, until_us=held.last_us + 1)
        calls = strikes.meant(session, between, held.call_ids, MOST_CALLS, of=held.id)
        if len(calls) != held.calls:
            raise Conflict("some of these calls are not kept any more", f"strike {strike_id}")
        strikes.mark(session, calls, None)
        held.undone_at, held.undone_by, held.undone_why = ctx.now, cut(ctx.actor.name), reason
        subject = _subject(held, session.get_one(Consumer, held.consumer_id))
        reckoning.forget(session, ctx)
        auditing.note(session, ctx, "had struck calls count again", subject, after=_told(held), why=reason)
        return _views(session, [held])[0]


def listed(ctx: Context, wanted: PageQuery) -> Page[StrikeView]:
    """A page of what was struck out, the latest first. Words narrow it to consumers."""
    ctx.actor.must_be(*ROLES)
    query = select(Strike).join(Consumer, Consumer.id == Strike.consumer_id)
    if wanted.words:
        query = query.where(Consumer.name.contains(wanted.words, autoescape=True))
    with ctx.reading() as session:
        asked = replace(wanted, down=not wanted.down)
        found = page(session, query, Strike.id, {"at": Strike.at}, asked)
        return replace(found, rows=_views(session, found.rows))


def one(ctx: Context, strike_id: int) -> StrikeView:
    """One of them. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.get(Strike, strike_id)
        if found is None:
            raise NotFound("no such calls were struck out", str(strike_id))
        return _views(session, [found])[0]


def _meant(session: Session, wanted: Wanted) -> tuple[Consumer, list[Counted]]:
    """The calls that are meant and count, in the order they came, and whose they are."""
    call_ids = _call_ids(session, wanted)
    chosen = _within_days(session, wanted)
    if call_ids:
        chosen = CallFilter(consumer_id=_owner(session, call_ids))
    if chosen.consumer_id is None:
        raise Invalid("say whose calls, or name them", "consumer")
    consumer = session.get(Consumer, chosen.consumer_id)
    if consumer is None:
        raise NotFound("there is no such consumer", str(chosen.consumer_id))
    found = strikes.meant(session, chosen, call_ids, MOST_CALLS)
    return consumer, sorted(found, key=lambda call: (call.at_us, call.call_id))


def _within_days(session: Session, wanted: Wanted) -> CallFilter:
    """The filter with the days it is narrowed to as well."""
    where, chosen = zone_of(session), wanted.filter
    if wanted.first_day is not None:
        begin = day_start(wanted.first_day, where)
        chosen = replace(chosen, since_us=max(begin, chosen.since_us or begin))
    if wanted.last_day is not None:
        end = day_start(wanted.last_day + timedelta(days=1), where)
        chosen = replace(chosen, until_us=min(end, chosen.until_us or end))
    return chosen


def _call_ids(session: Session, wanted: Wanted) -> list[str]:
    """The ids by which calls that are named are kept: our own by these, those of others by what their source calls
    them. Raises `NotFound` for one that is none."""
    names = named(wanted.source, wanted.ids)
    kept = {name: (name, outside_call_id(wanted.source, name)) for name in names}
    every = [each for pair in kept.values() for each in pair]
    query = select(Call.call_id).where(Call.call_id.in_(every), Call.source == wanted.source)
    there = set(session.scalars(query)) if every else set()
    for name, pair in kept.items():
        if not there.intersection(pair):
            raise NotFound(f"no call that {wanted.source} calls {name} is recorded", "ids")
    return sorted(there)


def _owner(session: Session, call_ids: Sequence[str]) -> int:
    successors = merged.successors(session)
    owners = set(session.scalars(select(Call.consumer_id).where(Call.call_id.in_(call_ids)).distinct()))
    found = {successors.get(owner, owner) for owner in owners if owner is not None}
    if len(found) != 1:
        raise Invalid("are of several consumers, or of nobody: name those of one", "ids")
    return found.pop()


def _units(calls: Iterable[Counted]) -> dict[int, Decimal]:
    sums: dict[int, Decimal] = {}
    for call in calls:
        for meter, units in call.units.items():
            sums[int(meter)] = sums.get(int(meter), Decimal(0)) + Decimal(units)
    return sums


def _months(session: Session, consumer_id: int, calls: Sequence[Counted]) -> list[StruckMonth]:
    """What striking these calls out changes, by month."""
    where = zone_of(session)
    by_month: dict[date, list[Counted]] = {}
    for call in calls:
        by_month.setdefault(month_of(local_day(call.at_us, where)).start, []).append(call)
    names = {meter.id: meter for meter in session.scalars(select(Meter))} if calls else {}
    owners = merged.with_merged(session, consumer_id)
    found = []
    for start, own in sorted(by_month.items()):
        taken: dict[tuple[int, str], Decimal] = {}
        for call in own:
            for meter, units in call.units.items():
                place = call.stay_id or 0, names[int(meter)].key
                taken[place] = taken.get(place, Decimal(0)) + Decimal(units)
        cases = rating_cases.cases(session, month_of(start), owners)
        invoice = session.scalar(
            select(Invoice).where(
                Invoice.period_start == start, Invoice.consumer_id.in_(owners), Invoice.state != "draft"
            )
        )
        found.append(
            StruckMonth(
                month=start,
                calls=len(own),
                units=_named_units(names, _units(own)),
                before=sum((rate(each.case).subtotal for each in cases), Decimal(0)),
                after=sum((rate(each.without(taken)).subtotal for each in cases), Decimal(0)),
                invoice_id=invoice.id if invoice else None,
                number=(invoice.number or "") if invoice else "",
            )
        )
    return found


def _named_units(names: dict[int, Meter], units: dict[int, Decimal]) -> list[UnitsTold]:
    return [UnitsTold(meter_id=meter, meter=names[meter].name, units=each) for meter, each in sorted(units.items())]


def _views(session: Session, of: Sequence[Strike]) -> list[StrikeView]:
    successors = merged.successors(session)
    go_on = {each.consumer_id: successors.get(each.consumer_id, each.consumer_id) for each in of}
    named_ = select(Consumer.id, Consumer.name).where(Consumer.id.in_(go_on.values()))
    names = {consumer: name for consumer, name in session.execute(named_)}  # noqa: C416
    meters = {meter.id: meter for meter in session.scalars(select(Meter))} if of else {}
    return [
        StrikeView(
            id=each.id,
            consumer_id=go_on[each.consumer_id],
            consumer=names[go_on[each.consumer_id]],
            calls=each.calls,
            first_at=moment_of(each.since_us),
            last_at=moment_of(each.last_us),
            units=_named_units(meters, {int(meter): Decimal(units) for meter, units in each.units.items()}),
            at=each.at,
            by=each.by,
            why=each.why,
            undone_at=each.undone_at,
            undone_by=each.undone_by,
            undone_why=each.undone_why,
        )
        for each in of
    ]


def _kept(wanted: Wanted) -> dict[str, Any]:
    """How calls were chosen, as it is kept."""
    days = {"first_day": wanted.first_day, "last_day": wanted.last_day}
    said = {name: value for name, value in asdict(wanted.filter).items() if value is not None}
    return said | {name: day.isoformat() for name, day in days.items() if day is not None}


def _subject(of: Strike, consumer: Consumer) -> Thing:
    return Thing("strike", of.id, f"{so_many(of.calls, 'call')} of {consumer.name}", consumer.id)


def _told(of: Strike) -> dict[str, str]:
    return {"calls": str(of.calls), "first": moment_of(of.since_us).isoformat(), **of.units}
