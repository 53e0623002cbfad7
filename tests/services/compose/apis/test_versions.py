"""Versions of one API side by side."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core.errors import Conflict
from calm_tariff.services.compose.apis import versions
from calm_tariff.services.compose.apis.versions import ApiTyped
from tests.office import Office


def settings(version: str, **more: object) -> ApiTyped:
    return replace(ApiTyped("Tides", version, "", f"/tides/{version}", "http://127.0.0.1:9/tides"), **more)


def test_versions_answer_side_by_side_each_where_no_other_does(office: Office) -> None:
    with pytest.raises(Conflict, match="is where Tides v1 answers"):
        versions.create(office.manager, settings("v2", base_path="/tides/v1"))
    by_header = settings("v2", base_path="/tides/v1", chosen_by="header", chosen_name="API-Version", chosen_value="2")
    v2 = versions.create(office.manager, by_header)
    assert (v2.chosen_name, v2.state) == ("api-version", "live")
