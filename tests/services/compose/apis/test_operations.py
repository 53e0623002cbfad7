"""Operations, their groups, and who uses them."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict
from calm_tariff.services.compose.apis import operations, versions
from calm_tariff.services.compose.apis.operations import OperationTyped
from tests.office import Office


def test_operations_are_grouped_changed_and_taken_away_only_where_nobody_uses_them(office: Office) -> None:
    ids = list(office.operations.values())
    assert operations.put_into_group(office.manager, office.api, ids[:2], "Stations", True) == 2
    assert versions.one(office.manager, office.api).groups == {"": 1, "Stations": 2}
    assert operations.page(office.manager, office.api, group="Stations").total == 2
    found = {w: operations.page(office.manager, office.api, w).total for w in ("get {ID}", "station_", "%", "ons/")}
    assert found == {"get {ID}": 2, "station_": 0, "%": 0, "ons/": 2}
    with pytest.raises(Conflict, match="Harbour Data · Ketch"):
        operations.remove(office.manager, ids[0])
    made = operations.add(office.manager, office.api, OperationTyped("POST", "/alerts"))
    with pytest.raises(Conflict, match="leads there already"):
        operations.add(office.manager, office.api, OperationTyped("POST", "/alerts"))
    operations.remove(office.manager, made.id)
    assert operations.page(office.manager, office.api).total == 3
