"""What a draft would do to charges."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, datetime
from decimal import Decimal

from calm_tariff.services.settle import consequences
from tests.office import Office, terms
from tests.services.usages import usage


def test_the_margin_rates_last_month_under_the_draft_and_finds_mistakes(office: Office) -> None:
    usage(office, 60)
    october = replace(office.manager, clock=lambda: datetime(2026, 10, 5, tzinfo=UTC))
    drafted = json.loads(json.dumps(terms(units=5)).replace('"0.004"', '"0.4"'))
    office.draft("Ketch", drafted, october)
    margin = consequences.consequences(october, office.product)
    ferries = next(a for a in margin.consumers if a.consumer == "Ferries")
    # 20 × 0.4 + 33 × 0.003 = 8.099 in place of 0.179, on top of 21/30 of the fee.
    assert (ferries.before, ferries.after) == (Decimal("28.18"), Decimal("36.10"))
    assert (margin.period, margin.after - margin.before) == ("September", Decimal("7.92"))
    assert any("includes 10, more than its allowance of 5" in note for note in margin.worth_a_look)


def test_curves_end_where_an_allowance_refuses_and_show_the_live_terms_beside_a_draft(office: Office) -> None:
    cheap = json.loads(json.dumps(terms(when_spent="charge")).replace('"0.004"', '"0.5"'))
    office.draft("Ketch", cheap)
    (drawn,) = consequences.consequences(office.manager, office.product).meters
    skiff, ketch = drawn.curves
    assert (drawn.name, drawn.top, drawn.consumers, skiff.as_now) == ("Forecast calls", 1000, [], None)

    def corners(points) -> list[tuple[str, str]]:
        return [(f"{p.units.normalize():f}", f"{p.charge.normalize():f}") for p in points]

    assert corners(skiff.points) == [("0", "0"), ("10", "0"), ("10", "0"), ("30", "0.08")]
    # Included up to 10, then 20 × 0.5, then 970 × 0.003; live, the allowance refuses beyond 100.
    assert corners(ketch.points)[-3:] == [("30", "50"), ("30", "50"), ("1000", "52.91")]
    assert corners(ketch.as_now)[-3:] == [("30", "40.08"), ("30", "40.08"), ("100", "40.29")]
    assert drawn.break_evens == []
