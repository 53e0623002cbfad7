"""The one way from a call to a verdict, whether the gateway forwards it or a proxy does."""

from __future__ import annotations

import time
from typing import Protocol

from calm_tariff.core.limiter import Decision
from calm_tariff.core.limits import TrialQuota
from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.counts.counters import Counters, CountersAway
from calm_tariff.gateway.verdict import admission
from calm_tariff.gateway.verdict.breaker import Breakers
from calm_tariff.gateway.verdict.calls import Admitted, InboundCall, Judged, Located, Refused, Verdict
from calm_tariff.gateway.verdict.counted import counted
from calm_tariff.gateway.verdict.credentials import Fault
from calm_tariff.gateway.verdict.tokens import Tokens


class Judge(Protocol):
    """What is needed to come to a verdict."""

    snapshot: Snapshot
    tokens: Tokens
    counters: Counters
    breakers: Breakers
    value_secret: bytes


def locate(judge: Judge, call: InboundCall) -> Located:
    """Where a call's path leads."""
    return Located(call, judge.snapshot.place(call.method, call.path, call.headers))


async def judge(by: Judge, known: Located) -> Verdict:
    """Whose call it is, for which operation, under which subscription; whether its back end is well; then the limits,
    which take from what is left of them."""
    identified = await admission.identify(by.snapshot, by.tokens, known)
    if isinstance(identified, Refused):
        return identified
    routed = admission.route(identified)
    if isinstance(routed, Refused):
        return routed
    admitted = admission.admit(by.snapshot, routed)
    if isinstance(admitted, Refused):
        return admitted
    return _resting(by, admitted) or await _limited(by, admitted)


def _resting(by: Judge, admitted: Admitted) -> Refused | None:
    """Refused before anything is consumed, where the back end is being left alone and would be asked."""
    wait = by.breakers.of(admitted).wait(time.monotonic())
    if not wait or by.snapshot.example(admitted.routed.operation_id, admitted.environment) is not None:
        return None
    detail = "The back end has failed again and again and is left alone for a moment. Nothing was counted."
    fault = Fault(503, "back-end-resting", "The back end is down", detail, "back end")
    return Refused(admitted, fault, [(b"retry-after", str(max(1, -(-int(wait * 1000) // 1000))).encode())])


async def _limited(by: Judge, admitted: Admitted) -> Verdict:
    """Test the limits in force, or, where these are of a trial whose units are used, those of what follows it."""
    begun = time.perf_counter_ns()
    while True:
        seen = counted(admitted, by.value_secret)
        try:
            decided = await by.counters.decide(admitted.access.stack, seen)
        except CountersAway:
            detail = "Counts cannot be read at the moment, and calls are refused rather than let through uncounted."
            fault = Fault(503, "counters-away", "Counts are away", detail, "counters")
            return Refused(admitted, fault, took_us=_us(begun))
        if not _found_trial_spent(decided.decision):
            return Judged(admitted, seen, decided, _us(begun))
        following = admission.after_trial(by.snapshot, admitted)
        if isinstance(following, Refused):
            return following._replace(took_us=_us(begun))
        admitted = following


def reply_fields(verdict: Verdict) -> Headers:
    """The fields that go on every answer to a call: what is left of its limits, and its version's end."""
    if isinstance(verdict, Refused):
        return [*verdict.fields]
    access, decided = verdict.admitted.access, verdict.decided
    fields = replies.rate_limit_fields(access.policies, decided.decision, decided.at_us)
    fields += verdict.admitted.place.notices
    if access.rules.older_fields:
        fields += replies.older_fields(decided.decision, decided.at_us)
    return fields


def _found_trial_spent(decision: Decision) -> bool:
    """Whether what refuses a call first is a trial whose units are used."""
    refusing = next((check for check in decision.checks if check.refused), None)
    return refusing is not None and isinstance(refusing.limit, TrialQuota)


def _us(begun: int) -> int:
    return (time.perf_counter_ns() - begun) // 1000
