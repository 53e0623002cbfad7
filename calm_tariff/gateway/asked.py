"""One call as far as it has come, and the record that is made of it."""

from __future__ import annotations

import hmac
import os
from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from calm_tariff.core.ids import call_id
from calm_tariff.core.limiter import FAR
from calm_tariff.core.limits import Call, Quota, Units
from calm_tariff.core.meters import Environment, Outcome, Reading, reading
from calm_tariff.formats.journal import rungs
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.breaker import Breaker
from calm_tariff.gateway.counters import Counters, Decided
from calm_tariff.gateway.credentials import Identity, Presented
from calm_tariff.gateway.forwarding import Upload
from calm_tariff.gateway.snapshot import Access, Counting, Place


@dataclass(slots=True)
class Asked:
    """What is known of a call. `fields` go on every reply to it; instants in µs since the epoch.

    `address` is where it came from, `peer` who sent it to us: the same, unless a trusted proxy did (`by_proxy`).
    """

    at_us: int
    method: str
    path: str
    headers: Headers = field(default_factory=list)
    address: str = ""
    peer: str = ""
    by_proxy: bool = False
    presented: Presented | None = None
    identity: Identity | None = None
    place: Place | None = None
    operation_id: int | None = None
    access: Access | None = None
    call: Call | None = None
    decided: Decided | None = None
    upload: Upload | None = None
    status: int = 0
    bytes_in: int = 0
    bytes_out: int = 0
    verdict: str = "refused"
    refused_by: str | None = None
    started: bool = False
    decide_us: int = 0
    back_end_us: int = 0
    fields: Headers = field(default_factory=list)
    breaker: Breaker | None = None
    told: dict[str, str] = field(default_factory=dict)
    reported: dict[str, str | None] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    id: str = ""

    @property
    def environment(self) -> Environment:
        """Live, unless the credential is of the sandbox."""
        return "sandbox" if self.identity is not None and self.identity.environment == "sandbox" else "live"


def name_of(asked: Asked) -> str:
    """The call's id, made when it is first asked for."""
    if not asked.id:
        asked.id = call_id(asked.at_us, int.from_bytes(os.urandom(10), "big"))
    return asked.id


def call_of(asked: Asked, secret: bytes = b"") -> Call:
    """The call as the limiter sees it; the values it is counted by are hashed with a secret."""
    access, identity = asked.access, asked.identity
    assert access and identity
    return Call(
        asked.at_us,
        key_subject(identity.key_id, identity.application_id),
        str(identity.application_id),
        str(identity.consumer_id),
        str(access.grant.subscription_id),
        access.operation,
        1,
        _carried(asked, access.wants, secret) if access.wants else None,
        False,
        access.costs,
    )


def key_subject(key_id: int | None, application_id: int) -> str:
    """Whose count a limit per key adds to; tokens of outside issuers have no key, so the application stands in."""
    return str(key_id) if key_id else f"application {application_id}"


@dataclass(frozen=True, slots=True)
class Metered:
    """What a call came to: units by meter id; what each quota counted, by the count's name: subject, window and
    units; and what was odd about it."""

    units: dict[str, str] = field(default_factory=dict)
    counted: dict[str, list[Any]] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)


def record_of(asked: Asked, source: str, metered: Metered, now_us: int) -> dict[str, Any]:
    """A call as the journal keeps it; columns as in `store.usage.Call`."""
    access, identity, place = asked.access, asked.identity, asked.place
    grant = access.grant if access else None
    decision = asked.decided.decision if asked.decided else None
    if asked.decided and asked.decided.remark:
        asked.remarks.append(asked.decided.remark)
    return {
        "call_id": name_of(asked),
        "at_us": asked.at_us,
        "source": source,
        "environment": asked.environment,
        "verdict": asked.verdict,
        "refused_by": asked.refused_by,
        "status": asked.status,
        "wait_us": decision.wait_us if decision else 0,
        "took_us": now_us - asked.at_us,
        "retry_after_us": decision.retry_after_us if decision else None,
        "bytes_in": asked.upload.size if asked.upload else asked.bytes_in,
        "bytes_out": asked.bytes_out,
        "method": asked.method[:10],
        "path": asked.path[:400],
        "operation_id": asked.operation_id,
        "api_version_id": place.route.version_id if place else None,
        "product_id": grant.product_id if grant else None,
        "revision_id": grant.revision_id if grant else None,
        "stay_id": grant.stay_id if grant else None,
        "subscription_id": grant.subscription_id if grant else None,
        "application_id": identity.application_id if identity else None,
        "consumer_id": identity.consumer_id if identity else None,
        "key_id": identity.key_id if identity else None,
        "checks": rungs(decision, access.above) if decision and access else [],
        "units": metered.units,
        "told": asked.told,
        "credential": identity.kind if identity else asked.presented.kind if asked.presented else "none",
        "decide_us": asked.decide_us,
        "back_end_us": asked.back_end_us,
        "reserved": int(max((check.cost for check in decision.checks), default=0)) if decision else 0,
        "decided_us": asked.decided.at_us if asked.decided else 0,
        "decided_order": asked.decided.order if asked.decided else 0,
        "carried": (asked.call.values or {}) if asked.call else {},
        "remarks": [*asked.remarks, *metered.remarks],
        "counted": metered.counted,
        "reported": asked.reported,
    }


def settled(asked: Asked, counters: Counters) -> Metered:
    """What a call that was let through came to, with the quotas put right by it."""
    access, call, decided = asked.access, asked.call, asked.decided
    if access is None or call is None or decided is None or asked.verdict == "refused":
        return Metered()
    metered, truth = metering(asked)
    corrected = {m: n for m, n in truth.items() if decided.era != counters.era or access.costs.of[m].settles}
    if corrected:
        counters.settle(access.stack, call, corrected, decided.era)
    return metered


def metering(asked: Asked) -> tuple[Metered, dict[str | None, Units]]:
    """What a call whose outcome is known came to, and the same by the meters of quotas (None: those that count
    calls)."""
    access, decided = asked.access, asked.decided
    assert access and decided
    truth: dict[str | None, Units] = dict.fromkeys(access.costs.of, 0)
    truth[None] = 1
    units: dict[str, str] = {}
    remarks: list[str] = []
    for counting, read in readings(asked):
        meter = counting.meter
        if read is not None:
            units[str(counting.meter_id)] = str(read.units)
            truth[meter.key] = _exact(read.units)
            if read.flagged:
                remarks.append(f"{meter.header} was absent or no number, and counted 0")
    counted = {
        check.scope: [check.subject, check.state[0], check.ends_us or FAR, str(truth[check.limit.meter])]
        for check in decided.decision.checks
        if isinstance(check.limit, Quota) and truth[check.limit.meter]
    }
    return Metered(units, counted, remarks), truth


def readings(asked: Asked) -> Iterator[tuple[Counting, Reading | None]]:
    """What each meter makes of a call whose outcome is known; None where it does not count."""
    access = asked.access
    assert access and asked.identity
    outcome = Outcome(
        operation=access.operation,
        status=asked.status,
        bytes_in=asked.upload.size if asked.upload else asked.bytes_in,
        bytes_out=asked.bytes_out,
        environment=asked.environment,
        credential=asked.identity.kind,
    )
    for counting in access.meters:
        header = counting.meter.header
        given = outcome if header is None else outcome._replace(reported=asked.reported.get(header))
        yield counting, reading(counting.meter, given)


def _carried(asked: Asked, wants: tuple[str, ...], secret: bytes) -> dict[str, str]:
    """The values limits count by that this call carries: claims of its token, its headers, its address. As they are
    counted and recorded: a keyed hash, behind the first characters of a longer value."""
    found: dict[str, str] = {}
    for want in wants:
        kind, _, name = want.partition(":")
        value: str | None = None
        if want == "address":
            value = asked.address
        elif kind == "header":
            sought = name.lower().encode()
            given = next((v for k, v in asked.headers if k == sought), None)
            value = None if given is None else given.decode("latin-1")
        elif kind == "claim" and asked.identity and name in asked.identity.claims:
            value = str(asked.identity.claims[name])
        if value is not None:
            found[want] = veiled(value, secret)
    return found


SHOWN = 4


def veiled(value: str, secret: bytes) -> str:
    """What is kept of a value that calls carry: enough to tell values apart, and to know one's own again."""
    value = value.encode("utf-8", "replace").decode()  # a claim may hold half a character, which no record can
    digest = hmac.digest(secret, value.encode(), "sha256").hex()[:20]
    return f"{value[:SHOWN]}…{digest}" if len(value) >= 2 * SHOWN else digest


def _exact(units: Decimal) -> Units:
    """Whole units as an integer, so that counts stay integers wherever they can."""
    whole = int(units)
    return whole if whole == units else units
