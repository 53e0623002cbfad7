"""How a plan is paid, said with the first one that can cost something; and the form for it, whatever comes late."""

from __future__ import annotations

import re

from playwright.sync_api import Route, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious

ORDER_NUMBER = "Your order number, if invoices should carry one"


def test_the_first_plan_that_costs_asks_how_it_is_paid_and_the_desk_and_the_organisation_are_told(
    people: People,
) -> None:
    page = people.member("Henrique")  # whose plan is free
    page.goto("/portal/organisation")
    expect(page.get_by_text("It is asked for with the first plan that can cost something.")).to_be_visible()
    page.goto("/portal/products/harbour-data")
    page.get_by_role("button", name="Choose Skiff").first.click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("What is it for?")).to_be_visible()
    expect(dialog.get_by_label(ORDER_NUMBER)).to_have_count(0)
    dialog.get_by_role("button", name="Not now").click()

    page.get_by_role("button", name="Choose Ketch").first.click()
    expect(dialog.get_by_text("You pay by transfer, within 14 days of each invoice.")).to_be_visible()
    assert serious(page) == []
    dialog.get_by_label("For the application").select_option(label="a new one")
    dialog.get_by_label("Name of the application").fill("Slip times")
    dialog.get_by_label("What is it for?").fill("The water at the slip, for our courses.")
    dialog.get_by_label(ORDER_NUMBER).fill("n" * 41)
    dialog.get_by_role("checkbox").check()
    dialog.get_by_role("button", name="Ask for access").click()
    expect(dialog.get_by_label(ORDER_NUMBER)).to_have_accessible_description(
        re.compile("Must be at most 40 characters")
    )
    dialog.get_by_label(ORDER_NUMBER).fill("SK-9")
    dialog.get_by_role("button", name="Ask for access").click()
    expect(page.get_by_role("heading", name="Your request is on the desk")).to_be_visible()

    staff = people.staff("Rui")
    staff.goto("/admit/desk?words=Saltmarsh")
    staff.get_by_role("row").filter(has_text="Slip times").get_by_role("link").click()
    expect(staff.get_by_text("Saltmarsh Kayak Club pays by transfer, order number SK-9.")).to_be_visible()

    page.goto("/portal/organisation")
    paying = page.get_by_role("region", name="How invoices are paid")
    expect(paying).to_contain_text("By transfer, within 14 days of each. They carry your order number SK-9.")
    paying.get_by_role("button", name="change the order number").click()
    paying.get_by_label("Your order number").fill("SK-10")
    paying.get_by_role("button", name="Keep it").click()
    expect(paying).to_contain_text("They carry your order number SK-10.")
    assert serious(page) == []

    page.goto("/portal/applications")
    page.get_by_role("link", name="Slip times").click()
    page.get_by_role("button", name="take the request back").click()
    expect(page.get_by_text("Harbour Data · Ketch: taken back")).to_be_visible()


def test_a_form_that_opens_before_the_estimate_comes_stands_when_it_comes(people: People) -> None:
    page = people.member("Leonor")
    late: list[Route] = []
    page.route("**/products/harbour-data/estimate*", lambda route: late.append(route), times=1)
    page.goto("/portal/products/harbour-data")
    choose = page.get_by_role("button", name="Choose Skiff").first
    expect(choose).to_be_visible()
    page.evaluate("document.fonts.ready")
    before = choose.bounding_box()
    choose.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("What is it for?").fill("Times on a board")
    assert late
    with page.expect_response("**/products/harbour-data/estimate*"):
        late[0].continue_()
    expect(page.get_by_text("is your use of", exact=False).first).to_be_attached()
    expect(dialog.get_by_label("What is it for?")).to_have_value("Times on a board")
    dialog.get_by_role("button", name="Not now").click()
    assert choose.bounding_box() == before, "it moved under the pointer"


def test_the_account_is_seen_once_it_stands(people: People) -> None:
    page = people.member("Leonor")
    late: list[Route] = []
    page.route("**/portal/api/v1/card", lambda route: late.append(route), times=1)
    with page.expect_response("**/portal/api/v1/account/entries*"), page.expect_response("**/portal/api/v1/account"):
        page.goto("/portal/account")
    expect(page.get_by_text("Fetching your account")).to_be_visible()
    statement = page.get_by_role("link", name="Save this year’s statement as PDF")
    assert late and statement.count() == 0, "it would move under the pointer"
    late[0].continue_()
    expect(statement).to_be_visible()
    assert page.get_by_role("region", name="How you pay").is_visible()
