"""Deciding for proxies that forward calls themselves: the service, what is told back, and nginx before it."""

from __future__ import annotations

import re
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from sqlalchemy import select

from calm_tariff.launch.children import die_with_parent
from calm_tariff.services.compose import products
from calm_tariff.services.compose.products import CredentialsTyped
from calm_tariff.services.serve import set_aside
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import Call
from tests.gateway.odd_back_end import OddBackEnd
from tests.gateway.running import Running, running
from tests.office import terms
from tests.ports import free_port
from tests.processes import ROOT, wait_for

__all__ = ["running"]
TOKEN = {"Calm-Proxy-Token": "a proxy's token"}
URI = "/tides/v1/stations/lm-01?days=2"
FEW = {"Ketch": terms(calls=1000, burst=1000, units=8)}


def service(running: Running) -> str:
    return f"http://127.0.0.1:{running.processes.settings.decisions_port}"


def decide(running: Running, key: str | None = None, **more) -> dict:
    headers = {"X-API-Key": key or running.caller.secret}
    asked = {"method": "GET", "uri": URI, "headers": headers, "address": "192.0.2.7", **more}
    return httpx.post(f"{service(running)}/decisions", json=asked, headers=TOKEN).raise_for_status().json()


def tell(running: Running, *outcomes: dict) -> dict:
    return httpx.post(f"{service(running)}/usage", json=list(outcomes), headers=TOKEN).raise_for_status().json()


def recorded(running: Running) -> dict[str, Call]:
    running.recorded()
    with running.office.ctx.transaction() as session:
        return {c.call_id: c for c in session.scalars(select(Call))}


@pytest.mark.parametrize("running", [FEW], indirect=True)
def test_decisions_take_from_the_limits_and_outcomes_settle_them(running: Running) -> None:
    assert httpx.post(f"{service(running)}/decisions", json={}).status_code in (401, 422)
    assert httpx.post(f"{service(running)}/usage", json=[], headers={"Calm-Proxy-Token": "x"}).status_code == 401
    first, second, third = (decide(running) for _ in range(3))
    assert (first["status"], first["verdict"], first["rest"]) == (200, "served", "/stations/lm-01")
    assert "r=5" in third["headers"]["ratelimit"]
    refused = decide(running, "lt_live_unknown")
    assert (refused["status"], refused["body"]["code"]) == (401, "credential-unknown")
    told = tell(
        running,
        {"id": first["id"], "status": 200, "bytes_out": 900, "took_ms": 12},
        {"id": second["id"], "status": 404},  # does not count on a meter of 2xx: one unit comes back
        {"id": first["id"], "status": 200, "bytes_out": 900, "took_ms": 12},
        {"id": first["id"], "status": 500},
        {"id": "01HNOTHERE", "status": 200},
    )
    assert told == {
        "recorded": 2,
        "repeated": [first["id"]],
        "conflicting": [first["id"]],
        "unknown": ["01HNOTHERE"],
        "later": [],
    }
    assert "r=5" in decide(running)["headers"]["ratelimit"]
    found = recorded(running)
    assert found[first["id"]].bytes_out == 900 and found[first["id"]].units and not found[second["id"]].units
    assert found[refused["id"]].refused_by == "credential" and third["id"] not in found
    (repeat,) = set_aside.listed(running.office.manager, PageQuery()).rows
    assert (repeat.call_id, repeat.source) == (first["id"], found[first["id"]].source)
    assert set(repeat.differs) == {
        "status: 200 recorded, 500 repeated",
        "bytes out: 900 recorded, 0 repeated",
        "back end: 12 ms recorded, 0 ms repeated",
    }
    for _ in range(5):
        decide(running, outcome="assumed")
    spent = decide(running)
    assert (spent["status"], spent["body"]["code"], spent["body"]["limit"]) == (429, "limit-reached", "Forecast calls")
    # Killed with two outcomes still promised: they are recorded as answered with 200, once.
    running.processes.kill("gateway")
    running.processes.start("gateway")
    found = wait_for(lambda: (f := recorded(running)) and third["id"] in f and f)
    assert (found[third["id"]].status, "lost with the gateway" in " ".join(found[third["id"]].remarks)) == (200, True)
    assert running.units() == 8
    assert tell(running, {"id": third["id"], "status": 200})["recorded"] == 0


@pytest.mark.parametrize("running", [FEW], indirect=True)
def test_nginx_asks_before_it_forwards(running: Running, nginx: tuple[str, OddBackEnd]) -> None:
    address, back_end = nginx
    office = running.office
    edition = products.one(office.manager, office.product).edition
    products.set_credentials(office.manager, office.product, edition, CredentialsTyped(["key"], key_query="api_key"))
    wait_for(
        lambda: (
            httpx.get(f"{running.processes.gateway}/tides/v1/nothing?api_key={running.caller.secret}").status_code
            == 404
        )
    )
    key = {"X-API-Key": running.caller.secret}
    answer = httpx.get(f"{address}{URI}", headers=key)
    assert answer.status_code == 200
    seen = back_end.asked[-1]
    assert seen["target"] == "/stations/lm-01?days=2"
    assert "x-api-key" not in seen["headers"]
    assert '"forecast calls";r=7' in answer.headers["ratelimit"]
    # Nothing that we say can be said by a caller, and no credential passes, however it is spelled.
    spelled = {each for name in CALM_FIELDS for each in (name, name.replace("-", "_"), name.upper())}
    forged = [*((name, "forged") for name in spelled), ("Cookie", "a=b; calm_console=token"), *key.items()]
    query = "&days=3&Api_key=x&%61pi_key=y&api_key=z"
    assert httpx.get(f"{address}{URI}{query}", headers=forged).status_code == 200
    seen = back_end.asked[-1]
    assert "forged" not in str(seen) and "calm_console" not in str(seen), seen
    assert running.caller.secret not in str(seen)
    assert seen["target"] == "/stations/lm-01?days=2&days=3&Api_key=x"
    assert httpx.get(f"{address}{URI}").status_code == 401
    assert httpx.get(f"{address}/tides/v1/nothing", headers=key).status_code == 404
    for _ in range(6):
        assert httpx.get(f"{address}{URI}", headers=key).status_code == 200
    over = httpx.get(f"{address}{URI}", headers=key)
    assert (over.status_code, over.headers["content-type"]) == (429, "application/problem+json")
    assert int(over.headers["retry-after"]) > 0
    assert running.recorded("served") == 8 == running.units()
    assert len(back_end.asked) == 8


@pytest.fixture
def nginx(running: Running, tmp_path: Path) -> Iterator[tuple[str, OddBackEnd]]:
    """Debian's nginx with the documented configuration, its addresses those of this test."""
    back_end, port = OddBackEnd(), free_port()
    site = (ROOT / "docs" / "nginx" / "calm-tariff.conf").read_text()
    site = site.replace("127.0.0.1:8405", f"127.0.0.1:{running.processes.settings.decisions_port}")
    site = site.replace("127.0.0.1:9000", back_end.url.removeprefix("http://"))
    site = re.sub(r"listen 127\.0\.0\.1:8080", f"listen 127.0.0.1:{port}", site)
    (tmp_path / "site.conf").write_text(site)
    temporary = "".join(
        f"{kind}_temp_path {tmp_path}/{kind};\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    (tmp_path / "nginx.conf").write_text(
        f"daemon off;\npid {tmp_path}/pid;\nerror_log {tmp_path}/error.log;\nevents {{}}\n"
        f"http {{\naccess_log off;\n{temporary}include {tmp_path}/site.conf;\n}}\n"
    )
    command = ["nginx", "-p", str(tmp_path), "-c", str(tmp_path / "nginx.conf"), "-e", str(tmp_path / "error.log")]
    process = subprocess.Popen(command, preexec_fn=die_with_parent(signal.SIGKILL), stderr=subprocess.DEVNULL)
    wait_for(lambda: _answers(f"http://127.0.0.1:{port}/"))
    yield f"http://127.0.0.1:{port}", back_end
    process.terminate()
    process.wait()
    back_end.shutdown()


CALM_FIELDS = (
    "Calm-Consumer",
    "Calm-Application",
    "Calm-Client",
    "Calm-Plan",
    "Calm-Subscription",
    "Calm-Environment",
    "Calm-Tags",
    "Calm-Status",
    "Calm-Decision",
    "Calm-Target",
    "Calm-Outcome",
    "Calm-Proxy-Token",
)


def _answers(address: str) -> bool:
    try:
        return httpx.get(address).status_code > 0
    except httpx.HTTPError:
        return False
