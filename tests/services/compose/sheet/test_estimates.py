"""What a quantity costs on each plan."""

from __future__ import annotations

from decimal import Decimal

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.services.compose.sheet import estimates
from tests.office import Office


@pytest.mark.parametrize(
    ("units", "skiff", "ketch"),
    [
        ("0", "0.00", "40.00"),
        ("10", "0.00", "40.00"),
        ("30", "0.08", "40.08"),  # 20 × 0.004
        ("30.5", None, "40.08"),  # 0.5 × 0.003 more is less than half a cent
        ("100", None, "40.29"),  # and 70 × 0.003
        ("100.000001", None, None),
    ],
)
def test_a_quantity_costs_on_each_plan_what_an_invoice_would_say(office: Office, units, skiff, ketch) -> None:
    """Skiff refuses beyond 30, Ketch beyond 100."""
    found = estimates.estimate(office.manager, office.product, "forecast_calls", Decimal(units))
    assert [(e.plan, None if e.charge is None else str(e.charge)) for e in found] == [
        ("Skiff", skiff),
        ("Ketch", ketch),
    ]


@pytest.mark.parametrize("units", ["-1", "1000000000000.1"])
def test_an_estimate_beyond_reason_is_refused(office: Office, units: str) -> None:
    with pytest.raises(Invalid, match="between 0 and"):
        estimates.estimate(office.manager, office.product, "forecast_calls", Decimal(units))
    assert len(estimates.estimate(office.manager, office.product, "forecast_calls", Decimal(10**12))) == 2
