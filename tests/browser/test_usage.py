"""The usage page: figures that are sums of calls, each opening to them, and what the month comes to."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread

import httpx
from playwright.sync_api import Locator, Page, expect
from standardwebhooks import Webhook

from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import Processes, wait_for


def figure(text: str) -> int:
    found = re.search(r"[\d,]+", text)
    assert found, text
    return int(found[0].replace(",", ""))


def last_month(page: Page) -> None:
    """Have figures of last month: once they are there, the sentence says so."""
    page.get_by_label("Stretch").select_option("last month")
    expect(page.get_by_label("Stretch")).to_have_value("last month")


def fetched(page: Page, link: Locator) -> str:
    answer = page.request.get(page.url.split("/portal")[0] + (link.get_attribute("href") or ""))
    assert answer.status == 200
    return answer.text()


def test_figures_of_a_past_month_narrow_open_to_their_calls_and_are_a_file(people: People) -> None:
    page = people.member("Leonor")
    page.get_by_role("link", name="Usage").click()
    calls = page.get_by_role("region", name="Calls")
    last_month(page)
    by_status = page.get_by_role("region", name="By status")
    of_404 = by_status.get_by_role("row").filter(has=page.get_by_role("button", name="404"))
    expect(of_404).to_be_visible()
    assert serious(page) == []
    count = figure(of_404.get_by_role("cell").first.inner_text())
    assert count > 0
    of_404.get_by_role("button", name="404").click()
    served = page.get_by_role("button", name=re.compile(r"[\d,]+ served$"))
    expect(served).to_have_text(re.compile(rf"^{count:,} served"))
    expect(calls.get_by_text(re.compile(rf"^{count:,} in view"))).to_be_visible()
    expect(calls.get_by_role("row").nth(1).get_by_role("cell").nth(3)).to_have_text("404")
    rows = list(csv.DictReader(io.StringIO(fetched(page, page.get_by_role("link", name="CSV").first))))
    assert sum(int(row["calls"]) for row in rows) == count and {row["status"] for row in rows} == {"404"}
    assert len(list(csv.DictReader(io.StringIO(fetched(page, calls.get_by_role("link", name="CSV")))))) == count
    page.get_by_role("button", name="of all, not of what is chosen below").click()
    expect(served).not_to_have_text(re.compile(rf"^{count:,} served"))


def test_what_refused_calls_is_said_with_what_would_have_let_them_in(people: People, product: Processes) -> None:
    page = people.member("Duarte")
    application = next(a for a in page.request.get("/portal/api/v1/applications").json() if a["name"] == "Skipper app")
    made = page.request.post(f"/portal/api/v1/applications/{application['id']}/passing-keys", data={}).json()
    key = {"X-API-Key": made["secret"]}
    wait_for(lambda: httpx.get(f"{product.gateway}/tides/v2/stations", headers=key).status_code == 200)
    with httpx.Client(base_url=product.gateway, headers=key) as client:
        while client.get("/tides/v2/stations").status_code != 429:
            pass
    page.goto("/portal/usage?environment=sandbox")
    page.get_by_role("link", name="Usage").wait_for()
    by_key = page.get_by_role("region", name="By key").get_by_role("button", name=made["key"]["prefix"])
    wait_for(lambda: page.reload() and seen(by_key))
    by_key.click()
    why = page.get_by_role("region", name="What refused calls")
    expect(why).to_contain_text(re.compile(r"1 call, the newest with this receipt\."))
    expect(why).to_contain_text(re.compile(r"With .+ at .+ it would have been let in at once\."))
    why.get_by_role("button", name="1 call").click()
    calls = page.get_by_role("region", name="Calls")
    expect(calls.get_by_text("1 in view")).to_be_visible()
    expect(calls.get_by_role("row").nth(1)).to_contain_text("refused by")
    why.get_by_role("button", name="this receipt").click()
    expect(page.get_by_role("complementary", name="Receipt")).to_contain_text("Subscription to Harbour Data · Ketch")
    assert serious(page) == []


def seen(there: Locator) -> bool:
    """Whether something is on the page once its figures are."""
    there.page.get_by_text("in view").wait_for()
    return there.count() > 0


def test_a_day_of_the_chart_opens_to_its_calls(people: People) -> None:
    page = people.member("Leonor")
    page.goto("/portal/usage")
    last_month(page)
    page.get_by_role("button", name="as figures").click()
    row = page.get_by_role("row").filter(has=page.get_by_role("button", name=re.compile(r"^Wed "))).first
    made = sum(figure(row.get_by_role("cell").nth(n).inner_text()) for n in (1, 2, 3))
    row.get_by_role("button").click()
    calls = page.get_by_role("region", name="Calls")
    expect(calls.get_by_text(re.compile(rf"^{made:,} in view"))).to_be_visible()
    calls.get_by_role("button", name="of one day; show all").click()
    expect(calls.get_by_text(re.compile(rf"^{made:,} in view"))).to_have_count(0)


def amounts(text: str) -> list[int]:
    """The amounts of money in a text, in cents."""
    found = re.findall(r"(-?)€([\d,]+)\.(\d\d)(?!\d)", text)
    return [int(f"{sign}{whole}{part}".replace(",", "")) for sign, whole, part in found]


def test_what_the_month_comes_to_opens_to_its_lines(people: People) -> None:
    page = people.member("Leonor")
    page.goto("/portal/usage")
    month = page.get_by_role("region", name="What the month comes to")
    expect(month).to_contain_text(re.compile(r"€[\d,.]+ for \w+ \d{4} so far, on day \d+ of \d+; with tax €[\d,.]+\."))
    expect(month).to_contain_text("Should use go on as it has,")
    month.get_by_role("button", name="open the lines").click()
    rows = month.get_by_role("row")
    expect(rows.filter(has_text="Before tax")).to_be_visible()

    def adds_up() -> bool:
        """By what is shown at one moment: calls that others make are on their way."""
        said, *lines = month.evaluate(
            "part => [part.innerText, ...[...part.querySelectorAll('tr')].map(row => row.innerText)]"
        )
        cents = [amounts(line)[-2] for line in lines if "€" in line]
        so_far = amounts(said.split(" for ")[0])[0]
        return len(cents) >= 5 and cents[-1] == sum(cents[:-1]) == so_far

    wait_for(adds_up)
    assert serious(page) == []


def test_an_alert_that_is_reached_is_told_where_notices_are_and_at_its_webhook(
    people: People, product: Processes
) -> None:
    page = people.member("Aurora")
    page.goto("/portal/usage")
    alerts = page.get_by_role("region", name="Alerts")
    with hook() as (address, got):
        alerts.get_by_role("button", name="have them sent to a webhook, too").click()
        page.get_by_label("Address").fill(f"http://ana:secret@{address}")
        page.get_by_role("button", name="Send them here").click()
        expect(page.get_by_role("alert")).to_contain_text("no name or password")
        page.get_by_label("Address").fill(f"http://{address}")
        page.get_by_role("button", name="Send them here").click()
        secret = page.get_by_test_id("secret").inner_text()
        page.get_by_role("button", name="I have kept it").click()
        alerts.get_by_role("button", name="set an alert").click()
        page.get_by_label("Tell me of").select_option("what the month comes to")
        page.get_by_label(re.compile("Once it comes to so much, in EUR")).fill("none")
        page.get_by_role("button", name="Set it").click()
        expect(page.get_by_role("dialog").get_by_role("alert")).to_be_visible()
        page.get_by_label(re.compile("Once it comes to so much, in EUR")).fill("0.01")
        page.get_by_role("button", name="Set it").click()
        expect(alerts).to_contain_text("€0.01 of the month's charge, before tax")
        expect(alerts).to_contain_text(re.compile(r"reached \d+ \w+, \d\d:\d\d"))
        assert serious(page) == []
        fields, body = wait_for(lambda: got[0] if got else None)
    said = Webhook(secret).verify(body, fields)
    assert said["type"] == "alert.reached" and said["data"]["amount"] == "0.0100"

    page.goto("/portal/notices")
    told = page.get_by_role("region", name="What you were told")
    newest = told.get_by_role("group").filter(has_text="Alert: €0.01 of the month's charge, before tax").first
    expect(newest).to_contain_text("unread")
    newest.locator("summary").click()
    expect(newest).to_contain_text(re.compile(r"is reached: it comes to €\d+\.\d\d so far\."))
    expect(newest).not_to_contain_text("unread")
    page.get_by_role("button", name="mark all as read").click()
    expect(page.get_by_role("link", name="Notices", exact=True)).to_be_visible()
    mail = page.get_by_role("complementary", name="By mail")
    mail.get_by_label("Alerts").uncheck()
    expect(mail.get_by_label("Alerts")).to_be_enabled()
    page.reload()
    expect(mail.get_by_label("Alerts")).not_to_be_checked()
    expect(mail.get_by_label("Invoices")).to_be_checked()
    newest.locator("summary").click()
    newest.get_by_role("link", name="Open what it is about").click()
    alerts.get_by_role("button", name="take it away").click()
    expect(alerts).to_contain_text("None yet.")


@contextmanager
def hook() -> Iterator[tuple[str, list[tuple[dict[str, str], bytes]]]]:
    """Where webhooks can be sent: its address, and what has come."""
    got: list[tuple[dict[str, str], bytes]] = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            got.append((dict(self.headers), self.rfile.read(int(self.headers["content-length"]))))
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    Thread(target=server.serve_forever, daemon=True).start()
    yield f"127.0.0.1:{server.server_port}/calm", got
    server.shutdown()


def test_a_call_opens_to_what_it_came_with_and_in_the_sandbox_to_its_bodies(people: People, product: Processes) -> None:
    page = people.member("Duarte")
    application = next(a for a in page.request.get("/portal/api/v1/applications").json() if a["name"] == "Skipper app")
    made = page.request.post(f"/portal/api/v1/applications/{application['id']}/passing-keys", data={}).json()
    key = {"X-API-Key": made["secret"], "User-Agent": "bridge/2"}
    address = f"{product.gateway}/tides/v2/stations/lm-01/heights?step_minutes=30"
    answer = wait_for(lambda: (r := httpx.get(address, headers=key)).status_code == 200 and r)
    wait_for(product.shipped)
    page.goto(f"/portal/usage?environment=sandbox&call={answer.headers['Call-Id']}")
    request = page.get_by_role("region", name="The request")
    expect(request).to_contain_text("GET /tides/v2/stations/lm-01/heights?step_minutes=30")
    expect(request).to_contain_text("user-agent: bridge/2")
    expect(request).to_contain_text("From 127.0.0.1.")
    request.get_by_text("The answer’s body: application/json").click()
    expect(request.get_by_role("region", name="The answer’s body")).to_contain_text('"station"')
    assert made["secret"] not in page.content()
    assert serious(page) == []
