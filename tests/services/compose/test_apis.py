"""Versions side by side, and how one ends."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.services.compose import (
    apis,
)
from calm_tariff.services.compose.apis import ApiTyped
from calm_tariff.store.base.record import Mail
from tests.office import Office


def settings(version: str, **more: object) -> ApiTyped:
    return replace(ApiTyped("Tides", version, "", f"/tides/{version}", "http://127.0.0.1:9/tides"), **more)


def test_versions_answer_side_by_side_and_one_ends_with_notice(office: Office) -> None:
    with pytest.raises(Conflict, match="is where Tides v1 answers"):
        apis.create(office.manager, settings("v2", base_path="/tides/v1"))
    by_header = settings("v2", base_path="/tides/v1", chosen_by="header", chosen_name="API-Version", chosen_value="2")
    v2 = apis.create(office.manager, by_header)
    assert (v2.chosen_name, v2.state) == ("api-version", "live")
    with pytest.raises(Invalid, match="a day ahead"):
        apis.set_state(office.manager, office.api, "sunset", date(2026, 9, 10))
    ending = apis.set_state(office.manager, office.api, "sunset", date(2026, 12, 1))
    assert ending.sunset_at == datetime(2026, 12, 1, tzinfo=UTC)
    assert apis.touched_by_end(office.manager, office.api) == ["Ferries", "Kayaks"]
    with office.ctx.transaction() as session:
        letters = [m for m in session.scalars(select(Mail)) if m.subject == "Tides v1 ends on 1 December 2026"]
    assert len(letters) == 2
    office.clock.now = datetime(2026, 12, 1, tzinfo=UTC)
    assert apis.end_sunsets(office.ctx) == 1
    assert apis.one(office.manager, office.api).state == "gone"
