"""The decision receipt of one call: everything that was checked, in order, with counts and rules."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.limits import Limit, Pace, Quota, Rate
from calm_tariff.core.periods import moment_of
from calm_tariff.core.refusals import ANOTHER_GATEWAY, REASONS, in_words
from calm_tariff.core.sentences import limit_sentence, number, words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.serve.advice import advice_on
from calm_tariff.services.serve.call_lines import CallLine, lines
from calm_tariff.services.serve.kept_checks import KeptCheck, kept_checks
from calm_tariff.services.serve.request_details import RequestDetails, details
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import PlanRevision
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.strikes import Strike
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
    is what would have let a refused call in; `took` how its time was spent; `remarks` what was out of the ordinary,
    `source` which gateway recorded it."""

    call: CallLine
    summary: str
    advice: list[str]
    rungs: list[Rung]
    took: str
    remarks: list[str]
    told: list[str]
    request: RequestDetails
    source: str


def receipt(ctx: Context, call_id: str) -> Receipt:
    """The receipt of any call, for the provider's staff. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        call = call_queries.one(session, call_id)
        if call is None:
            raise NotFound("no call with this id is recorded; a call just made takes a moment", call_id)
        return _receipt(session, call, internals=True)


def own_receipt(ctx: Context, call_id: str) -> Receipt:
    """The receipt of one's own call, without internals. Raises `NotFound` for another's."""
    with ctx.reading() as session:
        owner, call = ctx.actor.own_consumer, call_queries.one(session, call_id)
        if call is None or call.consumer_id not in merged.with_merged(session, owner):
            raise NotFound("no call of yours with this id is recorded", call_id)
        return _receipt(session, call, internals=False, keys=ctx.actor.may("see credentials"))


def _receipt(session: Session, call: Call, internals: bool, keys: bool = True) -> Receipt:
    line = lines(session, [call])[0]
    revision = session.get_one(PlanRevision, call.revision_id) if call.revision_id else None
    terms = read(PlanTerms, revision.terms) if revision else PlanTerms()
    checks = list(kept_checks(call, terms))
    rungs = [_credential_rung(session, call, internals, keys)]
    if call.outside_id is not None:
        rungs += [_terms_rung(call, revision, line.operation, internals), _elsewhere_rung(call)]
        rungs.extend(_meter_rungs(session, call, internals))
    elif revision is None and not checks:
        rungs.append(Rung("refused", in_words(call.refused_by or "Refused"), "nothing else was checked", "end"))
    else:
        rungs.append(_terms_rung(call, revision, line.operation, internals))
        rungs += limit_rungs(call, terms, zone_of(session))
        if call.verdict == "refused":
            rungs += _unasked(call, limited=bool(checks))
        else:
            rungs.append(_back_end_rung(session, call, internals))
            rungs.extend(_meter_rungs(session, call, internals))
    if call.strike_id is not None:
        rungs.append(_struck_rung(session, call.strike_id, internals))
    return Receipt(
        call=line,
        summary=summary(call),
        advice=[]
        if call.outside_id is not None
        else advice_on(session, call, checks, revision.plan if revision else None, internals),
        rungs=rungs,
        took=_took(call, internals),
        remarks=list(call.remarks) if internals else [],
        told=_told(call),
        request=details(session, call),
        source=call.source if internals else "",
    )


def _terms_rung(call: Call, revision: PlanRevision | None, operation: str, internals: bool) -> Rung:
    """Under which terms a call was admitted."""
    if revision is None:
        return Rung("passed", f"Anyone may try {operation} in the sandbox", "counted for its address", "access")
    plan = f"{revision.plan.product.name} · {revision.plan.name}"
    link = f"/compose/revisions/{revision.id}" if internals else None
    if call.subscription_id is None:
        title = f"Sold open under {plan}, revision {revision.number}"
        return Rung("passed", title, "counted for its address, charged to nobody", "access", link=link)
    title = f"Subscription to {plan}, revision {revision.number}"
    return Rung("passed", title, f"{operation} is part of it", "access", link=link)


def limit_rungs(call: Call, terms: PlanTerms, where: ZoneInfo) -> list[Rung]:
    """The limits of a call in the order tested, by the terms it was decided under."""
    return [_limit_rung(where, check, call) for check in kept_checks(call, terms)]


def summary(call: Call) -> str:
    """What became of a call, in a sentence."""
    if call.outside_id is not None:
        refused = call.verdict == "refused"
        return f"{in_words(ANOTHER_GATEWAY)}." if refused else "Another gateway let it through, and counted it."
    if call.verdict == "held":
        return f"It came {_ms(call.wait_us)} too soon for the pace, was held so long, and then served."
    if call.verdict == "served":
        return "Every limit had room, and the back end was asked."
    if call.refused_by and call.refused_by in REASONS:
        return f"{in_words(call.refused_by)}."
    if call.retry_after_us is None:
        return f"{call.refused_by} can never admit a call of this cost."
    return f"{call.refused_by} was reached. The call came {_ms(call.retry_after_us)} too soon."


def _credential_rung(session: Session, call: Call, internals: bool, keys: bool) -> Rung:
    application = session.get(Application, call.application_id) if call.application_id else None
    if application is None:
        if call.credential == "none" and (call.revision_id or call.checks):
            return Rung("passed", "No credential", f"a stranger, {call.environment}", "credential")
        note = "none was sent" if call.credential == "none" else "it is unknown, revoked, expired or malformed"
        return Rung("refused", "No valid credential", note, "credential")
    owner = f"{application.name}, {application.consumer.name}"
    link = f"/admit/consumers/{application.consumer_id}" if internals else None
    key = session.get(ApiKey, call.key_id) if call.key_id else None
    if key is None and call.outside_id is not None:
        return Rung("passed", f"Application {owner}", "named by its client id", "credential", link=link)
    if key is None:
        note = "signed by a trusted issuer, which is not us"
        return Rung("passed", f"Signed token of {owner}", note, "credential", link=link)
    until = f"expires {key.expires_at:%-d %B %Y}" if key.expires_at else "expires never"
    what = _SHOWN.get(call.credential, "Key")
    if not keys:
        return Rung("passed", f"{what} of {owner}", call.environment, "credential", link=link)
    note = f"{key.label}, now {key.state}, {until}, {call.environment}"
    return Rung("passed", f"{what} {key.prefix}… of {owner}", note, "credential", link=link)


def _limit_rung(where: ZoneInfo, check: KeptCheck, call: Call) -> Rung:
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
    if not limited and call.refused_by and call.refused_by in REASONS:
        return [Rung("refused", in_words(call.refused_by), "no limit was touched, nothing counted", "end")]
    return [Rung("end", "Back end not asked", "no unit counted, nothing charged", "end")]


def _back_end_rung(session: Session, call: Call, internals: bool) -> Rung:
    version = session.get(ApiVersion, call.api_version_id) if call.api_version_id else None
    name = f"{version.api.name} {version.version}" if version else "Back end"
    link = f"/compose/apis/{version.id}" if internals and version else None
    state = "passed" if call.status < 500 else "refused"
    note = f"{_ms(call.back_end_us)}; {number(call.bytes_in)} bytes in, {number(call.bytes_out)} bytes out"
    return Rung(state, f"{name} answered {call.status}", note, "back end", link=link)


def _elsewhere_rung(call: Call) -> Rung:
    """What another gateway says of a call: its limits were tested there."""
    note = f"which calls it {call.outside_id}; {number(call.bytes_in)} bytes in, {number(call.bytes_out)} bytes out"
    state = "refused" if call.verdict == "refused" else "passed"
    return Rung(state, f"{call.source} answered {call.status}", note, "back end")


def _struck_rung(session: Session, strike_id: int, internals: bool) -> Rung:
    """That a call was struck out: for the provider's people also by whom, when and why."""
    struck = session.get_one(Strike, strike_id)
    if not internals:
        return Rung("end", "Struck out", "it no longer counts", "struck")
    day = struck.at.astimezone(zone_of(session))
    note = f"by {struck.by}, {day:%-d %B %Y}: {struck.why}"
    return Rung("end", "Struck out: it no longer counts", note, "struck", link="/settle/struck-out")


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


_SHOWN = {"basic": "Id and secret", "client": "Token for the secret", "certificate": "Certificate"}


def _told(call: Call) -> list[str]:
    return [str(call.status), *(f"{name}: {value}" for name, value in call.told.items())]


def _took(call: Call, internals: bool) -> str:
    """How the call's time was spent."""
    if call.outside_id is not None:
        return f"decided elsewhere; {call.source}"
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
