"""An office of which a product is billed outside."""

from __future__ import annotations

import pytest

from tests.office import Office
from tests.services.settle.handoff.outside import Outside


@pytest.fixture
def outside(office: Office) -> Outside:
    """Billing outside the office, which bills its product from September on."""
    return Outside(office)
