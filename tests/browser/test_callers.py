"""Who goes on calling once the demo is loaded is known at the gateway, and asks for what there is."""

from __future__ import annotations

import httpx

from tests.processes import Processes


def test_whoever_goes_on_calling_is_answered_by_the_back_end_or_has_spent_its_month(product: Processes) -> None:
    assert len(product.callers) > 25 and sum(caller.daily for caller in product.callers) > 300
    statuses = []
    for caller in product.callers[::5]:
        asked = max(caller.asks, key=lambda one: one.weight)
        address = product.gateway + asked.paths[-1]
        statuses.append(httpx.get(address, headers={"X-API-Key": caller.key}, timeout=60).status_code)
    assert set(statuses) <= {200, 429} and statuses.count(200) >= len(statuses) - 1, statuses
