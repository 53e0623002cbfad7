"""The bench: the real limiter on a plan as drafted or as published, counted nowhere else."""

from __future__ import annotations

import json
from datetime import timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound, NotSignedIn
from calm_tariff.formats import cases
from calm_tariff.services.base.context import NOBODY
from calm_tariff.services.serve import bench, history
from calm_tariff.services.serve.bench import BenchCall, Pattern, Run
from calm_tariff.store.serve.usage import Call, QuotaCount
from tests.office import START, Office, terms


def fired(run: Run, pattern: Pattern, status: int = 200) -> list[BenchCall]:
    made = []
    for n, (at, key) in enumerate(pattern.calls):
        call, decision = run.decide(run.started_us + at, key)
        answered = 429 if decision.verdict == "refused" else status
        made.append(run.finished(n, key, call, decision, status=answered, size=100))
    return made


def begun(office: Office, terms_: str = "live", plan: str = "Ketch") -> Run:
    operation = office.operations["GET /stations/{id}"]
    return bench.begin(office.manager, office.plans[plan], terms_, operation)  # type: ignore[arg-type]


def test_what_it_decides_is_what_the_case_it_hands_out_comes_to(office: Office) -> None:
    run = begun(office)
    pattern = bench.listed("\n".join(f"{n * 7} {n % 2 + 1}" for n in range(60)))
    made = fired(run, pattern)
    case = run.case()
    said = {"operation": str(run.operation.id), **dict.fromkeys(("application", "consumer", "subscription"), "bench")}
    case["calls"] = [{"at_us": run.started_us + at, "key": f"test key {key}", **said} for at, key in pattern.calls]
    decided = cases.decide_text(json.dumps(case))["verdicts"]
    assert [d["verdict"] for d in decided] == [m.verdict for m in made]
    assert {m.verdict for m in made} == {"served", "refused"}
    assert run.verdicts["refused"] == sum(m.verdict == "refused" for m in made)


def test_every_call_has_its_receipt_and_what_each_limit_has_left(office: Office) -> None:
    run = begun(office)
    first, *_, last = fired(run, bench.evenly(21, 500, 1))
    assert [limit.name for limit in run.limits] == ["Rate", "Forecast calls"]
    assert first.left == ["19", "99"] and first.verdict == "served"
    assert [(r.title, r.state) for r in first.rungs[:2]] == [
        ("Test key 1", "passed"),
        ("Harbour Data · Ketch, revision 1", "passed"),
    ]
    assert "1 would count on Forecast calls" in [r.title for r in first.rungs]
    assert (last.verdict, last.by, last.status) == ("refused", "Rate", 429)
    assert last.rungs[-1].title == "Back end not asked"
    assert any(line.lower().startswith("retry-after:") for line in last.told)


def test_what_fails_at_the_back_end_uses_no_allowance(office: Office) -> None:
    run = begun(office)
    failed = fired(run, bench.evenly(3, 10, 1), status=500)
    assert [call.left[1] for call in failed] == ["99", "99", "99"]


def test_nothing_of_a_run_is_recorded_or_counted(office: Office) -> None:
    fired(begun(office), bench.evenly(10, 10, 2))
    with office.ctx.transaction() as session:
        assert session.scalars(select(Call.call_id)).all() == []
        assert session.scalars(select(QuotaCount)).all() == []


def test_a_draft_is_tried_before_anybody_gets_it(office: Office) -> None:
    with pytest.raises(Conflict, match="it has no draft"):
        begun(office, "draft")
    office.draft("Ketch", terms(calls=1, burst=2))
    assert [c.verdict for c in fired(begun(office, "draft"), bench.evenly(3, 500, 1))] == [
        "served",
        "served",
        "refused",
    ]
    assert {c.verdict for c in fired(begun(office, "live"), bench.evenly(3, 500, 1))} == {"served"}


def test_a_plan_an_operation_or_terms_that_are_not_there_are_told(office: Office) -> None:
    with pytest.raises(NotFound):
        bench.begin(office.manager, 999_999, "live", office.operations["GET /stations"])
    with pytest.raises(NotFound):
        bench.begin(office.manager, office.plans["Ketch"], "live", 999_999)
    for other in (office.acting(office.consumers[0]), office.ctx.acting(NOBODY)):
        with pytest.raises(NotSignedIn):
            bench.begin(other, office.plans["Ketch"], "live", office.operations["GET /stations"])
        with pytest.raises(NotSignedIn):
            bench.offers(other)


@pytest.mark.parametrize(
    ("text", "where"),
    [
        ("", "list"),
        (" \n\n", "list"),
        ("0\nabc", "line 2"),
        ("1 2 3", "line 1"),
        ("-5", "line 1"),
        ("1.5", "line 1"),
        ("0 0", "line 1"),
        (f"0 {bench.MOST_KEYS + 1}", "line 1"),
        (f"{bench.MOST_SECONDS * 1000 + 1}", "per_second"),
        ("\n".join("1" for _ in range(bench.MOST_CALLS + 1)), "calls"),
    ],
)
def test_a_list_that_cannot_be_fired_is_refused_by_its_line(text: str, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        bench.listed(text)
    assert refused.value.where == where


def test_lists_are_put_in_order_and_even_calls_take_keys_in_turn() -> None:
    assert bench.listed("30, 2\n\n10\n20 1").calls == ((10_000, 0), (20_000, 0), (30_000, 1))
    assert bench.evenly(4, 2, 2).calls == ((0, 0), (500_000, 1), (1_000_000, 0), (1_500_000, 1))
    for field, typed in {"calls": (0, 1, 1), "per_second": (1, 0, 1), "keys": (1, 1, 0)}.items():
        with pytest.raises(Invalid) as refused:
            bench.evenly(*typed)
        assert refused.value.where == field


def test_a_consumers_last_calls_are_repeated_as_close_together_as_they_came(office: Office) -> None:
    one, other = office.consumers
    at = [START, START + timedelta(milliseconds=40), START + timedelta(minutes=9)]
    calls = [office.call(one, moment, n, key_id=one.key + n % 2) for n, moment in enumerate(at)]
    history.take_in(office.ctx, [*calls, office.call(other, START, 99)])
    text = bench.recorded(office.manager, one.member.consumer_id or 0)
    assert text.splitlines() == ["0 1", "40 2", "5040 1"]  # gaps are cut to 5 s
    assert len(bench.listed(text).calls) == 3
