"""The gateway over loopback: a real back end, a real journal, a real database."""

from __future__ import annotations

import asyncio
import itertools
import shutil
import time
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path

import aiohttp
import httpx
import pytest
from sqlalchemy import func, select

from calm_tariff.core.paths import Router
from calm_tariff.gateway.compiled.plain_paths import is_plain
from calm_tariff.gateway.recording.journal import Journal, Unwritable
from calm_tariff.services.admit import credentials
from calm_tariff.services.serve import instances
from calm_tariff.store.serve.usage import Call
from tests.gateway.running import Running, running
from tests.processes import wait_for

__all__ = ["running"]

PACED = {
    "limits": [
        {
            "kind": "pace",
            "name": "Pace",
            "counted_per": "subscription",
            "calls": 20,
            "per_seconds": 1,
            "max_wait_ms": 2000,
        },
    ],
    "pricing": {"prices": []},
}


def test_a_call_is_served_counted_and_told_what_is_left(running: Running) -> None:
    answer = running.get("/tides/v1/stations/lm-01/tides?hours=3")
    assert answer.status_code == 200
    assert len(answer.json()["predictions"]) == 4
    # 20 at once refill in 2 s; the monthly quota's window is told as 30 days.
    assert answer.headers["RateLimit-Policy"] == '"rate";q=20;w=2, "forecast calls";q=100;w=2592000'
    assert answer.headers["RateLimit"].startswith('"rate";r=19;t=1, "forecast calls";r=99;t=')
    seen = httpx.get(f"{running.processes.standins}/asked").json()["last_headers"]
    assert "x-api-key" not in seen
    assert running.caller.secret not in str(seen)
    bearer = running.get(secret=None, Authorization=f"Bearer {running.caller.secret}")
    assert bearer.status_code == 200
    missing = running.get("/tides/v1/stations/nowhere")
    assert missing.status_code == 404  # the back end's own answer: served, but not counted by a 2xx meter
    assert missing.headers["RateLimit"].split(", ")[1].startswith('"forecast calls";r=97;t=')
    assert running.get("/tides/v1/stations").headers.get("RateLimit", "").count("forecast") == 0
    assert (running.recorded("served"), running.units()) == (4, Decimal(2))


def test_every_answer_names_its_call_and_pages_of_the_portal_may_read_it(running: Running) -> None:
    web = running.processes.settings.address
    unknown, page = "lt_live_nobodys", {"Origin": web}
    served, refused = running.get(**page), running.get(secret=unknown, **page)
    elsewhere = running.get(Origin="https://elsewhere.example")
    assert (served.status_code, refused.status_code) == (200, 401)
    for answer in (served, refused):
        assert answer.headers["Access-Control-Allow-Origin"] == web
        assert answer.headers["Access-Control-Expose-Headers"] == "*"
    assert "Access-Control-Allow-Origin" not in elsewhere.headers
    asked = {**page, "Access-Control-Request-Method": "GET", "Access-Control-Request-Headers": "x-api-key"}
    before = httpx.options(str(served.url), headers=asked)
    assert (before.status_code, before.headers["Access-Control-Allow-Headers"]) == (204, "x-api-key")
    running.recorded()
    with running.office.ctx.transaction() as session:
        known = {call.call_id: call.verdict for call in session.scalars(select(Call))}
    told = {answer.headers["Call-Id"]: answer for answer in (served, refused, elsewhere)}
    assert {call: known[call] for call in told} == known  # the preflight is none
    assert (known[served.headers["Call-Id"]], known[refused.headers["Call-Id"]]) == ("served", "refused")


def test_who_may_not_call_is_told_why(running: Running) -> None:
    member, application, _ = running.office.ask("Anglers", "Ketch")
    waiting = credentials.make_key(running.office.ctx.acting(member), application, "").secret
    wait_for(lambda: running.get(secret=waiting).status_code == 403)
    table = [
        (running.get(secret=None), 401, "No credential"),
        (running.get(secret="lt_live_wrong"), 401, "Unknown credential"),
        (running.get("/tides/v1/nothing"), 404, "No such operation"),
        (running.get("/tides/v2/stations"), 404, "No such operation"),
        (running.get("/tides/v1/%2e%2e/mood"), 400, "Not a plain path"),
        (running.get("/tides/v1/stations%2Flm-01"), 400, "Not a plain path"),
        (running.get("/tides/v1/stations", method="DELETE"), 405, "Not with this method"),
    ]
    for answer, status, title in table:
        assert (answer.status_code, answer.json()["title"]) == (status, title), answer.url
        assert answer.headers["content-type"] == "application/problem+json"
    assert table[0][0].headers["www-authenticate"] == 'Bearer realm="api", Basic realm="api"'
    assert running.units() == 0


def test_a_revoked_key_is_refused_within_a_second(running: Running) -> None:
    own = running.office.acting(running.caller)

    def revoked_after() -> float:
        """Seconds from a new key's revocation to its first refusal."""
        made = credentials.make_key(own, running.caller.application, "")
        wait_for(lambda: running.get(secret=made.secret).status_code != 401)
        credentials.revoke_key(own, made.key.id)
        begun = time.monotonic()
        wait_for(lambda: running.get(secret=made.secret).status_code == 401)
        return time.monotonic() - begun

    # A machine that is busy elsewhere may be slow once, not each time.
    assert any(revoked_after() <= 1 for _ in range(6))


def test_the_quota_refuses_exactly_when_spent_also_after_a_restart(running: Running) -> None:
    for n in range(100):
        status = running.get().status_code
        while status == 429:  # the rate; a moment later it goes on
            status = running.get().status_code
        assert status == 200, n
        if n == 60:
            running.processes.kill("gateway")
            running.processes.start("gateway")
    refused = wait_for(lambda: (r := running.get()).json().get("limit") == "Forecast calls" and r)
    problem = refused.json()
    assert (problem["used"], problem["allowed"], problem["counted_per"]) == ("100", "100", "subscription")
    assert int(refused.headers["Retry-After"]) > 0
    assert running.recorded("served") == 100
    assert running.units() == 100
    running.processes.kill("gateway")
    running.processes.start("gateway")
    assert running.get().json()["limit"] == "Forecast calls"


@pytest.mark.parametrize("running", [{"Ketch": PACED}], indirect=True)
def test_a_paced_call_is_held_and_simultaneous_calls_never_exceed_a_limit(running: Running) -> None:
    async def burst() -> list[int]:
        async with aiohttp.ClientSession() as session:

            async def one() -> int:
                headers = {"X-API-Key": running.caller.secret}
                async with session.get(f"{running.processes.gateway}/tides/v1/stations", headers=headers) as answer:
                    await answer.read()
                    return answer.status

            return await asyncio.gather(*(one() for _ in range(80)))

    with ThreadPoolExecutor(1) as aside:  # the main thread may have a loop of its own, of the browser tests
        statuses = aside.submit(asyncio.run, burst()).result()
    served = statuses.count(200)
    assert served + statuses.count(429) == 80
    at_once = served - running.recorded("held")
    # 20 a second, waiting up to 2 s: one at once and 40 held, and one more for every 50 ms that the calls took to come.
    with running.office.ctx.transaction() as session:
        first, last = session.execute(select(func.min(Call.decided_us), func.max(Call.decided_us))).one()
        begins = sorted(
            a + w for a, w in session.execute(select(Call.decided_us, Call.wait_us).where(Call.verdict != "refused"))
        )
    assert 41 <= served <= 41 + (last - first) // 50_000 + 1
    assert 1 <= at_once <= 1 + (last - first) // 50_000
    assert all(later - earlier >= 49_999 for earlier, later in itertools.pairwise(begins))


def test_a_back_end_that_is_down_is_told_and_recorded(running: Running) -> None:
    running.processes.kill("standins")
    answer = running.get()
    assert (answer.status_code, answer.headers["Retry-After"]) == (503, "5")
    assert answer.json()["title"] == "The back end is down"
    assert (running.recorded("served"), running.units()) == (1, 0)


def test_a_journal_that_cannot_be_written_stops_serving(tmp_path: Path) -> None:
    journal = Journal(tmp_path / "gone")
    journal.start()
    shutil.rmtree(tmp_path / "gone")
    with pytest.raises(Unwritable):
        journal.append({"call_id": "A"})
    assert journal.fault
    journal.probe()
    assert journal.fault
    (tmp_path / "gone").mkdir()
    journal.probe()
    assert journal.fault is None
    journal.append({"call_id": "A"})
    journal.close_segment()
    assert [p.suffix for p in (tmp_path / "gone").iterdir()] == [".jsonl"]


def test_paths_lead_to_operations_by_openapis_precedence() -> None:
    router = Router(
        [
            (1, "GET", "/stations"),
            (2, "GET", "/stations/{id}"),
            (3, "GET", "/stations/nearest"),
            (4, "POST", "/a/{b}:cancel"),
            (5, "GET", "/{owner}/{repo}/compare/{base}...{head}"),
            (6, "GET", "/stations/{id}/tides"),
            (7, "GET", "/{any}/fixed"),
        ]
    )
    table = {
        ("GET", "/stations"): 1,
        ("GET", "/stations/nearest"): 3,
        ("GET", "/stations/x%2Fy"): 2,
        ("POST", "/a/7:cancel"): 4,
        ("GET", "/o/r/compare/v1...v2"): 5,
        ("GET", "/stations/fixed"): 2,
        ("GET", "/other/fixed"): 7,
        ("GET", "/stations/nearest/tides"): 6,
        ("DELETE", "/stations"): None,
    }
    for (method, path), wanted in table.items():
        match = router.match(method, path)
        assert match is not None
        assert match.operation_id == wanted, path
    for path in ("/", "/stations/", "/stations//tides", "/a/7", "/o/r/compare/v1..v2"):
        assert router.match("GET", path) is None, path
    for path in ("/a/%2E%2e/b", "/a/./b", "/a%2Fb", "/a/%252e%252e/b", "/a%5Cb", "/a\\b", "/a%0d%0ab", "/a%00"):
        assert not is_plain(path), path
    for path in ("/a/..b", "/a/100%25", "/a/caf%C3%A9", "/a/%3F%23", "//a"):
        assert is_plain(path), path


def test_a_gateway_that_is_told_to_stop_leaves_in_good_order(running: Running) -> None:
    assert running.get().status_code == 200
    wait_for(lambda: any(i.kind == "gateway" for i in instances.health(running.office.manager).instances))
    process = running.processes.running.pop("gateway")
    process.terminate()
    assert process.wait(60) == 0
    journal = running.processes.settings.journal / running.processes.settings.gateway_name
    assert not (journal / "running").exists()  # it is not taken for one that died
    assert [i.kind for i in instances.health(running.office.manager).instances if i.kind == "gateway"] == []
    assert running.recorded("served") == 1
