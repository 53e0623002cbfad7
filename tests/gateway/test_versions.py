"""Versions side by side, sandbox and live apart, limits of every layer, and units known from the response."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

import httpx
import pytest
from sqlalchemy import select

from calm_tariff.core.routes import Route
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.compose import house_limits, meters
from calm_tariff.services.compose.apis import operations, sunsets, versions
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.observe import request_in_view
from calm_tariff.services.serve import receipts
from calm_tariff.store.serve.usage import Call, HourlyUsage
from tests.gateway.running import PLENTY, Running, running
from tests.office import terms
from tests.processes import wait_for

__all__ = ["running"]


def describe(running: Running, typed: ApiTyped) -> tuple[int, dict[str, int]]:
    """A new API version that Harbour Data sells, too: its id, and its operations by label."""
    office = running.office
    version = versions.create(office.manager, typed)
    found = {f"{o.method} {o.path}": o.id for o in operations.page(office.manager, version.id).operations}
    office.sell(*found.values())
    return version.id, found


@pytest.mark.parametrize("running", [PLENTY], indirect=True)  # it asks again and again until what changed is known
def test_versions_are_told_apart_by_header_and_host_and_end_with_notice(running: Running) -> None:
    back_end = f"{running.processes.standins}/tides"
    listed = [OperationTyped("GET", "/stations/{id}/extremes")]
    by_header = ApiTyped(
        "Tides",
        "v2",
        "",
        "/tides/v1",
        back_end,
        operations=listed,
        chosen_by="header",
        chosen_name="API-Version",
        chosen_value="2",
    )
    describe(running, by_header)
    by_host = ApiTyped(
        "Tides",
        "v3",
        "",
        "/tides/v1",
        f"{running.processes.standins}/sea",
        chosen_by="host",
        chosen_value="sea.example",
        operations=[OperationTyped("GET", "/buoys")],
    )
    describe(running, by_host)
    extremes = "/tides/v1/stations/lm-01/extremes"
    wait_for(lambda: running.get(extremes, **{"API-Version": "2"}).status_code == 200)
    assert running.get(extremes).status_code == 404  # without the header it is v1, which has no extremes
    assert running.get("/tides/v1/stations", **{"API-Version": "2"}).status_code == 404
    buoys = wait_for(lambda: (known := running.get("/tides/v1/buoys", Host="sea.example")).status_code == 200 and known)
    assert buoys.json()[0]["name"] == "Outer Bar"
    assert running.get("/tides/v1/stations").status_code == 200
    last = date.today() + timedelta(days=40)
    office = running.office
    ending = sunsets.set_state(office.manager, office.api, "sunset", last)
    told = wait_for(lambda: (r := running.get("/tides/v1/stations")).headers.get("Sunset") and r)
    assert told.headers["Deprecation"] == f"@{int(ending.deprecated_at.timestamp())}"
    assert told.headers["Sunset"] == ending.sunset_at.strftime("%a, %d %b %Y %H:%M:%S GMT")
    assert "Sunset" not in running.get(extremes, **{"API-Version": "2"}).headers
    sunsets.set_state(office.manager, office.api, "gone")
    gone = wait_for(lambda: (r := running.get("/tides/v1/stations")).status_code == 410 and r)
    assert gone.json()["detail"] == "Tides v1 answers no more."
    assert running.get(extremes, **{"API-Version": "2"}).status_code == 200


def test_the_sandbox_has_its_own_back_end_and_counts_and_is_not_metered(running: Running) -> None:
    office, caller = running.office, running.caller
    wait_for(lambda: running.get().status_code == 200)
    key = credentials.make_key(office.acting(caller), caller.application, "try", "sandbox")
    assert key.secret.startswith("calmkey-sandbox-")
    refused = wait_for(lambda: (r := running.get(secret=key.secret)).status_code == 403 and r)
    assert refused.json()["title"] == "No sandbox"
    view = versions.one(office.manager, office.api)
    typed = ApiTyped("Tides", "v1", "", "/tides/v1", view.back_end_url, sandbox_url=f"{running.processes.standins}/sea")
    versions.save(office.manager, office.api, view.edition, typed)
    # The sandbox's back end is another: it knows no stations.
    answer = wait_for(lambda: (r := running.get(secret=key.secret)).status_code == 404 and r)
    assert answer.headers["RateLimit"].startswith('"rate";r=1')
    assert "forecast calls" not in answer.headers["RateLimit"]  # its meter counts live calls only
    before = running.get().headers["RateLimit"].split("forecast calls")[1]
    running.get(secret=key.secret)
    after = running.get().headers["RateLimit"].split("forecast calls")[1]
    assert int(before.split("r=")[1].split(";")[0]) - int(after.split("r=")[1].split(";")[0]) == 1
    assert running.recorded() >= 5
    with office.ctx.transaction() as session:
        environments = {c.environment: c.units for c in session.scalars(select(Call)) if c.key_id == key.key.id}
    assert environments == {"sandbox": {}}


def test_limits_above_the_plan_and_of_single_operations_hold_and_are_named(running: Running) -> None:
    office = running.office
    house = {
        "kind": "window",
        "name": "Window",
        "counted_per": "everyone",
        "calls": 3,
        "per_seconds": 3600,
        "rolling": True,
    }
    house_limits.save(office.manager, office.api, 0, [house])
    slow = {
        **terms()["limits"][0],
        "name": "Slow list",
        "calls": 1,
        "per_seconds": 3600,
        "burst": 1,
        "applies_to": [str(office.operations["GET /stations"])],
    }
    office.draft("Ketch", {**terms(), "overrides": [slow]})
    office.publish("keep")
    later = office.admit("Anglers", "Ketch")
    wait_for(lambda: running.get("/tides/v1/stations", secret=later.secret).status_code == 200)
    listed = running.get("/tides/v1/stations", secret=later.secret)
    assert (listed.status_code, listed.json()["limit"]) == (429, "Slow list")
    # Three calls an hour for everybody: this was the first, and the refused one took nothing.
    assert [running.get().status_code for _ in range(3)] == [200, 200, 429]
    refused = running.get(secret=later.secret)
    assert (refused.json()["limit"], refused.json()["counted_per"]) == ("Tides v1: Window", "everyone")
    assert running.recorded("served") == 3
    with office.ctx.transaction() as session:
        newest = session.scalars(select(Call.call_id).order_by(Call.call_id.desc())).first()
    assert newest
    rungs = [r.title for r in receipts.receipt(office.manager, newest).rungs]
    assert "Tides v1: Window, at most 3 calls in any hour, for everyone" in rungs
    running.processes.kill("gateway")
    running.processes.start("gateway")
    assert running.get().status_code == 429  # the window is remembered over a restart


def test_megabytes_and_reported_numbers_are_counted_exactly(running: Running) -> None:
    office, standins = running.office, running.processes.standins
    tiles = ApiTyped(
        "Tiles",
        "v1",
        "",
        "/tiles/v1",
        f"{standins}/tiles",
        operations=[OperationTyped("GET", "/{sheet}/{z}/{x}/{y}.png")],
    )
    sea = ApiTyped(
        "Sea",
        "v1",
        "",
        "/sea/v1",
        f"{standins}/sea",
        operations=[OperationTyped("GET", "/areas/{area}:summarise"), OperationTyped("GET", "/buoys")],
    )
    _, tile = describe(running, tiles)
    _, area = describe(running, sea)
    size = meters.create(office.manager, MeterTyped("Tile megabytes", list(tile.values()), ["2xx"], "bytes_out"))
    cells = meters.create(
        office.manager, MeterTyped("Cells", list(area.values()), ["2xx"], "reported", header="X-Cells")
    )
    wait_for(running.has_the_newest)  # the meters as well, not only what they count
    assert running.get("/sea/v1/buoys").status_code == 200
    got = [running.get(f"/tiles/v1/larkmouth/12/{x}/5.png") for x in range(4)]
    reported = [running.get(f"/sea/v1/areas/{name}:summarise") for name in ("bar", "bank")]
    assert [r.status_code for r in (*got, *reported)] == [200] * 6
    running.recorded()
    with office.ctx.transaction() as session:
        units = {}
        for row in session.scalars(select(HourlyUsage)):
            units[row.meter_id] = units.get(row.meter_id, Decimal(0)) + row.units
    assert units[size.id] == Decimal(sum(len(r.content) for r in got)).scaleb(-6)
    # The list of buoys reports nothing, and counts 0.
    assert units[cells.id] == sum(int(r.headers["X-Cells"]) for r in reported)


def test_the_worker_asks_back_ends_and_the_ticket_desk(running: Running) -> None:
    office = running.office
    well = wait_for(lambda: [h for h in versions.one(office.manager, office.api).health if h.well])
    assert well[0].answer in ("answered 404", "answered 200")
    office.change_product(route=Route(otherwise="outside"))
    member, _, request = office.ask("Anglers", "Ketch")
    desk = running.processes.standins
    number = wait_for(lambda: request_in_view.one(office.manager, request).request.ticket)
    page = httpx.get(f"{desk}/tickets").text
    assert f"{number}: Harbour Data · Ketch for Anglers" in page
    httpx.post(f"{desk}/tickets/{number}/decide", data={"decision": "granted", "note": "Fine by us."})
    wait_for(lambda: applications.own(office.ctx.acting(member))[0].plans[0].state == "active")
