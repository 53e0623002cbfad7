"""What comes over the wire, odd and hostile: each input has its answer, and nothing reaches what is not sold."""

from __future__ import annotations

import json
import re
import socket
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace

import httpx
import pytest
from sqlalchemy import select

from calm_tariff.edge import wire
from calm_tariff.services.compose import meters
from calm_tariff.services.compose.apis import forwarding, operations, versions
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.services.compose.apis.views import ForwardingTyped
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.store.compose.apis import ApiDocument
from calm_tariff.store.serve.usage import Call
from tests.gateway.ends import said
from tests.gateway.odd_back_end import OddBackEnd
from tests.gateway.running import PLENTY, Running
from tests.processes import wait_for
from tests.servers import RunDatabase

BASE = "/tides/v1"


@pytest.fixture(scope="module")
def odd(database: RunDatabase, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """An office whose back end does odd things, with one operation per oddity and one that is not sold."""
    patience = {"sender_seconds": 4, "reader_seconds": 4}
    made = Running(database, tmp_path_factory.mktemp("odd"), PLENTY, ("gateway", "worker"), patience)
    made.back_end = OddBackEnd()
    office = made.office
    view = versions.one(office.manager, office.api)
    typed = versions.ApiTyped(
        name="Tides",
        version="v1",
        description="",
        base_path=BASE,
        back_end_url=made.back_end.deep,
        capacity_per_second=50,
    )
    view = versions.save(office.manager, office.api, view.edition, typed)
    forwarding.change(
        office.manager,
        office.api,
        view.edition,
        ForwardingTyped(
            answer_ms=3000,
            most_body_bytes=100_000,
            cors_origins=["https://maps.example"],
            passes_caller=True,
            breaker_failures=0,
        ),
    )
    # Sold through {id}; and beside them an operation that is described but not sold.
    operations.add(office.manager, office.api, OperationTyped("GET", "/admin"))
    operations.add(office.manager, office.api, OperationTyped("GET", "/stations/vault"))
    operations.add(office.manager, office.api, OperationTyped("POST", "/stations/{id}"))
    sell(made, "POST /stations/{id}")
    wait_for(lambda: made.get("/tides/v1/stations/plain").status_code == 200)
    wait_for(lambda: made.get("/tides/v1/stations/plain", method="POST").status_code == 200)
    yield made
    made.stop()
    made.back_end.shutdown()


def sell(running: Running, label: str) -> None:
    office = running.office
    found = {f"{o.method} {o.path}": o.id for o in operations.page(office.manager, office.api).operations}
    office.sell(found[label])


def raw(running: Running, data: bytes, wait: float = 3.0) -> bytes:
    """Send bytes as they are; what comes back until the gateway closes or, once it has answered, is silent."""
    with closing(socket.create_connection(("127.0.0.1", running.processes.settings.gateway_port))) as connection:
        connection.settimeout(60)
        got = b""
        try:
            connection.sendall(data)
            while chunk := connection.recv(65536):
                got += chunk
                connection.settimeout(wait)
        except OSError:
            pass
        return got


def statuses(got: bytes) -> list[int]:
    return [int(code) for code in re.findall(rb"HTTP/1\.1 (\d{3})", got)]


@pytest.mark.parametrize(
    ("word", "path", "fields"),
    [
        ("odd paths", "/stations/plain;x=1", {}),
        ("odd paths", "/stations/plain%3fx", {}),
        ("odd paths", "/stations/%c0%ae", {}),
        ("other case", "/stations/Plain2", {}),
        ("overrides", "/stations/plain", {"X-HTTP-Method-Override": "DELETE"}),
    ],
)
def test_an_api_may_let_through_what_back_ends_read_differently(
    odd: Running, word: str, path: str, fields: dict[str, str]
) -> None:
    office = odd.office
    if word == "other case" and not operations.page(office.manager, office.api, "plain2").operations:
        operations.add(office.manager, office.api, OperationTyped("GET", "/stations/plain2"))

    def asked() -> int:
        return odd.get(BASE + path, **fields).status_code

    wait_for(lambda: asked() in (400, 403))
    view = versions.one(office.manager, office.api)
    try:
        let = replace(view.forwarding, lets_through=[word])
        forwarding.change(office.manager, office.api, view.edition, let)
        wait_for(lambda: asked() == 200)
        assert latest(odd)["target"] == "/deep" + path
    finally:
        edition = versions.one(office.manager, office.api).edition
        forwarding.change(office.manager, office.api, edition, view.forwarding)
    wait_for(lambda: asked() in (400, 403))


def latest(running: Running) -> dict:
    return running.back_end.asked[-1]


def test_hostile_requests_each_have_their_answer(odd: Running) -> None:
    key = f"X-API-Key: {odd.caller.secret}\r\n"
    head = f"GET {BASE}/stations/plain HTTP/1.1\r\nHost: x\r\n{key}"
    post = f"POST {BASE}/stations/plain HTTP/1.1\r\nHost: x\r\n{key}"
    smuggled = f"GET {BASE}/admin HTTP/1.1\r\nHost: x\r\n{key}\r\n"
    chunked = "Transfer-Encoding: chunked\r\n\r\n"
    before = len(odd.back_end.asked)
    table: list[tuple[str, str, set[int]]] = [
        ("length and chunks", f"{post}Content-Length: 4\r\n{chunked}0\r\n\r\n{smuggled}", {400}),
        ("two lengths", f"{post}Content-Length: 4\r\nContent-Length: 5\r\n\r\nabcde", {400}),
        ("a list of lengths", f"{post}Content-Length: 4, 4\r\n\r\nabcd", {400}),
        ("a signed length", f"{post}Content-Length: +4\r\n\r\nabcd", {400}),
        ("a space before the colon", f"{post}Transfer-Encoding : chunked\r\n\r\n0\r\n\r\n", {400}),
        ("chunks by another name", f"{post}Transfer-Encoding: xchunked\r\n\r\n0\r\n\r\n", {400}),
        ("chunks named twice", f"{post}Transfer-Encoding: chunked, chunked\r\n\r\n0\r\n\r\n", {400}),
        ("a bad chunk size", f"{post}Transfer-Encoding: chunked\r\n\r\nzz\r\nab\r\n0\r\n\r\n", {400, 408, 502}),
        ("a folded field", f"{head}X-A: b\r\n c\r\n\r\n", {400, 200}),
        ("two hosts", f"{head}Host: y\r\n\r\n", {400}),
        ("a null in a field", f"{head}X-A: a\0b\r\n\r\n", {400}),
        ("a bare carriage return", f"{head}X-A: a\rX-B: b\r\n\r\n", {400}),
        ("no HTTP", "hello\r\n\r\n", {400}),
        ("a method of its own", head.replace("GET", "FROB") + "\r\n", {400, 405}),
        ("a space in the path", head.replace("/plain", "/a b") + "\r\n", {400}),
        ("bytes beyond ASCII", head.replace("/plain", "/\xe9") + "\r\n", {400}),
        ("dots", head.replace("/stations/plain", "/stations/../admin") + "\r\n", {400}),
        ("encoded dots", head.replace("/stations/plain", "/stations/%2e%2E/admin") + "\r\n", {400}),
        ("dots encoded twice", head.replace("/plain", "/%252e%252e%252fadmin") + "\r\n", {400}),
        ("an encoded slash", head.replace("/plain", "/x%2F..%2Fadmin") + "\r\n", {400}),
        ("a backslash", head.replace("/plain", "/..\\admin") + "\r\n", {400}),
        ("an encoded line end", head.replace("/plain", "/a%0d%0aX:1") + "\r\n", {400}),
        ("an encoded null", head.replace("/plain", "/a%00") + "\r\n", {400}),
        ("double slashes", head.replace("/stations/plain", "//stations//plain") + "\r\n", {404}),
        ("another base", head.replace(BASE, "/TIDES/v1") + "\r\n", {404}),
        ("more than the base", head.replace(BASE, BASE + "x") + "\r\n", {404}),
        ("not sold", head.replace("/stations/plain", "/admin") + "\r\n", {403}),
        ("not sold, whole address", head.replace(f"{BASE}/stations/plain", f"http://x{BASE}/admin") + "\r\n", {403}),
        ("a method in disguise", f"{post}X-HTTP-Method-Override: DELETE\r\nContent-Length: 0\r\n\r\n", {400}),
        ("a method in another", f"{post}x_http_method: DELETE\r\nContent-Length: 0\r\n\r\n", {400}),
        ("a path in disguise", f"{head}X-Original-URL: /admin\r\n\r\n", {400}),
        ("another path in disguise", f"{head}X-Rewrite-Url: /admin\r\n\r\n", {400}),
        ("dots with a parameter", head.replace("/plain", "/..;/admin") + "\r\n", {400, 404}),
        ("a parameter", head.replace("/plain", "/plain;x=1") + "\r\n", {400}),
        ("an encoded parameter", head.replace("/plain", "/plain%3Bx") + "\r\n", {400}),
        ("an encoded question", head.replace("/plain", "/plain%3fadmin") + "\r\n", {400}),
        ("one encoded twice", head.replace("/plain", "/plain%253fadmin") + "\r\n", {400}),
        ("an encoded number sign", head.replace("/plain", "/plain%23") + "\r\n", {400}),
        ("dots overlong", head.replace("/plain", "/%c0%ae%c0%ae") + "\r\n", {400}),
        ("not sold, in small letters", head.replace("/plain", "/vault") + "\r\n", {403}),
        ("not sold, in another case", head.replace("/plain", "/Vault") + "\r\n", {403}),
        ("not sold, in a third", head.replace("/plain", "/%56AULT") + "\r\n", {403}),
        ("a longer body than it says", f"{post}Content-Length: 2\r\n\r\nab{smuggled}", {200, 403}),
        ("a body too long", f"{post}Content-Length: 100001\r\n\r\n", {413}),
        ("a field too long", f"{head}X-A: {'a' * 40_000}\r\n\r\n", {431}),
        ("a field without an end", f"{head}X-A: {'a' * 200_000}", {431}),
        ("too many fields", head + "".join(f"X-{n}: 1\r\n" for n in range(120)) + "\r\n", {431}),
        ("a path too long", head.replace("/plain", "/" + "a" * 40_000) + "\r\n", {431}),
        ("an unknown key", head.replace(odd.caller.secret, "lt_live_no") + "\r\n", {401}),
        ("a key that is no text", head.replace(odd.caller.secret, "\xff\xfe") + "\r\n", {401}),
        ("a token that is none", head.replace(key, "Authorization: Bearer e30.e30.e30\r\n") + "\r\n", {401}),
        ("a deep token", head.replace(key, f"Authorization: Bearer {'W1' * 3000}.e30.x\r\n") + "\r\n", {401}),
        ("an upgrade", f"{head}Connection: upgrade\r\nUpgrade: websocket\r\n\r\n", {200, 400}),
    ]
    for what, data, wanted in table:
        got = statuses(raw(odd, data.encode("latin-1"), 0.4 if "longer" not in what else 1.0))
        assert got, what
        assert set(got) <= wanted, (what, got)
    asked = odd.back_end.asked[before:]
    assert all("admin" not in each["target"] and each["method"] in ("GET", "POST") for each in asked), asked
    assert odd.get(f"{BASE}/stations/plain").status_code == 200  # and it is as well as before


def test_a_slow_head_is_given_up(odd: Running) -> None:
    begun = time.monotonic()
    got = raw(odd, b"GET /tides/v1/stations HTTP/1.1\r\nHost: x\r\nX-Slow: ")
    assert statuses(got) == [408]
    assert time.monotonic() - begun > wire.HEAD_SECONDS - 1


def test_what_is_passed_on_and_what_is_not(odd: Running) -> None:
    sent = {
        "Connection": "keep-alive, X-Drop",
        "X-Drop": "1",
        "TE": "trailers",
        "Calm-Consumer": "somebody else",
        "X-Forwarded-For": "10.9.8.7",
        "Forwarded": "for=10.9.8.7",
        "X-Keep": "yes",
        "Cookie": "a=b",
        "traceparent": "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01",
    }
    assert odd.get(f"{BASE}/stations/plain?a=%2F&b=c%20d", **sent).status_code == 200
    seen = latest(odd)
    assert seen["target"] == "/deep/stations/plain?a=%2F&b=c%20d"  # the base path is another one
    headers = seen["headers"]
    assert headers["x-keep"] == "yes" and headers["cookie"] == "a=b"
    assert not {"x-drop", "te", "x-api-key"} & set(headers)
    assert headers["x-forwarded-for"] == "127.0.0.1"  # no proxy is trusted
    assert headers["forwarded"].startswith("for=127.0.0.1;proto=http;host=")
    trace, parent = headers["traceparent"].split("-")[1:3]
    assert trace == "0af7651916cd43dd8448eb211c80319c" and parent != "b7ad6b7169203331"
    assert (headers["calm-consumer"], headers["calm-plan"]) == ("Ferries", "Harbour Data / Ketch")

    uploaded = odd.get(f"{BASE}/stations/plain", method="POST")
    assert uploaded.status_code == 200
    url = f"{odd.processes.gateway}{BASE}/stations/plain"
    key = {"X-API-Key": odd.caller.secret}
    assert httpx.post(url, content=iter([b"a" * 60_000, b"b" * 30_000]), headers=key).status_code == 200
    assert latest(odd)["body"] == 90_000
    assert httpx.post(url, content=iter([b"a" * 60_000] * 3), headers=key).status_code == 413
    answer = odd.get(f"{BASE}/stations/cells")
    assert "x-own" not in answer.headers  # named by Connection: between the back end and us alone


def test_head_options_and_pages_of_other_origins(odd: Running) -> None:
    head = odd.get(f"{BASE}/stations/plain", method="HEAD")
    assert (head.status_code, head.content, latest(odd)["method"]) == (200, b"", "HEAD")
    assert int(head.headers["content-length"]) > 100 and "ratelimit" in head.headers
    before, asked = odd.recorded(), len(odd.back_end.asked)
    preflight = {
        "Origin": "https://maps.example",
        "Access-Control-Request-Method": "GET",
        "Access-Control-Request-Headers": "x-api-key",
    }
    flown = odd.get(f"{BASE}/stations/plain", method="OPTIONS", secret=None, **preflight)
    assert flown.status_code == 204
    assert flown.headers["access-control-allow-origin"] == "https://maps.example"
    assert flown.headers["access-control-allow-headers"] == "x-api-key"
    plain = odd.get(f"{BASE}/stations/plain", method="OPTIONS", secret=None)
    assert (plain.status_code, plain.headers["allow"]) == (204, "GET, POST, HEAD, OPTIONS")
    other = odd.get(
        f"{BASE}/stations/plain", method="OPTIONS", secret=None, **{**preflight, "Origin": "https://no.example"}
    )
    assert "access-control-allow-origin" not in other.headers
    assert (odd.recorded(), len(odd.back_end.asked)) == (before, asked)  # none of it counted, or asked further
    page = odd.get(f"{BASE}/stations/plain", Origin="https://maps.example")
    assert page.headers.get_list("access-control-allow-origin") == ["https://maps.example"]
    assert "ratelimit" in page.headers["access-control-expose-headers"]
    assert odd.get(secret=None, Origin="https://maps.example").headers["access-control-allow-origin"]
    assert "access-control-allow-origin" not in odd.get(f"{BASE}/stations/plain", Origin="https://no.example").headers


def test_back_ends_that_fail_are_told_apart_and_left_alone(odd: Running) -> None:
    assert said(odd.get(f"{BASE}/stations/nonsense")) == (502, "back-end-broke-off")
    assert said(odd.get(f"{BASE}/stations/slow")) == (504, "back-end-too-slow")
    with pytest.raises(httpx.RemoteProtocolError):  # half an answer must not look like a whole one
        odd.get(f"{BASE}/stations/breaks")
    assert odd.get(f"{BASE}/stations/early", method="POST").status_code == 400
    view = versions.one(odd.office.manager, odd.office.api)
    settings = ForwardingTyped(breaker_failures=3, breaker_seconds=6)
    view = forwarding.change(odd.office.manager, odd.office.api, view.edition, settings)
    wait_for(lambda: "vary" not in odd.get(f"{BASE}/stations/plain").headers)  # the gateway has the new settings
    odd.back_end.failing = True
    assert [odd.get(f"{BASE}/stations/plain").status_code for _ in range(3)] == [500] * 3
    odd.recorded()
    units, asked = odd.units(), len(odd.back_end.asked)
    resting = odd.get(f"{BASE}/stations/plain")
    assert said(resting) == (503, "back-end-resting")
    assert 1 <= int(resting.headers["Retry-After"]) <= 6
    assert len(odd.back_end.asked) == asked
    odd.back_end.failing = False
    wait_for(lambda: odd.get(f"{BASE}/stations/plain").status_code == 200)
    forwarding.change(odd.office.manager, odd.office.api, view.edition, ForwardingTyped(breaker_failures=0))
    odd.recorded()
    assert odd.units() == units + 1  # a failure does not count on a 2xx meter, nor does a refusal


def test_a_download_is_metered_by_what_was_sent_and_reported_numbers_count(odd: Running) -> None:
    office = odd.office
    one = [office.operations["GET /stations/{id}"]]
    sent = meters.create(office.manager, MeterTyped("Sent", one, (), measure="bytes_out")).id
    cells = meters.create(office.manager, MeterTyped("Cells", one, (), measure="reported", header="X-Cells")).id
    url = f"{odd.processes.gateway}{BASE}/stations"
    key = {"X-API-Key": odd.caller.secret}

    def last() -> Call:
        odd.recorded()
        with office.ctx.transaction() as session:
            return session.scalars(select(Call).order_by(Call.at_us.desc())).first()

    wait_for(lambda: odd.get(f"{BASE}/stations/cells") and last().units.get(str(cells)) == "2.500000")
    odd.get(f"{BASE}/stations/plain")
    assert last().units[str(cells)] == "0"
    assert "X-Cells was absent or no number" in " ".join(last().remarks)
    assert len(httpx.get(f"{url}/large", headers=key, timeout=30).content) == 40_000_000
    assert last().units[str(sent)] == "40.000000"
    with httpx.stream("GET", f"{url}/large", headers=key, timeout=30) as answer:
        read = sum(len(chunk) for chunk, _ in zip(answer.iter_bytes(), range(20), strict=False))
        time.sleep(0.5)
    hung_up = wait_for(lambda: (c := last()).bytes_out < 40_000_000 and c)
    assert read <= hung_up.bytes_out < 20_000_000, (read, hung_up.bytes_out)  # what lay in the system's buffers counts
    assert "hung up" in " ".join(hung_up.remarks)


def test_an_operation_may_answer_with_its_documents_example(odd: Running) -> None:
    office = odd.office
    document = {
        "openapi": "3.1.0",
        "paths": {
            "/stations": {
                "get": {
                    "responses": {
                        "200": {
                            "content": {
                                "application/json": {
                                    "schema": {"type": "array", "items": {"$ref": "#/components/schemas/Station"}}
                                }
                            }
                        }
                    }
                }
            }
        },
        "components": {
            "schemas": {
                "Station": {"properties": {"id": {"type": "string", "example": "lm-01"}, "level": {"default": 2.1}}}
            }
        },
    }
    with office.ctx.transaction() as session:
        session.add(
            ApiDocument(
                api_version_id=office.api, name="tides.json", text=json.dumps(document), imported_at=office.ctx.now
            )
        )
    asked = len(odd.back_end.asked)
    operations.set_answers(office.manager, office.operations["GET /stations"], "example")
    answer = wait_for(lambda: (r := odd.get(f"{BASE}/stations")).text.startswith("[") and r)
    assert answer.json() == [{"id": "lm-01", "level": 2.1}]
    assert "ratelimit" in answer.headers
    assert odd.get(f"{BASE}/stations", method="HEAD").content == b""
    assert not [a for a in odd.back_end.asked[asked:] if a["target"].endswith("/stations") and a["method"] == "HEAD"]
    with pytest.raises(Exception, match="gives no example"):
        operations.set_answers(office.manager, office.operations["GET /stations/{id}"], "example")


def test_who_stops_sending_or_reading_in_the_middle_is_given_up_and_recorded_once(odd: Running) -> None:
    port = odd.processes.settings.gateway_port
    before = odd.recorded()
    head = f"X-API-Key: {odd.caller.secret}\r\nHost: gateway\r\n"
    with socket.create_connection(("127.0.0.1", port)) as sender, socket.socket() as reader:
        sender.settimeout(60)
        sender.sendall(f"POST {BASE}/stations/plain HTTP/1.1\r\n{head}Content-Length: 5000\r\n\r\nhalf".encode())
        # Little room for what is on its way, so that the gateway must wait for this reader.
        reader.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        reader.connect(("127.0.0.1", port))
        reader.sendall(f"GET {BASE}/stations/large HTTP/1.1\r\n{head}\r\n".encode())
        told = sender.recv(10_000)
        wait_for(lambda: odd.recorded() == before + 2)
        # Others are served meanwhile and afterwards.
        assert odd.get(f"{BASE}/stations/plain").status_code == 200
    with odd.office.ctx.transaction() as session:
        calls = session.scalars(select(Call).order_by(Call.at_us.desc()).limit(3)).all()
    upload = next(c for c in calls if c.method == "POST")
    download = next(c for c in calls if c.path.endswith("large"))
    assert 0 < download.bytes_out < 40_000_000
    assert f"the caller took no more of the answer after {download.bytes_out} bytes" in download.remarks
    assert upload.bytes_in == 4 and upload.status >= 400 and not upload.units.get(str(odd.office.meter))
    assert not told or f"HTTP/1.1 {upload.status}".encode() in told
