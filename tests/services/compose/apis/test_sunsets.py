"""How a version ends: on a day ahead, with word to whom it concerns, once, and not while its end was called off."""

from __future__ import annotations

from datetime import UTC, date, datetime

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed
from calm_tariff.services.compose.apis import sunsets, versions
from calm_tariff.store.base.record import Mail
from tests.office import Office

LAST = date(2026, 12, 1)


def test_a_version_ends_on_its_day_and_members_of_who_may_call_it_are_told(office: Office) -> None:
    for day in (None, date(2026, 9, 10), office.clock.now.date()):
        with pytest.raises(Invalid, match="a day ahead") as refused:
            sunsets.set_state(office.manager, office.api, "sunset", day)
        assert refused.value.where == "sunset_on"
    assert versions.one(office.manager, office.api).state == "live"
    ending = sunsets.set_state(office.manager, office.api, "sunset", LAST)
    assert ending.sunset_at == datetime(2026, 12, 1, tzinfo=UTC)
    assert sunsets.touched_by_end(office.manager, office.api) == ["Ferries", "Kayaks"]
    with office.ctx.transaction() as session:
        letters = [m for m in session.scalars(select(Mail)) if m.subject == "Tides v1 ends on 1 December 2026"]
    assert len(letters) == 2
    office.clock.now = datetime(2026, 11, 30, 23, 59, 59, tzinfo=UTC)
    assert sunsets.end_sunsets(office.ctx) == 0
    office.clock.now = datetime(2026, 12, 1, tzinfo=UTC)
    assert [sunsets.end_sunsets(office.ctx) for _ in range(2)] == [1, 0]
    ended = versions.one(office.manager, office.api)
    assert (ended.state, ended.sunset_at, ended.moves) == ("gone", datetime(2026, 12, 1, tzinfo=UTC), [])
    with pytest.raises(Conflict):
        sunsets.set_state(office.manager, office.api, "live")


def test_an_end_that_was_called_off_does_not_come(office: Office) -> None:
    with pytest.raises(NotAllowed):
        sunsets.set_state(office.reviewer, office.api, "sunset", LAST)
    sunsets.set_state(office.manager, office.api, "sunset", LAST)
    back = sunsets.set_state(office.manager, office.api, "live")
    assert (back.state, back.deprecated_at, back.sunset_at) == ("live", None, None)
    office.clock.now = datetime(2026, 12, 2, tzinfo=UTC)
    assert sunsets.end_sunsets(office.ctx) == 0 and not sunsets.end_sunset(office.ctx, office.api)
    assert versions.one(office.manager, office.api).state == "live"
