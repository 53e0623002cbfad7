"""Paying by card: given at the payment processor's page, refused, replaced and charged; disputed; credit paid out."""

from __future__ import annotations

import re
from decimal import Decimal

import httpx
from playwright.sync_api import Page, expect

from calm_tariff.demo.cards import NO_COVER, PAYS
from calm_tariff.demo.scenario import PASSWORD
from tests.browser.conftest import People

BUILDERS = "Breakwater Builders"


def carla(people: People) -> Page:
    """The owner of whose card there is never cover."""
    page = people.page()
    page.goto("/portal/sign-in")
    page.get_by_label("E-mail address").fill("carla@breakwater.example")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in", exact=True).click()
    page.get_by_role("heading", name="My applications").wait_for()
    return page


def opened(page: Page) -> str:
    """The number of the invoice that its card could not pay, opened."""
    page.goto("/portal/invoices")
    row = page.get_by_role("row").filter(has_text=re.compile("issued|overdue"))
    number = row.get_by_role("link").inner_text()
    row.get_by_role("link").click()
    expect(page.get_by_role("heading", name=f"Invoice {number}")).to_be_visible()
    return number


def give(page: Page, number: str, ends: str = "08/31", code: str = "123") -> None:
    """Type a card in at the processor's page."""
    page.get_by_label("Card number").fill(number)
    page.get_by_label("Good until (month/year)").fill(ends)
    page.get_by_label("Code on its back").fill(code)
    page.get_by_role("button", name="Keep this card").click()


def dispute(standins: str, about: str, step: str) -> None:
    """Whoever paid takes a step of a dispute about the charge that an invoice was paid by."""
    charges = httpx.get(f"{standins}/processor.json", timeout=60).json()["charges"]
    (charge,) = [c["reference"] for c in charges if (c["about"], c["state"]) == (about, "done")]
    answer = httpx.post(f"{standins}/processor/charges/{charge}/dispute", data={"step": step}, timeout=60)
    assert answer.status_code == 303


def test_a_card_fails_another_pays_and_its_owner_disputes_it(people: People) -> None:
    page, beatriz = carla(people), people.staff("Beatriz")
    number = opened(page)
    before = page.get_by_text("could not be charged: there is no cover for it").count()
    page.get_by_role("button", name=re.compile(r"Pay €49\.20 by card")).click()
    expect(page.get_by_text("could not be charged: there is no cover for it")).to_have_count(before + 1)
    expect(page.get_by_role("button", name=re.compile("Pay .* by card"))).to_be_visible()

    page.get_by_role("link", name="give another card").click()
    how = page.get_by_role("region", name="How you pay")
    expect(how.get_by_text("Sandbank Card ending in 2000")).to_be_visible()
    how.get_by_role("button", name="Use another card").click()
    give(page, "9700 0000 0000 1003")
    expect(page.get_by_role("alert")).to_have_text("The number is not right: look at its digits.")
    give(page, PAYS, ends="08/20")
    expect(page.get_by_role("alert")).to_have_text("It has expired.")
    give(page, PAYS)
    expect(how.get_by_text("Sandbank Card ending in 1002")).to_be_visible()
    expect(how.get_by_text("It is good until the end of August 2031")).to_be_visible()
    expect(page).to_have_url(re.compile("/portal/account$"))

    opened(page)
    page.get_by_role("button", name=re.compile("Pay .* by card")).click()
    expect(page.get_by_text(re.compile(r"Sandbank Card ending in 1002 paid €49\.20"))).to_be_visible()
    expect(page.get_by_text(re.compile("paid, due"))).to_be_visible()

    beatriz.goto("/settle/payments?show=card")
    row = beatriz.get_by_role("row").filter(has_text=number).filter(has_text="1002")
    expect(row).to_contain_text(re.compile(rf"{BUILDERS}.*taken.*by Carla Pedra", re.DOTALL))

    dispute(people.product.standins, number, "opened")
    expect(row).to_contain_text("disputed, open: The goods did not come.")
    beatriz.goto("/")
    beatriz.get_by_role("link", name="See which").click()
    row.get_by_role("link", name=number).click()
    expect(beatriz.get_by_text("not tried by itself")).to_be_visible()
    expect(beatriz.get_by_text("disputed, open")).to_be_visible()
    page.reload()
    expect(page.get_by_text("; disputed, open")).to_be_visible()

    dispute(people.product.standins, number, "won")
    beatriz.goto("/settle/payments?show=card")
    expect(row).to_contain_text("disputed, won")


def test_credit_is_paid_out_to_the_card_it_came_from(people: People) -> None:
    beatriz = people.staff("Beatriz")
    beatriz.goto("/settle/accounts?words=Driftline")
    beatriz.get_by_role("link", name="Driftline Apps").click()
    expect(beatriz.get_by_text("Sandbank Card ending in 1002, good until August 2031")).to_be_visible()
    # What it owes depends on the day: a month that was issued today is open.
    owed = beatriz.request.get(f"/api/v1/accounts/{beatriz.url.rsplit('/', 1)[1]}").json()["balance"]
    beatriz.get_by_role("button", name="Book a payment").click()
    beatriz.get_by_label("Amount, in EUR").fill(str(Decimal(owed) + 5))
    beatriz.get_by_role("button", name="Book the payment").click()
    beatriz.get_by_role("button", name="Pay credit out to the card").click()
    beatriz.get_by_label("Amount, in EUR").fill("500")
    beatriz.get_by_role("button", name="Pay it out").click()
    expect(beatriz.get_by_text(re.compile(r"at most .* can go back to one card"))).to_be_visible()
    beatriz.get_by_label("Amount, in EUR").fill("5.00")
    beatriz.get_by_role("button", name="Pay it out").click()
    refund = beatriz.get_by_role("row").filter(has_text="Paid out")
    expect(refund.first).to_contain_text("to Sandbank Card ending in 1002")
    expect(beatriz.get_by_role("button", name="Pay credit out to the card")).to_have_count(0)
    beatriz.goto("/settle/payments?show=card&words=Driftline")
    expect(beatriz.get_by_text("€5.00 went back to the card")).to_be_visible()


def test_a_card_is_given_removed_and_given_again(people: People) -> None:
    page = people.member("Filipa")
    page.goto("/portal/account")
    how = page.get_by_role("region", name="How you pay")
    expect(how.get_by_text("By transfer, with the reference on each invoice.")).to_be_visible()
    how.get_by_role("button", name="Pay by card").click()
    page.get_by_role("link", name="Go back without").click()
    expect(how.get_by_text("By transfer, with the reference on each invoice.")).to_be_visible()
    how.get_by_role("button", name="Pay by card").click()
    give(page, NO_COVER)
    expect(how.get_by_text("Sandbank Card ending in 2000")).to_be_visible()
    page.goto("/portal/organisation")
    expect(page.get_by_text("By card, on the day each is due")).to_be_visible()
    page.goto("/portal/account")
    how.get_by_role("button", name="remove it and pay by transfer").click()
    expect(how.get_by_text("By transfer, with the reference on each invoice.")).to_be_visible()
