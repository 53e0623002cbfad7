"""What consumers see of their use is the sum of their calls, cut in every way alike, and nobody else's."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from datetime import date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Invalid, NotAllowed
from calm_tariff.core.periods import instant_of, moment_of
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.observe import own_usage, traffic
from calm_tariff.services.observe.own_usage import PartUse, UsageView, UsageWanted
from calm_tariff.services.serve import history
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.usage import Call
from tests.office import START, Office

LISBON = ZoneInfo("Europe/Lisbon")
TOTAL = ("served", "held", "refused")


@pytest.fixture
def lived(office: Office) -> Office:
    """Calls of both consumers over some days: two keys, two operations, live and sandbox, some refused, some failed."""
    own = office.acting(office.consumers[0])
    second = credentials.make_key(own, office.consumers[0].application, "second").key.id
    calls = []
    for n in range(240):
        changes: dict[str, Any] = {"bytes_out": n, "bytes_in": 1}
        changes["key_id"] = second if n % 3 == 0 else office.consumers[n % 2].key
        changes["operation_id"] = office.operations["GET /stations/{id}" if n % 4 else "GET /stations"]
        changes["environment"] = "sandbox" if n % 11 == 0 else "live"
        if n % 7 == 0:
            refused = {"verdict": "refused", "status": 429, "refused_by": "Rate" if n % 2 else "Forecast calls"}
            changes |= {**refused, "units": {}, "retry_after_us": 5}
        elif n % 13 == 0:
            changes |= {"verdict": "held", "status": 503, "wait_us": 7}
        if n % 29 == 0:  # a token of somebody else's issuer
            changes["key_id"] = None
        calls.append(office.call(office.consumers[n % 2], START + timedelta(minutes=37 * n), n, **changes))
    history.take_in(office.ctx, calls)
    office.clock.now = START + timedelta(days=8)
    return office


def own_calls(office: Office) -> list[Call]:
    with office.ctx.transaction() as session:
        mine = select(Call).where(Call.consumer_id == office.consumers[0].member.consumer_id)
        return list(session.scalars(mine))


def seen(office: Office, **wanted: Any) -> UsageView:
    return own_usage.usage(office.acting(office.consumers[0]), UsageWanted(**wanted))


def local(call: Call) -> date:
    return moment_of(call.at_us).astimezone(LISBON).date()


def meant(call: Call, wanted: dict[str, Any]) -> bool:
    columns = {"application": "application_id", "operation": "operation_id", "key": "key_id"}
    return all(
        (getattr(call, columns.get(name, name)) or 0) == value
        for name, value in wanted.items()
        if name not in ("since", "until")
    ) and wanted.get("since", date.min) <= local(call) <= wanted.get("until", date.max)


CHOICES: list[dict[str, Any]] = [
    {},
    {"environment": "live"},
    {"operation": "GET /stations"},
    {"status": 429},
    {"key": "second", "environment": "sandbox"},
    {"since": date(2026, 9, 11), "until": date(2026, 9, 13)},
    {"status": 503, "since": date(2026, 9, 12), "until": date(2026, 9, 12)},
]


@pytest.mark.parametrize("choice", CHOICES)
def test_every_figure_is_a_sum_of_the_calls_themselves(lived: Office, choice: dict[str, Any]) -> None:
    calls = own_calls(lived)
    wanted = dict(choice)
    if "operation" in wanted:
        wanted["operation"] = lived.operations[wanted["operation"]]
    if "key" in wanted:
        keys = applications.own(lived.acting(lived.consumers[0]))[0].keys
        wanted["key"] = next(k.id for k in keys if k.label == "second")
    view = seen(lived, **wanted)
    of = [c for c in calls if meant(c, wanted)]
    assert of and Counter(c.verdict for c in of) == Counter(
        {name: getattr(view, name) for name in TOTAL if getattr(view, name)}
    )
    assert (view.bytes_out, view.bytes_in) == (sum(c.bytes_out for c in of), sum(c.bytes_in for c in of))
    by_day = Counter(local(c) for c in of)
    assert {d.day: d.served + d.held + d.refused for d in view.days if d.served + d.held + d.refused} == by_day
    for name, column, parts in (
        ("application", "application_id", view.applications),
        ("operation", "operation_id", view.operations),
        ("key", "key_id", view.keys),
        ("status", "status", view.statuses),
    ):
        others = [c for c in calls if meant(c, {k: v for k, v in wanted.items() if k != name})]
        assert _calls(parts) == Counter((getattr(c, column) or 0) for c in others), name
    assert {r.by: r.calls for r in view.refusals} == Counter(c.refused_by for c in of if c.verdict == "refused")
    rows = own_usage.rows(lived.acting(lived.consumers[0]), UsageWanted(**wanted))
    assert sum(r.calls for r in rows) == len(of) and sum(r.bytes_out for r in rows) == view.bytes_out
    # And the log tells as many of the same, whether it counts calls or sums.
    narrowed = CallFilter(
        application_id=wanted.get("application"),
        operations=[wanted["operation"]] if "operation" in wanted else None,
        key_id=wanted.get("key"),
        environment=wanted.get("environment"),
        status=wanted.get("status"),
        since_us=view.since_us,
        until_us=view.until_us,
    )
    log = traffic.own_log(lived.acting(lived.consumers[0]), narrowed)
    assert log.total == len(of)
    odd = replace(narrowed, since_us=view.since_us + 1_234_567_890, until_us=view.until_us - 987_654_321)
    inside = [c for c in of if odd.since_us <= c.at_us < odd.until_us]  # type: ignore[operator]
    assert traffic.own_log(lived.acting(lived.consumers[0]), odd).total == len(inside)


def _calls(parts: list[PartUse]) -> Counter[int]:
    return Counter({p.id: p.served + p.held + p.refused for p in parts})


def test_a_day_is_the_providers_and_its_bounds_are_those_of_its_calls(lived: Office) -> None:
    view = seen(lived, since=date(2026, 9, 11), until=date(2026, 9, 12))
    midnight = datetime(2026, 9, 11, tzinfo=LISBON)
    assert view.days[0].since_us == view.since_us == instant_of(midnight)
    assert view.days[1].until_us == view.until_us == instant_of(midnight + timedelta(days=2))
    assert view.days[0].until_us == view.days[1].since_us
    usual = seen(lived)
    assert (usual.until, (usual.until - usual.since).days) == (date(2026, 9, 18), own_usage.USUAL - 1)


def test_what_refused_calls_is_explained_by_the_newest_of_them(lived: Office) -> None:
    view = seen(lived)
    newest = max((c for c in own_calls(lived) if c.refused_by == "Forecast calls"), key=lambda c: c.at_us)
    (forecast,) = (r for r in view.refusals if r.by == "Forecast calls")
    assert forecast.newest == newest.call_id
    narrowed = traffic.own_log(
        lived.acting(lived.consumers[0]), CallFilter(verdict="refused", refused_by="Forecast calls")
    )
    assert narrowed.total == forecast.calls and narrowed.rows[0].call_id == newest.call_id


def test_nobody_elses_calls_are_in_it_and_keys_are_for_who_may_see_them(lived: Office) -> None:
    theirs = {c.call_id for c in own_calls(lived)}
    log = traffic.own_log(
        lived.acting(lived.consumers[1]), CallFilter(consumer_id=lived.consumers[0].member.consumer_id)
    )
    assert log.total and not {row.call_id for row in log.rows} & theirs
    whole = own_usage.usage(lived.acting(lived.consumers[1]), UsageWanted())
    assert whole.served + whole.held + whole.refused == 240 - len(theirs)
    billing = lived.ctx.acting(replace(lived.consumers[0].member, membership="billing"))
    assert own_usage.usage(billing, UsageWanted()).keys == []
    assert {row.key for row in own_usage.rows(billing, UsageWanted())} == {""}
    assert seen(lived).keys
    waiting = lived.ctx.acting(replace(lived.consumers[0].member, let_in=False))
    with pytest.raises(NotAllowed):
        own_usage.usage(waiting, UsageWanted())


@pytest.mark.parametrize(
    ("since", "until", "where"),
    [
        (date(2026, 9, 12), date(2026, 9, 11), "since"),
        (date(2025, 1, 1), date(2026, 9, 11), "since"),
        (None, date(9999, 12, 31), "until"),
        (date(1, 1, 1), date(1, 1, 1), "until"),
    ],
)
def test_days_that_are_none_are_told(lived: Office, since: date | None, until: date, where: str) -> None:
    with pytest.raises(Invalid) as wrong:
        seen(lived, since=since, until=until)
    assert wrong.value.where == where
