"""The record that is made of a call, and what it came to by the meters."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from calm_tariff.core import meters
from calm_tariff.core.compiled_limits import FAR
from calm_tariff.core.limits import Quota, Units
from calm_tariff.core.meters import Reading, reading
from calm_tariff.formats.journal import rungs
from calm_tariff.gateway.compiled.compiling import Counting
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.counts.counters import Counters
from calm_tariff.gateway.recording.sent import bodies_of, sent
from calm_tariff.gateway.verdict import calls
from calm_tariff.gateway.verdict.calls import Judged, Outcome, Verdict


@dataclass(frozen=True, slots=True)
class Metered:
    """What a call came to: units by meter id; what each quota counted, by the count's name: subject, window and
    units; and what was odd about it."""

    units: dict[str, str] = field(default_factory=dict)
    counted: dict[str, list[Any]] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)


NOTHING = Metered()


def record_of(
    verdict: Verdict, outcome: Outcome, metered: Metered, source: str, now_us: int, *, snapshot: Snapshot
) -> dict[str, Any]:
    """A call as the journal keeps it; columns as in `store.serve.usage.Call`, and its `bodies` where they are kept.
    By the snapshot it is known where keys may stand."""
    call = verdict.call
    admitted = calls.admitted(verdict)
    routed = admitted.routed if admitted else calls.routed(verdict)
    known = routed.identified if routed else calls.identified(verdict)
    shown = known.shown if known else calls.shown(verdict)
    place = (shown.located if shown else calls.located(verdict)).place
    identity = known.identity if known else None
    grant = admitted.access.grant if admitted else None
    judged = verdict if isinstance(verdict, Judged) else None
    decision = judged.decided.decision if judged else None
    remarks = [*outcome.remarks]
    if judged and judged.decided.remark:
        remarks.append(judged.decided.remark)
    record = {
        "call_id": call.id,
        "at_us": call.at_us,
        "source": source,
        "environment": known.environment if known else "live",
        "verdict": decision.verdict if decision else "refused",
        "refused_by": refused_by(verdict),
        "status": outcome.status,
        "wait_us": decision.wait_us if decision else 0,
        "took_us": now_us - call.at_us,
        "retry_after_us": decision.retry_after_us if decision else None,
        "bytes_in": outcome.bytes_in,
        "bytes_out": outcome.bytes_out,
        "method": call.method[:10],
        "path": call.path[:400],
        "operation_id": routed.operation_id if routed else None,
        "api_version_id": place.route.version_id if place else None,
        "product_id": _somebodys(grant.product_id) if grant else None,
        "revision_id": _somebodys(grant.revision_id) if grant else None,
        "stay_id": _somebodys(grant.stay_id) if grant else None,
        "subscription_id": _somebodys(grant.subscription_id) if grant else None,
        "application_id": _somebodys(identity.application_id) if identity else None,
        "consumer_id": _somebodys(identity.consumer_id) if identity else None,
        "key_id": identity.key_id if identity else None,
        "checks": rungs(decision, admitted.access.above) if decision and admitted else [],
        "units": metered.units,
        "told": outcome.told,
        "credential": identity.kind if identity else shown.presented.kind if shown else "none",
        "decide_us": verdict.took_us,
        "back_end_us": outcome.back_end_us,
        "reserved": int(max((check.cost for check in decision.checks), default=0)) if decision else 0,
        "decided_us": judged.decided.at_us if judged else 0,
        "decided_order": judged.decided.order if judged else 0,
        "carried": (judged.counted.values or {}) if judged else {},
        "remarks": [*remarks, *metered.remarks],
        "counted": metered.counted,
        "reported": outcome.reported,
        "sent": sent(verdict, snapshot),
    }
    bodies = bodies_of(outcome)
    return record if bodies is None else {**record, "bodies": bodies}


def _somebodys(number: int) -> int | None:
    """An id that is somebody's; None where it stands for nobody's, as of a call without a credential."""
    return number if number > 0 else None


def refused_by(verdict: Verdict) -> str | None:
    """What refused a call: a limit by its name, or what else; None where nothing did."""
    return verdict.decided.decision.by if isinstance(verdict, Judged) else verdict.fault.by


def settled(verdict: Verdict, outcome: Outcome, counters: Counters) -> Metered:
    """What a call came to, with the quotas put right by it where it was let through."""
    if not isinstance(verdict, Judged) or not verdict.let_through:
        return NOTHING
    metered, truth = metering(verdict, outcome)
    access, decided = verdict.admitted.access, verdict.decided
    corrected = {m: n for m, n in truth.items() if decided.era != counters.era or access.costs.of[m].settles}
    if corrected:
        counters.settle(access.stack, verdict.counted, corrected, decided.era)
    return metered


def metering(judged: Judged, outcome: Outcome) -> tuple[Metered, dict[str | None, Units]]:
    """What a call came to that was let through, and the same by the meters of quotas (None: those that count
    calls)."""
    truth: dict[str | None, Units] = dict.fromkeys(judged.admitted.access.costs.of, 0)
    truth[None] = 1
    units: dict[str, str] = {}
    remarks: list[str] = []
    for counting, read in _readings(judged, outcome):
        meter = counting.meter
        if read is not None:
            units[str(counting.meter_id)] = str(read.units)
            truth[meter.key] = _exact(read.units)
            if read.flagged:
                remarks.append(f"{meter.header} was absent or no number, and counted 0")
    counted = {
        check.scope: [check.subject, check.state[0], check.ends_us or FAR, str(truth[check.limit.meter])]
        for check in judged.decided.decision.checks
        if isinstance(check.limit, Quota) and truth[check.limit.meter]
    }
    return Metered(units, counted, remarks), truth


def _readings(judged: Judged, outcome: Outcome) -> Iterator[tuple[Counting, Reading | None]]:
    """What each meter makes of a call; None where it does not count."""
    admitted = judged.admitted
    seen = meters.Outcome(
        operation=admitted.access.operation,
        status=outcome.status,
        bytes_in=outcome.bytes_in,
        bytes_out=outcome.bytes_out,
        environment=admitted.environment,
        credential=admitted.identified.identity.kind,
    )
    for counting in admitted.access.meters:
        header = counting.meter.header
        given = seen if header is None else seen._replace(reported=outcome.reported.get(header))
        yield counting, reading(counting.meter, given)


def _exact(units: Decimal) -> Units:
    """Whole units as an integer, so that counts stay integers wherever they can."""
    whole = int(units)
    return whole if whole == units else units
