"""Limits above the plans: who may set them, what may stand there, and that they hold at once."""

from __future__ import annotations

from typing import Any

import pytest

from calm_tariff.core.errors import Invalid, NotAllowed, NotFound, Stale
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor
from calm_tariff.services.compose import house_limits
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office

RATE: dict[str, Any] = {
    "kind": "rate",
    "name": "Rate",
    "counted_per": "everyone",
    "calls": 100,
    "per_seconds": 1,
    "burst": 200,
}


def test_a_limit_holds_with_the_next_feed_for_everything_or_for_one_version(office: Office) -> None:
    number = read_feed(office.ctx).number
    house_limits.save(office.manager, None, 0, [RATE])
    house_limits.save(office.manager, office.api, 0, [{**RATE, "name": "Spare the back end", "calls": 20}])
    feed = read_feed(office.ctx)
    assert feed.number > number
    (everywhere,) = feed.provider_limits
    assert everywhere.applies_to is None and everywhere.calls == 100  # type: ignore[union-attr]
    (placed,) = feed.api_limits
    assert placed.applies_to and set(placed.applies_to) == {str(o) for o in office.operations.values()}
    assert "Tides v1" in placed.name
    every, tides = house_limits.everything(office.manager)
    assert (every.name, every.edition, tides.name, tides.edition) == ("Every API", 1, "Tides v1", 1)


@pytest.mark.parametrize(
    ("limits", "where"),
    [
        ([{**RATE, "calls": 0}], "limits[0].calls"),
        ([RATE, RATE], "limits[1].name"),
        ([{**RATE, "applies_to": ["1"]}], "limits[0].applies_to"),
        ([{**RATE, "kind": "none such"}], "limits[0].kind"),
        ([{**RATE, "more": 1}], "limits[0].more"),
        ("none", "limits"),
        (
            [
                {
                    "kind": "quota",
                    "name": "Month",
                    "counted_per": "consumer",
                    "units": 5,
                    "every": "month",
                    "aligned": "calendar",
                    "when_spent": "refuse",
                    "meter": None,
                }
            ],
            "limits[0].kind",
        ),
    ],
)
def test_what_cannot_stand_there_is_refused_by_field_and_nothing_changes(
    office: Office, limits: Any, where: str
) -> None:
    house_limits.save(office.manager, None, 0, [RATE])
    with pytest.raises(Invalid) as refused:
        house_limits.save(office.manager, None, 1, limits)
    assert refused.value.where == where
    assert house_limits.everything(office.manager)[0].limits == [house_limits.write(read_feed_limit(office))]


def read_feed_limit(office: Office) -> Any:
    with office.ctx.transaction() as session:
        (limit,) = house_limits.above_plans(session, apart=False)[0]
        return limit


def test_of_two_who_change_at_once_the_second_is_shown_what_the_first_kept(office: Office) -> None:
    house_limits.save(office.manager, None, 0, [RATE])
    with pytest.raises(Stale) as meanwhile:
        house_limits.save(office.manager, None, 0, [])
    assert [limit["name"] for limit in meanwhile.value.current.limits] == ["Rate"]  # type: ignore[attr-defined]
    assert house_limits.save(office.manager, None, 1, []).limits == []


def test_who_may_change_them_and_where(office: Office) -> None:
    operations = office.ctx.acting(Actor("Tomas", frozenset({"operations"})))
    assert house_limits.save(operations, None, 0, [RATE]).edition == 1
    for ctx in (office.finance, office.reviewer):
        with pytest.raises(NotAllowed):
            house_limits.save(ctx, None, 1, [])
    with pytest.raises(NotFound):
        house_limits.save(operations, 10**9, 0, [RATE])


def test_a_change_is_on_the_record_with_before_and_after(office: Office) -> None:
    house_limits.save(office.manager, None, 0, [RATE])
    house_limits.save(office.manager, None, 1, [{**RATE, "calls": 7}])
    entry = auditing.entries(office.manager, PageQuery(rows=1)).rows[0]
    assert (entry.action, entry.subject) == ("changed limits above the plans", "Every API")
    assert entry.before and entry.after
    assert (entry.before["limits"][0]["calls"], entry.after["limits"][0]["calls"]) == (100, 7)


def test_what_is_offered_to_be_added_has_a_name_that_is_free(office: Office) -> None:
    first = house_limits.save(office.manager, None, 0, [RATE])
    added = next(action for action in first.actions if action.label == "Add a rate")
    assert added.value["name"] == "Rate 2"
    second = house_limits.save(office.manager, None, 1, [*first.limits, added.value])
    assert [limit["name"] for limit in second.limits] == ["Rate", "Rate 2"]
