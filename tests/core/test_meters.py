"""What a meter counts, what it reserves, and which meters there can be."""

from dataclasses import replace
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core import meters
from calm_tariff.core.errors import Invalid
from calm_tariff.core.meters import Meter, Outcome, check, reading


def test_a_meter_counts_what_its_filter_says() -> None:
    tides = Meter(key="m", operations=frozenset({"GET /t"}), outcomes=("2xx", "404"))
    assert [reading(tides, Outcome(operation="GET /t", status=s)) is not None for s in (200, 204, 404, 400, 500)] == [
        True,
        True,
        True,
        False,
        False,
    ]
    assert reading(tides, Outcome(operation="GET /x", status=200)) is None
    assert reading(tides, Outcome(operation="GET /t", status=200, environment="sandbox")) is None
    reported = Meter(key="m", measure="reported", header="units", operations=frozenset({"GET /t"}))
    told = [reading(reported, Outcome(operation="GET /t", status=200, reported=r)) for r in ("1.5", "no", None, "-1")]
    assert [(r.units, r.flagged) for r in told if r] == [(Decimal("1.5"), False), *[(Decimal(0), True)] * 3]
    with pytest.raises(Invalid):
        check(Meter(key="m", operations=frozenset({"x"}), outcomes=("2x",)))


METER = Meter(key="m", operations=frozenset({"GET /t"}), outcomes=("2xx", "100", "599"), credentials=("key", "token"))


@pytest.mark.parametrize(
    ("changed", "where"),
    [
        ({"operations": frozenset()}, "operations"),
        ({"environments": ()}, "environments"),
        ({"credentials": ("key", "ring")}, "credentials"),
        ({"measure": "reported"}, "header"),
        ({"header": "Units"}, "header"),
        *(({"outcomes": (wrong,)}, "outcomes") for wrong in ("6xx", "99", "600", "2x", "")),
    ],
)
def test_a_meter_that_could_never_count_is_refused_by_its_field(changed: dict[str, Any], where: str) -> None:
    meters.check(METER)
    meters.check(replace(METER, measure="reported", header="Units"))
    with pytest.raises(Invalid) as refused:
        meters.check(replace(METER, **changed))
    assert refused.value.where == where


AT = frozenset({"GET /a"})


@pytest.mark.parametrize(
    ("meter", "credential", "cost"),
    [
        (Meter(key="a", operations=AT), "key", (1, False)),
        (Meter(key="a", operations=AT, outcomes=("2xx",)), "key", (1, True)),
        (Meter(key="a", operations=AT, measure="bytes_out"), "key", (0, True)),
        (Meter(key="a", operations=AT, measure="reported", header="Units"), "key", (0, True)),
        (Meter(key="a", operations=AT, credentials=("token",)), "token", (1, False)),
        (Meter(key="a", operations=AT, credentials=("token",)), "key", None),
        (Meter(key="a", operations=AT, environments=("sandbox",)), "key", None),
        (Meter(key="a", operations=frozenset({"GET /b"})), "key", None),
    ],
)
def test_what_a_call_takes_from_quotas_until_its_response_is_in(meter: Meter, credential: str, cost) -> None:
    other = Meter(key="other", operations=AT)
    of = meters.costs_of((other, meter), "GET /a", "live", credential).of
    assert (of.get("a"), of["other"], of[None]) == (cost, (1, False), (1, False))
    assert meters.costs_of((other, meter), "GET /a", "live", credential).of is of  # told apart by identity


@pytest.mark.parametrize(
    ("told", "units", "flagged"),
    [
        ("10", "10", False),
        (" 2.5 ", "2.5", False),
        ("0.0000005", "0.000001", False),
        ("1_0", "0", True),
        ("1" + "0" * 22, "0", True),
        ("1e3", "0", True),
        ("-1", "0", True),
        ("NaN", "0", True),
        ("٣", "0", True),
        ("", "0", True),
        (None, "0", True),
    ],
)
def test_a_reported_number_is_counted_as_it_reads_or_flagged(told: str | None, units: str, flagged: bool) -> None:
    meter = Meter(key="a", operations=AT, measure="reported", header="Units")
    read = meters.reading(meter, meters.Outcome("GET /a", 200, reported=told))
    assert read == meters.Reading(Decimal(units), flagged)
