"""Every route of both APIs: nobody gets in without signing in, and no consumer sees another's data."""

import csv
import io
import re
from dataclasses import replace
from datetime import datetime, timedelta
from decimal import Decimal
from typing import Any

import pytest
from fastapi import FastAPI
from starlette.testclient import TestClient

from calm_tariff.console_api import app as console
from calm_tariff.portal_api import app as portal
from calm_tariff.services.admit.community import questions
from calm_tariff.services.admit.importing import imports
from calm_tariff.services.admit.importing.imports import FileTyped
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation import joining
from calm_tariff.services.admit.portals import portals
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import ROLES, Actor, Context
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.house import endpoints, service_tokens, telling
from calm_tariff.services.house.endpoints import EndpointTyped
from calm_tariff.services.house.signing_in import passkeys, sessions
from calm_tariff.services.house.signing_in.passkeys import Host, PasskeyView
from calm_tariff.services.house.telling import Answered
from calm_tariff.services.observe import alerts
from calm_tariff.services.observe.alerts import AlertTyped
from calm_tariff.services.serve import history
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.edge.charged import charged
from tests.office import PASSWORD, START, Office
from tests.soft_passkey import SoftPasskey

SIGNING_IN = {"/me", "/session", "/session/demo", "/session/forgotten", "/session/reset", "/address/confirm"}
SIGNING_IN |= {"/session/passkey", "/session/passkey/begin"}
SIGNING_IN |= {"/session/outside", "/session/outside/answer", "/session/outside/code", "/joining", "/joining/look"}
ANYONE = (
    SIGNING_IN
    | {"/session/outside/account"}
    | {"/sign-up/elsewhere", "/personal", "/looking"}
    | {"/sign-up", "/sign-up/confirm", "/products", "/products/{slug}", "/products/{slug}/estimate"}
)
ANYONE |= {"/products/{slug}/versions", "/products/{slug}/calls.har"}
ANYONE |= {f"/products/{{slug}}/versions/{{version_id}}/openapi.{end}" for end in ("json", "yaml")}
ANYONE |= {
    "/products/{slug}/versions/{version_id}/clients",
    "/products/{slug}/versions/{version_id}/clients/{language}",
    "/products/{slug}/versions/{version_id}/clients/{language}/package.zip",
}
ANYONE |= {"/products/{slug}/answering", "/products/{slug}/release-notes"}
ANYONE |= {"/pages/{prefix}", "/pictures/{digest}.png", "/operations"}
ANYONE |= {
    "/products/{slug}/operations",
    "/products/{slug}/operations/{operation_id}",
}
# What is written in one's name for others to read, and what anybody reads of it.
READ_BY_ANYONE = {
    ("GET", "/products/{slug}/questions"),
    ("GET", "/products/{slug}/ratings"),
    ("GET", "/questions/{question_id}"),
}
SPOKEN = {path for _, path in READ_BY_ANYONE} | {"/products/{slug}/rating", "/answers/{answer_id}"}
SPOKEN |= {f"/questions/{{question_id}}/{part}" for part in ("answers", "accepted", "following", "reports")}


def routes(made: FastAPI) -> list[tuple[str, str]]:
    return [(method.upper(), path) for path, item in made.openapi()["paths"].items() for method in item]


def client(ctx: Context, demo: bool = False) -> TestClient:
    return TestClient(create_app(ctx, Settings(demo=demo)), base_url="http://127.0.0.1:8400")


@pytest.fixture
def lived(office: Office) -> dict[str, Any]:
    """An office in which the first consumer has calls and an issued invoice: its ids, by parameter."""
    ferries = office.consumers[0]
    calls = [office.call(ferries, START + timedelta(minutes=n), n) for n in range(30)]
    history.take_in(office.ctx, calls)
    ours = office.ctx.acting(ferries.member)
    invited = joining.invite(ours, "rui@ferries.example", "developer")
    asked = questions.ask(ours, "harbour-data", "Which datum?", "Above what are they?")
    return {
        "office": office,
        "application_id": ferries.application,
        "key_id": ferries.key,
        "request_id": ferries.request,
        "call_id": calls[0]["call_id"],
        **charged(office),
        "slug": "harbour-data",
        "language": "python",
        "version_id": office.api,
        "operation_id": office.operations["GET /stations"],
        "question_id": asked.id,
        "answer_id": questions.answer(ours, asked.id, "Chart datum.").answers[0].id,
        "reading_id": 1,
        "token_id": 1,
        "group_id": 1,
        "subscription": ferries.subscription,
        "meter_id": office.meter,
        "product_id": office.product,
        "plan_id": office.plans["Ketch"],
        "revision_id": ferries.revision,
        "consumer_id": ferries.member.consumer_id,
        "into_id": office.consumers[1].member.consumer_id,
        "start": "2026-09-01",
        "month": "2026-11-01",
        "person_id": 1,
        "issuer_id": 1,
        "identity_id": 1,
        "note_id": 1,
        "session_id": "0" * 24,
        "member_id": ferries.member.member_id,
        "invitation_id": invited.id,
        "alert_id": alerts.make(ours, AlertTyped(amount=Decimal(5))).alerts[0].id,
        "passkey_id": passkey(ours).id,
        "group": "plans",
        "subscription_id": ferries.subscription,
        "override_id": 1,
        "job_id": failed_job(office),
        "portal_id": portals.listed(office.manager)[0].id,
        "kind": "logo",
        "prefix": "how-to-begin",
        "digest": "0" * 64,
        "endpoint_id": endpoint(office),
        "event_id": 1,
        "name": "request_granted",
        "letter_id": 1,
        "import_id": imports.take(office.manager, BERTHS).id,
    }


BERTHS = FileTyped(kind="applications", name="a.csv", text="organisation,application\nFerries,Berths\n")


def endpoint(office: Office) -> int:
    own = replace(office.ctx, sealing_secret="the one that seals").acting(Actor("Tomas", frozenset({"operations"})))
    made = endpoints.make(own, EndpointTyped(name="Ledger", url="http://127.0.0.1:9/hook")).endpoint
    sent = telling.next_to_tell(own, made.id)
    assert sent is not None
    telling.keep(own, sent, Answered(status=None, words="did not answer within 5 s", took_ms=5000))
    return made.id


def passkey(of: Context) -> PasskeyView:
    here, soft = Host("portal.example", "https://portal.example"), SoftPasskey()
    options = passkeys.begin(of, MEMBERS, here, PASSWORD)
    return passkeys.keep(of, MEMBERS, here, soft.made(options, here.origin), "Ferries' telephone")


def failed_job(office: Office) -> int:
    with office.ctx.transaction() as session:
        jobs.write(session, office.ctx, "paint", "the shed", {})
    job = jobs.claim(office.ctx, {"paint": jobs.LEASE})
    assert job is not None
    jobs.failed(office.ctx, job, "the paint is away", tries=9, chance=0.0)
    return job.id


# What one does with one's own account alone: each asks for more than a session, and has tests of its own.
OWN_ACCOUNT = {"/password", "/address", "/membership", "/organisation/owner", "/organisation/closing"}
OWN_ACCOUNT |= {f"/second-factor{part}" for part in ("", "/confirm", "/recovery-codes", "/end")}
OWN_ACCOUNT |= {"/passkeys", "/passkeys/begin", "/notice-choices/{group}"}

# A card is given at a payment processor's, and there is none here.
AT_THE_PROCESSOR = {"/card/begin", "/card/finish"}
BODIES = {
    "/alerts": {"amount": "10"},
    "/alert-hook": {"url": "https://hooks.example/calm"},
    "/invitations": {"email": "ana@consumer.example", "role": "billing"},
    "/members/{member_id}/role": {"role": "billing"},
    "/applications/{application_id}/keys": {"label": "x"},
    "/products/{slug}/rating": {"stars": 4},
    "/organisation/payment": {"method": "transfer"},
    "/requests": {
        "application_id": "application_id",
        "plan_id": "plan_id",
        "purpose": "Look around.",
        "terms_accepted": True,
    },
    "/applications": {"name": "mine"},
    "/applications/{application_id}": {"name": "mine"},
    "/keys/{key_id}": {"label": "mine"},
    "/apis/{version_id}/release-notes": {"day": "2026-09-10", "text": "x"},
    "/release-notes/{note_id}": {"day": "2026-09-10", "text": "x"},
    "/applications/{application_id}/tags": {"tags": {"region": "west"}},
    "/subscriptions/{subscription_id}/moves": {"kind": "pause"},
    "/subscriptions/{subscription_id}/overrides": {"limit": {}, "reason": "x", "until": "2027-01-01"},
}
BARE = {"/portals/{portal_id}/pictures/{kind}"}
NEEDED = {
    "/find": "?words=x",
    "/bench/recorded": "?consumer_id=1",
    "/products/{product_id}/estimate": "?meter=x&units=1",
    "/portals/{portal_id}/invitations": "?email=x",
    "/subscriptions/{subscription_id}/difference": "?kind=end",
}


def test_every_route_turns_away_who_has_not_signed_in(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    web = client(office.ctx)
    member = sessions.sign_in(office.ctx, MEMBERS, "ferries@consumer.example", PASSWORD)
    tried = 0
    for base, made in (("/api/v1", console), ("/portal/api/v1", portal)):
        application = made.create_app(office.ctx, Settings())
        for method, path in routes(application):
            if path in ANYONE and (base.startswith("/portal") or path in SIGNING_IN):
                continue
            if (method, path) in READ_BY_ANYONE and base.startswith("/portal"):
                continue
            headers = {"If-Match": '"1"'}
            if base == "/api/v1":  # a consumer's session opens nothing of the console
                headers["Cookie"] = f"calm_console={member}; calm_portal={member}"
            address = base + path.format(**lived) + NEEDED.get(path, "")
            sent = {"content": b"x"} if path in BARE else {"json": body_for(application, method, path, lived)}
            answer = web.request(method, address, **sent, headers=headers)
            assert answer.status_code == 401, (method, path, answer.text)
            assert answer.headers["content-type"] == "application/problem+json"
            tried += 1
    assert tried > 90


def body_for(made: FastAPI, method: str, path: str, lived: dict[str, Any]) -> Any:
    """The smallest body the route takes, by its own OpenAPI document."""
    if path in BODIES:
        return {
            name: lived.get(str(value), value) if isinstance(value, str) else value
            for name, value in BODIES[path].items()
        }
    document = made.openapi()
    body = document["paths"][path][method.lower()].get("requestBody")
    content = (body or {}).get("content", {}).get("application/json")  # others take what is no JSON
    return content and sample(document, content["schema"])


def sample(document: dict[str, Any], schema: dict[str, Any]) -> Any:
    """A value that a schema admits."""
    if "$ref" in schema:
        return sample(document, document["components"]["schemas"][schema["$ref"].split("/")[-1]])
    if "anyOf" in schema:
        return sample(document, schema["anyOf"][0])
    if "enum" in schema:
        return schema["enum"][0]
    if schema.get("type") == "object":
        return {name: sample(document, schema["properties"][name]) for name in schema.get("required", ())}
    if schema.get("format") == "date":
        return "2026-09-01"
    return {"string": "x", "integer": 1, "number": 1, "boolean": True, "array": []}.get(schema.get("type", ""))


def test_no_portal_route_shows_one_consumer_anothers_data(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    web = client(office.ctx)
    web.cookies.set("calm_portal", sessions.sign_in(office.ctx, MEMBERS, "kayaks@consumer.example", PASSWORD))
    theirs = client(office.ctx)
    token = sessions.sign_in(office.ctx, MEMBERS, "ferries@consumer.example", PASSWORD)
    theirs.cookies.set("calm_portal", token)
    lived["session_id"] = hash_token(token)[: sessions.SHOWN]
    checked = 0
    application = portal.create_app(office.ctx, Settings())
    for method, path in routes(application):
        if path in ANYONE or path in ("/products/{slug}/terms", "/products/{slug}/own-use"):
            continue
        address = "/portal/api/v1" + path.format(**lived) + NEEDED.get(path, "")
        address += f"?subscription={lived['subscription']}&meter={office.meter}" if path == "/calls" else ""
        answer = web.request(method, address, json=body_for(application, method, path, lived))
        assert "Ferries" not in answer.text, (method, path)
        if path in OWN_ACCOUNT | SPOKEN:
            assert answer.status_code < 500, (method, path, answer.text)
        elif "{" in path or path == "/requests":
            assert answer.status_code == 404, (method, path, answer.text)
            if method == "GET":
                assert theirs.request(method, address).status_code == 200, (method, path)
        elif path in AT_THE_PROCESSOR:
            assert answer.status_code == 409, (method, path, answer.text)
        else:
            assert answer.status_code in (200, 201, 204), (method, path, answer.text)
            if path == "/calls":
                assert answer.json()["total"] == 0
                assert theirs.get(address).json()["total"] == 40
        checked += 1
    assert checked >= 12
    assert any(one["this"] for one in theirs.get("/portal/api/v1/sessions").json())  # nobody else has ended it


def test_each_role_may_do_its_own_work_only(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    allowed = {
        ("POST", "/periods/2026-09-01/run"): {"finance"},
        ("POST", "/products/1/publish"): {"product manager"},
        ("POST", f"/requests/{lived['request_id']}/decision"): {"reviewer", "product manager"},
    }
    web = client(office.ctx)
    for role in ROLES:
        token = service_tokens.make_for_machine(office.ctx, f"script of {role}", role)
        for (method, path), roles in allowed.items():
            path = path.replace("/products/1/", f"/products/{office.product}/")
            answer = web.request(
                method,
                "/api/v1" + path,
                json={"decision": "granted", "editions": {}},
                headers={"Authorization": f"Bearer {token}"},
            )
            assert (answer.status_code != 403) == (role in roles), (role, path, answer.text)


def test_each_list_that_is_saved_holds_what_is_shown_in_its_order(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    changed = office.call(office.consumers[0], START, 0, status=500)
    history.take_in(office.ctx, [changed])  # says something else of a recorded call, and is set aside
    web = client(office.ctx)
    web.headers["Authorization"] = f"Bearer {service_tokens.make_for_machine(office.ctx, 'script', 'product manager')}"
    every = [path for _, path in routes(console.create_app(office.ctx, Settings()))]
    no_lists = (
        "/left-out.csv",
        "/lines.csv",
        "/cost-and-usage.csv",
        "/journal.csv",
        "{month}/entries.csv",
    )  # files of their own
    saved = [path for path in every if path.endswith(".csv") and not path.endswith(no_lists)]
    assert len(saved) >= 11
    for path in saved:
        address = "/api/v1" + path.format(**lived)
        decided = "?decided=true" if path == "/requests.csv" else ""
        of_period = path.endswith("/charges.csv")
        shown = web.get((address.removesuffix("/charges.csv") if of_period else address[:-4]) + decided).json()
        rows = shown["charges"]["rows"] if of_period else shown.get("rows", shown.get("operations"))
        answer = web.get(address + decided)
        assert answer.headers["content-type"] == "text/csv; charset=utf-8", path
        written = list(csv.DictReader(io.StringIO(answer.text)))
        assert len(written) == len(rows) > 0, path
        for row, line in zip(rows, written, strict=True):
            for column, text in line.items():
                if isinstance(row[column], str | int) and not isinstance(row[column], bool):
                    there = str(row[column])
                    same = (
                        datetime.fromisoformat(text) == datetime.fromisoformat(there)
                        if re.fullmatch(r"\d{4}-\d\d-\d\dT[\d:.]+(Z|[+-]\d\d:\d\d)", there)
                        else (text.lstrip("'") == there)
                    )
                    assert same, (path, column)


def test_a_long_list_is_saved_to_its_end(office: Office) -> None:
    with office.ctx.transaction() as session:
        for n in range(10_500):
            auditing.note(session, office.ctx, "did", ("thing", n, "x"))
    web = client(office.ctx)
    web.headers["Authorization"] = f"Bearer {service_tokens.make_for_machine(office.ctx, 'script', 'finance')}"
    total = web.get("/api/v1/record?rows=1").json()["total"]
    written = list(csv.DictReader(io.StringIO(web.get("/api/v1/record.csv").text)))
    assert len(written) == len({line["id"] for line in written}) == total > 10_500
    for wrong in ("sort=nothing", "cursor=x"):  # told before a file begins
        assert web.get(f"/api/v1/record.csv?{wrong}").status_code == web.get(f"/api/v1/record?{wrong}").status_code


def test_a_change_must_come_from_our_own_pages(office: Office) -> None:
    web = client(office.ctx)
    web.cookies.set("calm_portal", sessions.sign_in(office.ctx, MEMBERS, "kayaks@consumer.example", PASSWORD))
    for origin, status in (("http://elsewhere.example", 403), ("http://127.0.0.1:8400", 201)):
        answer = web.post("/portal/api/v1/applications", json={"name": origin}, headers={"Origin": origin})
        assert answer.status_code == status


def test_the_demo_sign_in_exists_in_a_demo_only(office: Office) -> None:
    for demo, status in ((False, 403), (True, 204)):
        answer = client(office.ctx, demo).post("/api/v1/session/demo", json={"email": "finance@test.example"})
        assert answer.status_code == status
    assert (
        client(office.ctx, True).post("/api/v1/session/demo", json={"email": "ferries@consumer.example"}).status_code
        == 403
    )


def test_two_editors_get_412_with_the_present_state(office: Office) -> None:
    web = client(office.ctx)
    token = service_tokens.make_for_machine(office.ctx, "script", "product manager")
    web.headers["Authorization"] = f"Bearer {token}"
    api = web.get(f"/api/v1/apis/{web.get('/api/v1/apis').json()['rows'][0]['id']}").json()
    address = f"/api/v1/apis/{api['id']}"
    body = {**api, "capacity_per_second": 70}
    assert web.put(address, json=body, headers={"If-Match": '"1"'}).json()["edition"] == 2
    stale = web.put(address, json=body, headers={"If-Match": '"1"'})
    assert (stale.status_code, stale.json()["current"]["edition"]) == (412, 2)
    assert web.put(address, json=body).status_code == 422
