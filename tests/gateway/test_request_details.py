"""A call's request details: what it came with and, in the sandbox where that is switched on, its bodies' beginnings."""

from __future__ import annotations

import json
from collections.abc import Iterator

import httpx
import pytest
from sqlalchemy import select

from calm_tariff.formats.bodies import MOST
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.compose.apis import forwarding, operations, versions
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.compose.apis.views import ForwardingTyped
from calm_tariff.services.serve import receipts
from calm_tariff.services.serve.request_details import RequestDetails
from calm_tariff.store.serve.usage import CallBodies
from tests.echo import echoing
from tests.gateway.running import PLENTY, Running
from tests.processes import PATIENCE, wait_for
from tests.servers import RunDatabase

PATH = "/tides/v1/stations/lm-01"


@pytest.fixture(scope="module")
def recorded(database: RunDatabase, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """An office whose back end echoes, and whose sandbox keeps bodies."""
    made = Running(database, tmp_path_factory.mktemp("details"), PLENTY, ("gateway", "worker"))
    with echoing() as url:
        _keep_all(made, url)
        yield made
        made.stop()


def _keep_all(made: Running, url: str) -> None:
    office = made.office
    view = versions.one(office.manager, office.api)
    typed = ApiTyped("Tides", "v1", "", "/tides/v1", url, sandbox_url=url)
    view = versions.save(office.manager, office.api, view.edition, typed)
    kept = ForwardingTyped(kept_headers=["x-ship"], keeps_bodies=True)
    forwarding.change(office.manager, office.api, view.edition, kept)
    operations.add(office.manager, office.api, OperationTyped("POST", "/stations/{id}"))
    found = {f"{o.method} {o.path}": o.id for o in operations.page(office.manager, office.api).operations}
    office.sell(found["POST /stations/{id}"])
    wait_for(lambda: made.get(PATH, method="POST").status_code == 200)


def send(running: Running, secret: str, query: str = "", body: bytes = b'{"ship": 17}') -> RequestDetails:
    """Send a call; its details as its own consumer sees them."""
    headers = {"X-API-Key": secret, "X-Ship": "17", "Content-Type": "application/json", "X-Other": "no"}
    address = running.processes.gateway + PATH + query
    answer = httpx.post(address, content=body, headers=headers, timeout=PATIENCE)
    assert answer.status_code == 200
    wait_for(running.processes.shipped)
    return receipts.own_receipt(running.office.acting(running.caller), answer.headers["Call-Id"]).request


def sandbox_key(running: Running) -> str:
    own = running.office.acting(running.caller)
    made = credentials.make_key(own, running.caller.application, "try", "sandbox")
    address = running.processes.gateway + PATH
    wait_for(lambda: httpx.post(address, headers={"X-API-Key": made.secret}).status_code == 200)
    return made.secret


def test_a_call_is_shown_as_it_was_sent_without_what_proved_who_calls(recorded: Running) -> None:
    said = send(recorded, recorded.caller.secret, "?hours=3")
    assert (said.line, said.address) == (f"POST {PATH}?hours=3", "127.0.0.1")
    assert said.fields == ["x-ship: 17"] and said.bytes_in == len('{"ship": 17}') == said.bytes_out
    assert (said.sent, said.answered) == (None, None)  # live: bodies are nobody's but the back end's
    (key,) = (k for k in applications.own(recorded.office.acting(recorded.caller))[0].keys if k.label == "server")
    assert key.used_from == "127.0.0.1" and key.used_at is not None and key.used_at > key.created_at


def test_bodies_of_the_sandbox_are_kept_where_that_is_switched_on_and_cut(recorded: Running) -> None:
    secret = sandbox_key(recorded)
    said = send(recorded, secret)
    assert said.sent is not None and said.answered is not None
    assert json.loads(said.sent.text or "") == {"ship": 17} == json.loads(said.answered.text or "")
    assert said.answered.type == "application/json" and not said.answered.cut
    leaked = send(recorded, secret, body=json.dumps({"key": secret}).encode())
    assert leaked.sent is not None and leaked.answered is not None
    assert secret not in f"{leaked}"
    much = send(recorded, secret, "?much", body=b"b" * 20_000)
    assert much.sent is not None and much.answered is not None
    assert (much.sent.size, much.sent.cut, much.sent.text) == (20_000, True, "b" * MOST)
    assert (much.answered.size, much.answered.cut, much.answered.text) == (100_000, True, "m" * MOST)
    packed = send(recorded, secret, "?packed")
    assert packed.answered is not None
    assert (packed.answered.encoding, packed.answered.text) == ("gzip", None)
    office = recorded.office
    view = versions.one(office.manager, office.api)
    forwarding.change(office.manager, office.api, view.edition, ForwardingTyped())
    wait_for(lambda: send(recorded, secret).sent is None)
    with office.ctx.transaction() as session:
        kept = session.scalars(select(CallBodies)).all()
        assert kept and secret not in str([(k.sent, k.answered) for k in kept])
