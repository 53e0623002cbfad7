"""The decision receipt of one call: everything that was checked, in order, with counts and rules."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, cast
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.limits import Limit, Pace, Quota, Rate
from calm_tariff.core.periods import moment_of
from calm_tariff.core.relief import Refusal, least_change, would_have_let_in
from calm_tariff.core.sentences import limit_sentence, number, words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.serve.call_lines import CallLine, lines
from calm_tariff.services.serve.request_details import RequestDetails, details
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, PlanRevision
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.usage import Call


@dataclass(frozen=True, slots=True)
class Rung:
    """One step of a receipt's ladder. With `allowed`, a ruler is drawn: `used` of `allowed`, of which `before`
    were used before this call."""

    state: str
    title: str
    note: str
    kind: str
    used: Decimal | None = None
    allowed: Decimal | None = None
    link: str | None = None
    before: Decimal | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Receipt:
    """Everything that was checked for one call, what it came with (`request`), and what the caller was told. `advice`
    is what would have let a refused call in; `took` how its time was spent; `remarks` what was out of the ordinary."""

    call: CallLine
    summary: str
    advice: list[str]
    rungs: list[Rung]
    took: str
    remarks: list[str]
    told: list[str]
    request: RequestDetails


@dataclass(frozen=True, slots=True, kw_only=True)
class _Check:
    """A limit as it was checked. `layer` is where it came from: plan unless the receipt says otherwise."""

    limit: Limit
    layer: str
    refused: bool
    wait_us: int
    left: Decimal
    before: Decimal
    used: Decimal

    @property
    def cost(self) -> Decimal:
        """What the call took of it."""
        return self.used - self.before


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
        return _receipt(session, call, internals=False, keys=ctx.actor.may("see credentials"))


def advice_for(session: Session, call: Call) -> list[str]:
    """What would have let a refused call in, as its consumer reads it."""
    if call.revision_id is None:
        return []
    revision = session.get_one(PlanRevision, call.revision_id)
    checks = list(_checks(call, read(PlanTerms, revision.terms)))
    return _advice(session, call, checks, revision.plan, internals=False)


def refused_by_in_words(by: str) -> str:
    """What refused a call: something before the limits, in words, or a limit by its name."""
    return _REASONS.get(by, by)


def _receipt(session: Session, call: Call, internals: bool, keys: bool = True) -> Receipt:
    line = lines(session, [call])[0]
    rungs = [_credential_rung(session, call, internals, keys)]
    remarks = list(call.remarks) if internals else []
    if call.revision_id is None:
        rungs.append(Rung("refused", _REASONS.get(call.refused_by or "", "Refused"), "nothing else was checked", "end"))
        return Receipt(
            call=line,
            summary=summary(call),
            advice=[],
            rungs=rungs,
            took=_took(call, internals),
            remarks=remarks,
            told=_told(call),
            request=details(session, call),
        )
    revision = session.get_one(PlanRevision, call.revision_id)
    plan = f"{revision.plan.product.name} · {revision.plan.name}"
    link = f"/compose/revisions/{revision.id}" if internals else None
    title = f"Subscription to {plan}, revision {revision.number}"
    rungs.append(Rung("passed", title, f"{line.operation} is part of it", "access", link=link))
    terms = read(PlanTerms, revision.terms)
    checks = list(_checks(call, terms))
    rungs += limit_rungs(call, terms, zone_of(session))
    if call.verdict == "refused":
        rungs += _unasked(call, limited=bool(checks))
    else:
        rungs.append(_back_end_rung(session, call, internals))
        rungs.extend(_meter_rungs(session, call, internals))
    advice = _advice(session, call, checks, revision.plan, internals)
    return Receipt(
        call=line,
        summary=summary(call),
        advice=advice,
        rungs=rungs,
        took=_took(call, internals),
        remarks=remarks,
        told=_told(call),
        request=details(session, call),
    )


def limit_rungs(call: Call, terms: PlanTerms, where: ZoneInfo) -> list[Rung]:
    """The limits of a call in the order tested, by the terms it was decided under."""
    return [_limit_rung(where, check, call) for check in _checks(call, terms)]


def summary(call: Call) -> str:
    """What became of a call, in a sentence."""
    if call.verdict == "held":
        return f"It came {_ms(call.wait_us)} too soon for the pace, was held so long, and then served."
    if call.verdict == "served":
        return "Every limit had room, and the back end was asked."
    if call.refused_by in _REASONS:
        return f"{_REASONS[call.refused_by]}."
    if call.retry_after_us is None:
        return f"{call.refused_by} can never admit a call of this cost."
    return f"{call.refused_by} was reached. The call came {_ms(call.retry_after_us)} too soon."


def _credential_rung(session: Session, call: Call, internals: bool, keys: bool) -> Rung:
    application = session.get(Application, call.application_id) if call.application_id else None
    if application is None:
        note = "none was sent" if call.credential == "none" else "it is unknown, revoked, expired or malformed"
        return Rung("refused", "No valid credential", note, "credential")
    owner = f"{application.name}, {application.consumer.name}"
    link = f"/admit/consumers/{application.consumer_id}" if internals else None
    key = session.get(ApiKey, call.key_id) if call.key_id else None
    if key is None:
        note = "signed by a trusted issuer, which is not us"
        return Rung("passed", f"Signed token of {owner}", note, "credential", link=link)
    until = f"expires {key.expires_at:%-d %B %Y}" if key.expires_at else "expires never"
    what = _SHOWN.get(call.credential, "Key")
    if not keys:
        return Rung("passed", f"{what} of {owner}", call.environment, "credential", link=link)
    note = f"{key.label}, now {key.state}, {until}, {call.environment}"
    return Rung("passed", f"{what} {key.prefix}… of {owner}", note, "credential", link=link)


def _checks(call: Call, terms: PlanTerms) -> Iterator[_Check]:
    known = {limit.name: limit for limit in (*terms.limits, *terms.overrides)}
    for name, refused, wait_us, left, used, *kept in call.checks:
        limit = cast(Limit, read(cast(Any, Limit), kept[0])) if kept else known[name]
        layer = kept[1] if len(kept) > 1 else "above" if kept else "plan"
        before, after = used if isinstance(used, list) else (_before(call, used), used or 0)
        yield _Check(
            limit=limit,
            layer=layer,
            refused=refused,
            wait_us=wait_us,
            left=Decimal(left or 0),
            before=Decimal(before),
            used=Decimal(after),
        )


def _before(call: Call, used: str | None) -> Decimal:
    """What was used before a call whose record says only what was used after it."""
    return Decimal(used or 0) - (call.reserved if call.verdict != "refused" else 0)


def _limit_rung(where: ZoneInfo, check: _Check, call: Call) -> Rung:
    limit = check.limit
    sentence = words(limit_sentence(limit))
    title = {
        "plan": sentence,
        "subscription": f"For this subscription alone: {sentence}",
        "trial": f"{_n(Decimal(getattr(limit, 'units', 0)))} units free in the trial",
    }.get(check.layer, f"{limit.name}, {sentence}")
    state = "refused" if check.refused else "held" if check.wait_us else "passed"
    counted = _counted_by(limit, call)
    if isinstance(limit, Pace):
        note = f"held for {_ms(check.wait_us)}" if check.wait_us else "came in its own time"
        return Rung(state, title, note + counted, "pace")
    taken = call.verdict != "refused"
    if isinstance(limit, Quota):
        note = f"{_n(check.before)} used before, {_n(check.used)} after"
        note = note if taken else f"{_n(check.used)} used, not counted"
        return Rung(
            state=state,
            title=title,
            note=note + counted,
            kind="quota",
            used=check.used,
            allowed=Decimal(limit.units),
            link=None,
            before=check.before,
        )
    allowed = Decimal(limit.burst if isinstance(limit, Rate) else limit.calls)
    used = allowed - check.left
    if taken:
        note = f"{_n(check.left + 1)} of {_n(allowed)} left before, {_n(check.left)} after"
    else:
        note = f"{_n(check.left)} of {_n(allowed)} left"
    if check.refused and call.retry_after_us is not None:
        frees = moment_of(call.at_us + call.retry_after_us).astimezone(where)
        note += f"; the next one {_ms(call.retry_after_us)} later, at {frees:%H:%M:%S.%f}"[:-3]
    return Rung(
        state=state,
        title=title,
        note=note + counted,
        kind=limit.kind,
        used=used,
        allowed=allowed,
        link=None,
        before=used - 1 if taken else used,
    )


def _counted_by(limit: Limit, call: Call) -> str:
    """Whose count it was, where the call itself carried the value."""
    per = limit.counted_per
    if per == "address" or ":" in per:
        value = call.carried.get(per)
        return f"; counted for {value}" if value else "; it carried no such value, and was counted for its key"
    return ""


def _unasked(call: Call, limited: bool) -> list[Rung]:
    """The rungs of a call that reached no back end."""
    if not limited and call.refused_by in _REASONS:
        return [Rung("refused", _REASONS[call.refused_by], "no limit was touched, nothing counted", "end")]
    return [Rung("end", "Back end not asked", "no unit counted, nothing charged", "end")]


def _back_end_rung(session: Session, call: Call, internals: bool) -> Rung:
    version = session.get(ApiVersion, call.api_version_id) if call.api_version_id else None
    name = f"{version.api.name} {version.version}" if version else "Back end"
    link = f"/compose/apis/{version.id}" if internals and version else None
    state = "passed" if call.status < 500 else "refused"
    note = f"{_ms(call.back_end_us)}; {number(call.bytes_in)} bytes in, {number(call.bytes_out)} bytes out"
    return Rung(state, f"{name} answered {call.status}", note, "back end", link=link)


def _meter_rungs(session: Session, call: Call, internals: bool) -> list[Rung]:
    if not call.units:
        return [Rung("end", "No meter counted it", "nothing charged", "meter")]
    names = {m.id: m.name for m in session.scalars(select(Meter).where(Meter.id.in_([int(m) for m in call.units])))}
    return [
        Rung(
            "passed",
            f"{_n(Decimal(units))} counted on {names[int(meter)]}",
            "",
            "meter",
            link=f"/compose/meters/{meter}" if internals else None,
        )
        for meter, units in call.units.items()
    ]


def _advice(session: Session, call: Call, checks: list[_Check], plan: Plan, internals: bool) -> list[str]:
    """When a call that a limit refused would have been let in, and what would have let it in at once."""
    refusing = [check for check in checks if check.refused]
    if not refusing:
        return []
    found = []
    if call.retry_after_us is not None:
        at = moment_of(call.at_us + call.retry_after_us).astimezone(zone_of(session))
        when = f"At {at:%H:%M:%S.%f}"[:-3] if call.retry_after_us < 3_600_000_000 else f"From {at:%-d %B, %H:%M} on"
        found.append(f"{when} it would have been let in.")
    refusals = [_refusal(check, call) for check in refusing]
    for refusal in refusals:
        found.append(
            f"With {refusal.limit.name} at {_raised(refusal.limit, least_change(refusal))} it would have "
            f"been let in at once."
        )
    if any(check.layer in ("provider", "api", "above") for check in refusing):
        return found  # no plan changes what stands above all plans
    wider = []
    for other in plan.product.plans:
        if other.id == plan.id:
            drafted = other.draft is not None and internals
            if drafted and other.draft and would_have_let_in(refusals, _limits(other.draft.terms)):
                wider.append(f"{other.name} as drafted")
            continue
        # Consumers do not learn of plans that are for groups.
        sold = other.state == "on sale" and other.revisions and (internals or not other.groups)
        if sold and would_have_let_in(refusals, _limits(other.revisions[-1].terms)):
            wider.append(other.name)
    if wider:
        named = f"{', '.join(wider[:-1])} and {wider[-1]}" if len(wider) > 1 else wider[0]
        found.append(f"{named} would have let it in.")
    return found


def _refusal(check: _Check, call: Call) -> Refusal:
    limit = check.limit
    used = check.used if isinstance(limit, Quota) else Decimal(getattr(limit, "calls", 0)) - check.left
    whole = int(used) if used == int(used) else used
    return Refusal(limit, whole, call.reserved, call.retry_after_us)


def _limits(raw: dict[str, Any]) -> tuple[Limit, ...]:
    terms = read(PlanTerms, raw)
    return (*terms.limits, *terms.overrides)


def _raised(limit: Limit, needed: Limit) -> str:
    """The number that was raised, in words."""
    if isinstance(needed, Quota):
        return f"{number(needed.units)} a {needed.every}"
    if isinstance(needed, Rate):
        return f"{number(needed.burst)} at once"
    if isinstance(needed, Pace):
        return f"a wait of up to {number(needed.max_wait_ms)} ms"
    return f"{number(needed.calls)} calls"


_SHOWN = {"basic": "Id and secret", "client": "Token for the secret", "certificate": "Certificate"}
_REASONS = {
    "credential": "No valid credential",
    "route": "No such operation",
    "bounds": "The key is narrowed to other addresses or operations",
    "access": "The subscription or the credential's kind does not cover the operation",
    "body": "The body is too large",
    "back end": "The back end is left alone after failing again and again",
    "trial": "The units of the trial are used, and the subscription has ended with them",
    "counters": "The shared counts are away, and calls are refused meanwhile",
}


def _told(call: Call) -> list[str]:
    return [str(call.status), *(f"{name}: {value}" for name, value in call.told.items())]


def _took(call: Call, internals: bool) -> str:
    """How the call's time was spent."""
    whole = f"{_ms(call.took_us)} in all"
    if not internals:
        return whole
    parts = [f"deciding {number(call.decide_us)} µs"]
    if call.wait_us:
        parts.append(f"held {_ms(call.wait_us)}")
    if call.back_end_us:
        parts.append(f"back end {_ms(call.back_end_us)}")
    return f"{whole}: {', '.join(parts)}; {call.source}"


def _n(value: Decimal) -> str:
    return number(value.normalize())


def _ms(microseconds: int) -> str:
    if microseconds < 100_000_000:
        return f"{Decimal(microseconds) / 1000:,.1f} ms"
    seconds = microseconds // 1_000_000
    return f"{seconds // 60} minutes" if seconds < 7200 else f"{seconds // 3600} hours"
