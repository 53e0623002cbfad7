"""A key that gives way to a new one, while both serve."""

from __future__ import annotations

import time

import httpx
from playwright.sync_api import expect

from calm_tariff.core.keys import beginning
from tests.browser.conftest import People
from tests.browser.test_subscriptions import subscribed
from tests.browser.test_views import serious
from tests.processes import PATIENCE, wait_for


def test_a_key_is_rotated_and_both_serve(people: People) -> None:
    page = people.member("Leonor")
    name = f"Rotated {time.time_ns()}"
    _, old = subscribed(page, name)

    def served(secret: str) -> bool:
        address = f"{people.product.gateway}/sea/v1/buoys"
        return httpx.get(address, headers={"X-API-Key": secret}, timeout=PATIENCE).status_code == 200

    page.goto("/portal/applications")
    page.get_by_role("link", name=name).click()
    page.get_by_role("row").filter(has_text=beginning(old)).get_by_role("button", name="rotate").click()
    dialog = page.get_by_role("dialog", name=f"Rotate {beginning(old)}…")
    dialog.get_by_label("The old one serves for").select_option(label="a week more")
    dialog.get_by_role("button", name="Make the new key").click()
    new = page.get_by_test_id("secret").inner_text()
    assert new.startswith("calmkey-live-") and new != old
    page.get_by_role("button", name="I have kept it").click()
    expect(page.get_by_role("row").filter(has_text=beginning(old))).to_contain_text("retiring")
    expect(page.get_by_role("row").filter(has_text=beginning(new))).to_contain_text("active")
    wait_for(lambda: served(new) and served(old))
    assert serious(page) == []
    page.get_by_role("row").filter(has_text=beginning(old)).get_by_role("button", name="revoke").click()
    page.get_by_role("button", name="Revoke the key").click()
    wait_for(lambda: not served(old))
    assert served(new)
