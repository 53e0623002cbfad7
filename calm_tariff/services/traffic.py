"""Recorded calls: the log, figures by minute, and the receipt of one call."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any, cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.limits import Limit, Pace, Quota, Rate
from calm_tariff.core.periods import MINUTE, moment_of
from calm_tariff.core.sentences import limit_sentence, number, words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.context import ROLES, Context
from calm_tariff.store import call_queries
from calm_tariff.store.admission import ApiKey, Application
from calm_tariff.store.call_queries import CallFilter
from calm_tariff.store.catalogue import Meter, Operation, PlanRevision
from calm_tariff.store.usage import Call

PAGE = 40


@dataclass(frozen=True, slots=True)
class CallLine:
    """A line of the log. `at` is when the call came; `took_us` the whole time it took."""

    call_id: str
    at: datetime
    operation: str
    consumer_id: int | None
    consumer: str
    application: str
    status: int
    took_us: int
    wait_us: int
    verdict: str
    refused_by: str | None


@dataclass(frozen=True, slots=True)
class CallPage:
    """Lines, newest first; `next` is the cursor of the page after; `total` counts all that match."""

    calls: list[CallLine]
    next: str | None
    total: int


@dataclass(frozen=True, slots=True)
class Minute:
    """Verdicts of one minute."""

    at: datetime
    served: int
    held: int
    refused: int


@dataclass(frozen=True, slots=True)
class Recent:
    """The last half hour: totals and minutes. `held_ms` is the mean wait of held calls."""

    served: int
    held: int
    held_ms: int
    refused: int
    minutes: list[Minute]
    newest: str | None


@dataclass(frozen=True, slots=True)
class Rung:
    """One step of a receipt's ladder. With `allowed`, a ruler is drawn: `used` of `allowed`."""

    state: str
    title: str
    note: str
    kind: str
    used: Decimal | None = None
    allowed: Decimal | None = None
    link: str | None = None


@dataclass(frozen=True, slots=True)
class Receipt:
    """Everything that was checked for one call, in order, and what the caller was told."""

    call: CallLine
    summary: str
    rungs: list[Rung]
    told: list[str]


def log(ctx: Context, wanted: CallFilter, cursor: str | None = None) -> CallPage:
    """A page of the log for the provider's staff."""
    ctx.actor.must_be(*ROLES)
    return _log(ctx, wanted, cursor)


def own_log(ctx: Context, wanted: CallFilter, cursor: str | None = None) -> CallPage:
    """A page of the signed-in consumer's own calls, whatever consumer the filter names."""
    mine = CallFilter(
        verdict=wanted.verdict,
        consumer_id=ctx.actor.own_consumer,
        subscription_id=wanted.subscription_id,
        application_id=wanted.application_id,
        meter_id=wanted.meter_id,
        since_us=wanted.since_us,
        until_us=wanted.until_us,
    )
    return _log(ctx, mine, cursor)


def recent(ctx: Context, wanted: CallFilter, minutes: int = 30) -> Recent:
    """Verdicts of the last minutes, the present one included."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        last = ctx.now_us // MINUTE * MINUTE
        first = last - (minutes - 1) * MINUTE
        narrowed = CallFilter(verdict=wanted.verdict, consumer_id=wanted.consumer_id, since_us=first)
        counts: dict[int, dict[str, int]] = {}
        totals = {"served": 0, "held": 0, "refused": 0}
        waited = 0
        for row in call_queries.by_minute(session, narrowed):
            counts.setdefault(row.minute_us, {})[row.verdict] = row.calls
            totals[row.verdict] += row.calls
            waited += row.waited_us
        newest = call_queries.page(session, narrowed, None, 1)
        shown = [
            Minute(
                moment_of(at),
                *(counts.get(at, {}).get(v, 0) for v in ("served", "held", "refused")),
            )
            for at in range(first, last + 1, MINUTE)
        ]
        held_ms = round(waited / 1000 / totals["held"]) if totals["held"] else 0
        return Recent(
            totals["served"], totals["held"], held_ms, totals["refused"], shown, newest[0].call_id if newest else None
        )


def receipt(ctx: Context, call_id: str) -> Receipt:
    """The receipt of any call, for the provider's staff. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        call = call_queries.one(session, call_id)
        if call is None:
            raise NotFound("no call with this id is recorded; a call just made takes a moment", call_id)
        return _receipt(session, call, internals=True)


def own_receipt(ctx: Context, call_id: str) -> Receipt:
    """The receipt of one's own call, without internals. Raises `NotFound` for another's."""
    with ctx.transaction() as session:
        call = call_queries.one(session, call_id)
        if call is None or call.consumer_id != ctx.actor.own_consumer:
            raise NotFound("no call of yours with this id is recorded", call_id)
        return _receipt(session, call, internals=False)


def _log(ctx: Context, wanted: CallFilter, cursor: str | None) -> CallPage:
    with ctx.transaction() as session:
        found = call_queries.page(session, wanted, cursor, PAGE + 1)
        lines = _lines(session, found[:PAGE])
        total = call_queries.count(session, wanted)
        return CallPage(lines, found[PAGE - 1].call_id if len(found) > PAGE else None, total)


def _lines(session: Session, calls: list[Call]) -> list[CallLine]:
    operations = {
        o.id: o.label
        for o in session.scalars(select(Operation).where(Operation.id.in_({c.operation_id for c in calls})))
    }
    applications = {
        a.id: a
        for a in session.scalars(select(Application).where(Application.id.in_({c.application_id for c in calls})))
    }
    lines = []
    for c in calls:
        application = applications.get(c.application_id or 0)
        lines.append(
            CallLine(
                c.call_id, moment_of(c.at_us), operations.get(c.operation_id or 0, f"{c.method} {c.path}"),
                c.consumer_id, application.consumer.name if application else "",
                application.name if application else "", c.status, c.took_us, c.wait_us, c.verdict, c.refused_by,
            )
        )  # fmt: skip
    return lines


def _receipt(session: Session, call: Call, internals: bool) -> Receipt:
    line = _lines(session, [call])[0]
    rungs = [_credential_rung(session, call)]
    if call.revision_id is None:
        rungs.append(Rung("refused", _REASONS.get(call.refused_by or "", "Refused"), "nothing else was checked", "end"))
        return Receipt(line, _summary(call), rungs, _told(call))
    revision = session.get_one(PlanRevision, call.revision_id)
    plan = f"{revision.plan.product.name} · {revision.plan.name}"
    link = f"/compose/revisions/{revision.id}" if internals else None
    part = f"{line.operation} is part of it"
    rungs.append(Rung("passed", f"Subscription to {plan}, revision {revision.number}", part, "access", link=link))
    terms = read(PlanTerms, revision.terms)
    limits = {limit.name: limit for limit in (*terms.limits, *terms.overrides)}
    for name, refused, wait_us, left, used, *above in call.checks:
        limit = cast(Limit, read(cast(Any, Limit), above[0])) if above else limits[name]
        rungs.append(_limit_rung(limit, name if above else "", refused, wait_us, left, used, call))
    if call.verdict == "refused":
        rungs.append(Rung("end", "Back end not asked", "no unit counted, nothing charged", "end"))
    else:
        rungs.append(Rung("passed", f"Back end answered {call.status}", _took(call), "back end"))
        rungs.extend(_meter_rungs(session, call))
    return Receipt(line, _summary(call), rungs, _told(call))


def _credential_rung(session: Session, call: Call) -> Rung:
    if call.key_id is None:
        note = "none was sent" if call.status == 401 else "the key is unknown, revoked or expired"
        return Rung("refused", "No valid credential", note, "credential")
    key = session.get_one(ApiKey, call.key_id)
    owner = f"{key.application.name}, {key.application.consumer.name}"
    return Rung("passed", f"Key {key.prefix}… of {owner}", f"{key.label}, now {key.state}", "credential")


def _limit_rung(
    limit: Limit, above: str, refused: bool, wait_us: int, left: str | None, used: str | None, call: Call
) -> Rung:
    """A limit's rung; `above` is the name of one that comes from above the plan, and says whose it is."""
    title = f"{above}, {words(limit_sentence(limit))}" if above else words(limit_sentence(limit))
    state = "refused" if refused else "held" if wait_us else "passed"
    if isinstance(limit, Pace):
        note = f"held for {_ms(wait_us)}" if wait_us else "came in its own time"
        return Rung(state, title, note, "pace")
    if isinstance(limit, Quota):
        counted = Decimal(used or 0)
        counted_note = f"{number(counted.normalize())} used"
        note = f"{counted_note}, not counted for this call" if call.verdict == "refused" else counted_note
        return Rung(state, title, note, "quota", counted, Decimal(limit.units))
    allowed = limit.burst if isinstance(limit, Rate) else limit.calls
    remaining = Decimal(left or 0)
    note = f"{number(remaining)} of {number(allowed)} left"
    if refused and call.retry_after_us is not None:
        frees = moment_of(call.at_us + call.retry_after_us)
        note += f"; the next one {_ms(call.retry_after_us)} later, at {frees:%H:%M:%S.%f}"[:-3] + " UTC"
    return Rung(state, title, note, limit.kind, allowed - remaining, Decimal(allowed))


def _meter_rungs(session: Session, call: Call) -> list[Rung]:
    if not call.units:
        return [Rung("end", "No meter counted it", "nothing charged", "meter")]
    names = {m.id: m.name for m in session.scalars(select(Meter).where(Meter.id.in_([int(m) for m in call.units])))}
    return [
        Rung("passed", f"{number(Decimal(units).normalize())} counted on {names[int(meter)]}", "", "meter",
             link=f"/compose/meters/{meter}")
        for meter, units in call.units.items()
    ]  # fmt: skip


_REASONS = {
    "credential": "No valid credential",
    "route": "No such operation",
    "access": "No active subscription covers the operation",
}


def _summary(call: Call) -> str:
    if call.verdict == "held":
        return f"It came {_ms(call.wait_us)} too soon for the pace, was held so long, and then served."
    if call.verdict == "served":
        return "Every limit had room, and the back end was asked."
    if call.refused_by in _REASONS:
        return f"{_REASONS[call.refused_by]}."
    if call.retry_after_us is None:
        return f"{call.refused_by} can never admit a call of this cost."
    return f"{call.refused_by} was reached. The call came {_ms(call.retry_after_us)} too soon."


def _told(call: Call) -> list[str]:
    return [str(call.status), *(f"{name}: {value}" for name, value in call.told.items())]


def _took(call: Call) -> str:
    return f"{_ms(call.took_us)} in all, {number(call.bytes_out)} bytes returned"


def _ms(microseconds: int) -> str:
    if microseconds < 100_000_000:
        return f"{Decimal(microseconds) / 1000:,.1f} ms"
    seconds = microseconds // 1_000_000
    return f"{seconds // 60} minutes" if seconds < 7200 else f"{seconds // 3600} hours"
