"""A product sold open: made so in the console, called by somebody without an account, and shown in the log as that;
files that are sent with a call."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_calling import opened, program, run
from tests.browser.test_views import serious
from tests.echo import echoing
from tests.processes import wait_for

FORM = {
    "type": "object",
    "required": ["paper"],
    "properties": {
        "ship": {"type": "string", "example": "Gannet"},
        "paper": {"type": "string", "format": "binary"},
    },
}
PICTURE = {"image/png": {"schema": {"type": "string", "format": "binary"}}}
DOCUMENT = {
    "openapi": "3.0.3",
    "info": {"title": "Papers", "version": "1"},
    "paths": {
        "/papers": {
            "post": {
                "summary": "Hand in a ship's paper",
                "requestBody": {"required": True, "content": {"multipart/form-data": {"schema": FORM}}},
                "responses": {"200": {"description": "It came."}},
            }
        },
        "/pictures": {
            "put": {
                "summary": "Hand in a picture",
                "requestBody": {"required": True, "content": PICTURE},
                "responses": {"200": {"description": "It came."}},
            }
        },
    },
}
TERMS = {
    "limits": [
        {"kind": "rate", "name": "Rate", "counted_per": "key", "calls": 1, "per_seconds": 60, "burst": 4},
    ],
    "pricing": {"prices": []},
}


@pytest.fixture(scope="module")
def papers() -> Iterator[str]:
    with echoing() as url:
        yield url


def ask(page: Page, method: str, path: str, data: Any = None, edition: int | None = None) -> Any:
    headers = {} if edition is None else {"If-Match": f'"{edition}"'}
    answer = page.request.fetch(f"/api/v1{path}", method=method, data=data, headers=headers)
    assert answer.ok, answer.text()
    return answer.json()


def product_of(page: Page, back_end: str, name: str) -> int:
    """A product with one plan on sale, of an API that a document describes."""
    reading = ask(page, "POST", "/documents", {"name": "papers.json", "text": json.dumps(DOCUMENT)})
    wait_for(lambda: ask(page, "GET", f"/documents/{reading['id']}")["stage"] == "read")
    place = {"name": name, "version": "v1", "base_path": f"/{name.lower()}/v1", "back_end_url": back_end}
    api = ask(page, "POST", f"/documents/{reading['id']}/as-new", {**place, "agreed": True})
    sold = [o["id"] for o in ask(page, "GET", f"/apis/{api['id']}/operations")["operations"]]
    product = ask(page, "POST", "/products", {"name": name, "route": {"otherwise": "open"}, "operations": sold})
    sheet = ask(page, "POST", f"/products/{product['id']}/plans", {"name": "Rowboat"})
    plan = sheet["plans"][-1]
    sheet = ask(page, "PUT", f"/plans/{plan['id']}/draft", {"terms": TERMS}, plan["edition"])
    editions = {str(p["id"]): p["edition"] for p in sheet["plans"]}
    ask(page, "POST", f"/products/{product['id']}/publish", {"existing": "keep", "editions": editions})
    return int(product["id"])


def test_a_product_is_sold_open_and_called_by_a_stranger_until_refused_with_files(
    people: People, papers: str, tmp_path: Path
) -> None:
    ines = people.staff("Ines")
    product = product_of(ines, papers, "Papers")
    ines.goto(f"/compose/products/{product}")
    ines.get_by_role("button", name="product and terms of use").click()
    dialog = ines.get_by_role("dialog", name="Papers")
    anyone = "anyone calls it: counted for the address under the limits of Rowboat, never charged"
    dialog.get_by_label("Without a credential").select_option(anyone)
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_have_count(0)

    page = people.page()
    page.goto("/portal/products/papers")
    expect(page.get_by_text("Anyone may call it without a credential")).to_contain_text("the limits of Rowboat")
    call = opened(page, "POST /papers/v1/papers", product="papers")
    expect(call.get_by_text("The call is live. It counts for your address")).to_be_visible()
    call.get_by_role("button", name="Send the call").click()
    expect(call.get_by_role("alert")).to_have_text("Say the file paper first.")
    paper = tmp_path / "paper.txt"
    paper.write_text("of the Gannet")
    call.get_by_label("paper").set_input_files(paper)
    call.get_by_role("button", name="Send the call").click()
    answer = call.get_by_role("region", name="The answer")
    expect(answer.get_by_role("status")).to_contain_text("Answered 200")
    expect(answer.get_by_label("The body")).to_contain_text('name="paper"; filename="paper.txt"')
    expect(answer.get_by_label("The body")).to_contain_text("of the Gannet")
    assert serious(page) == []
    assert "paper=@paper.txt" in program(call, "Shell")
    for language in ("Python", "JavaScript"):
        echoed = run(language, program(call, language))
        assert "of the Gannet" in echoed and 'filename="paper.txt"' in echoed, echoed

    call.get_by_role("button", name="send until one is refused").click()
    expect(call.get_by_text("Then one was refused")).to_contain_text("Rate")
    expect(answer.get_by_role("status")).to_contain_text("Answered 429")

    wait_for(people.product.shipped)
    ines.goto("/observe/traffic")
    expect(ines.get_by_role("row", name=re.compile("a stranger")).first).to_be_visible()
    refused = ines.get_by_role("row").filter(has_text="a stranger").filter(has_text="refused by Rate").first
    refused.click()
    ladder = ines.get_by_role("complementary", name="Margin")
    expect(ladder.get_by_text("Sold open under Papers · Rowboat, revision 1")).to_be_visible()


def test_a_body_that_is_a_file_is_sent_as_it_is(people: People, papers: str, tmp_path: Path) -> None:
    ines = people.staff("Ines")
    product = product_of(ines, papers, "Pictures")
    sheet = ask(ines, "GET", f"/products/{product}/sheet")
    kept = {k: sheet["product"][k] for k in ("name", "description", "contact", "terms_of_use", "route")}
    open_now = {**kept, "operations": sheet["product"]["operations"], "strangers_plan": sheet["plans"][0]["id"]}
    ask(ines, "PUT", f"/products/{product}", open_now, sheet["product"]["edition"])
    page = people.page()
    call = opened(page, "PUT /pictures/v1/pictures", product="pictures")
    picture = tmp_path / "gannet.png"
    picture.write_bytes(bytes(range(256)) * 4)
    call.get_by_label("The body, a file of image/png").set_input_files(picture)
    with page.expect_request("**/pictures/v1/pictures") as sent:
        call.get_by_role("button", name="Send the call").click()
    answer = call.get_by_role("region", name="The answer")
    expect(answer.get_by_role("status")).to_contain_text("Answered 200")
    expect(answer.get_by_role("status")).to_contain_text("1,024 bytes")
    assert sent.value.headers["content-type"] == "image/png"
    assert "--data-binary" in program(call, "Shell") and "@gannet.png" in program(call, "Shell")


def test_the_sandbox_is_tried_without_an_account_and_its_owner_says_of_what(people: People) -> None:
    page = people.page()
    call = opened(page, "GET /tides/v2/stations/{id}/extremes")
    call.get_by_label("id", exact=False).first.fill("lm-01")
    expect(call.get_by_text("It asks for the sandbox")).to_be_visible()
    call.get_by_role("button", name="Send the call").click()
    answer = call.get_by_role("region", name="The answer")
    expect(answer.get_by_role("status")).to_contain_text("Answered 200")
    expect(answer.get_by_role("meter", name="tries without an account")).to_be_visible()
    expect(answer.get_by_role("region", name="Receipt")).to_have_count(0)
    answer.get_by_text("the request as sent").click()
    expect(answer.locator("pre", has_text="Calm-Environment: sandbox")).to_be_visible()
    opened(page, "GET /berths/v1/harbours/{harbour}/berths")
    ways = call.get_by_label("Credential").get_by_role("option")
    expect(ways.filter(has_text="a key that I have")).to_have_count(1)
    expect(ways.filter(has_text="no credential")).to_have_count(0)

    ines = people.staff("Ines")
    ines.goto("/compose/apis")
    ines.get_by_role("link", name="Tides v2").first.click()
    table = ines.get_by_role("region", name="Operations")
    expect(table.get_by_text("anyone may try it in the sandbox").first).to_be_visible()
    table.get_by_label("Choose GET /stations/{id}/extremes").check()
    table.get_by_role("button", name="nobody may").click()
    row = table.get_by_role("row").filter(has_text="/stations/{id}/extremes")
    expect(row.get_by_text("anyone may try it")).to_have_count(0)
    table.get_by_label("Choose GET /stations/{id}/extremes").check()
    table.get_by_role("button", name="anyone may try it").click()
    expect(row.get_by_text("anyone may try it")).to_be_visible()
    assert serious(ines) == []
