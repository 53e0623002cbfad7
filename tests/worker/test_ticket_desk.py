"""The desk outside: only what it signs, about what was asked, decides; and whatever else it says holds up nothing."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime

import httpx
import pytest
from fastapi import FastAPI
from joserfc import jwt
from joserfc.jwk import OctKey
from sqlalchemy import select
from starlette.testclient import TestClient

from calm_tariff.core.routes import Route
from calm_tariff.services.base.context import Context
from calm_tariff.services.observe import request_in_view
from calm_tariff.standins import tickets
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.worker.outside import exchange
from calm_tariff.worker.ticket_desk import TicketDesk, Unproven
from tests.office import Office

SECRET = "what desk and worker sign with, in turn"
OTHER = "what somebody else would like to sign with"

Between = Callable[[httpx.Request, httpx.Response], httpx.Response]


@dataclass
class Line:
    """The way to the stand-in desk, and who sits on it."""

    web: TestClient
    between: Between = lambda _, answer: answer

    def desk(self, secret: str = SECRET) -> TicketDesk:
        client = httpx.Client(base_url="http://desk.example", transport=httpx.MockTransport(self._pass))
        return TicketDesk(client, secret, lambda: datetime.now(UTC))

    def _pass(self, request: httpx.Request) -> httpx.Response:
        given = self.web.request(request.method, request.url.path, content=request.content, headers=request.headers)
        return self.between(request, httpx.Response(given.status_code, content=given.content, request=request))

    def decide(self, number: str, decision: str, note: str = "") -> None:
        said = {"decision": decision, "note": note}
        given = self.web.post(f"/tickets/{number}/decide", data=said, follow_redirects=False)
        assert given.status_code == 303

    def restart(self) -> None:
        """The desk forgets everything."""
        self.web = _desk()


def exchange_tickets(ctx: Context, desk: TicketDesk) -> None:
    """Every request's ticket, as jobs would: each by itself."""
    with ctx.transaction() as session:
        waiting = session.scalars(select(AccessRequest.id).where(AccessRequest.state == "passed to outside")).all()
    for each in waiting:
        with suppress(httpx.HTTPStatusError, Unproven):
            exchange(ctx, desk, each)


def _desk() -> TestClient:
    app = FastAPI()
    app.include_router(tickets.router(tickets.Desk(SECRET)))
    return TestClient(app)


@pytest.fixture
def line() -> Line:
    return Line(_desk())


@pytest.fixture
def request_id(office: Office) -> int:
    """A request that waits for the desk."""
    office.change_product(route=Route(otherwise="outside"))
    return office.ask("Anglers", "Ketch")[2]


def standing(office: Office, request_id: int) -> tuple[str, str | None]:
    seen = request_in_view.one(office.manager, request_id).request
    return seen.state, seen.ticket


def signed(secret: str = SECRET, **claims: object) -> httpx.Response:
    key = OctKey.import_key(secret)
    return httpx.Response(200, text=jwt.encode({"alg": "HS256"}, claims, key, algorithms=["HS256"]))


def granting(answer: httpx.Response, secret: str = SECRET, **changes: object) -> httpx.Response:
    """What the desk answered as if it had granted, but for the changes."""
    claims = jwt.decode(answer.text, OctKey.import_key(SECRET), algorithms=["HS256"]).claims
    ticket = {**claims["ticket"], "state": "granted"}
    ticket |= {name: value for name, value in changes.items() if name in ticket}
    return signed(secret, **{**claims, "ticket": ticket, **{k: v for k, v in changes.items() if k not in ticket}})


def test_what_the_desk_signs_is_carried_out(office: Office, request_id: int, line: Line) -> None:
    exchange_tickets(office.ctx, line.desk())
    assert standing(office, request_id) == ("passed to outside", "1000")
    exchange_tickets(office.ctx, line.desk())
    assert standing(office, request_id) == ("passed to outside", "1000")
    line.decide("1000", "granted", "Fine by us.")
    exchange_tickets(office.ctx, line.desk())
    seen = request_in_view.one(office.manager, request_id).request
    assert (seen.state, seen.note) == ("granted", "Fine by us.")


FORGED: dict[str, Between] = {
    "somebody else's signature": lambda _, a: granting(a, OTHER),
    "no signature": lambda r, _: httpx.Response(200, json={"number": 1000, "state": "granted", "note": ""}),
    "not a token": lambda r, _: httpx.Response(200, text="granted"),
    "an answer to another question": lambda _, a: granting(a, jti="another"),
    "our own question, sent back": lambda r, _: httpx.Response(200, text=r.headers["authorization"][7:]),
    "for somebody else": lambda _, a: granting(a, aud="another house"),
    "another request's ticket": lambda _, a: granting(a, reference="request-1"),
    "no state that tickets have": lambda _, a: granting(a, state="allowed"),
    "a ticket without a number": lambda _, a: granting(a, number=""),
    "no ticket at all": lambda _, a: granting(a, ticket="granted"),
    "a failure": lambda r, _: httpx.Response(500, text="oh", request=r),
}


@pytest.mark.parametrize("between", FORGED.values(), ids=FORGED)
def test_what_it_did_not_sign_about_this_request_grants_nothing(
    office: Office, request_id: int, line: Line, between: Between
) -> None:
    exchange_tickets(office.ctx, line.desk())
    line.between = between
    exchange_tickets(office.ctx, line.desk())
    assert standing(office, request_id) == ("passed to outside", "1000")
    line.between = lambda _, a: granting(a)  # what else would have been carried out
    exchange_tickets(office.ctx, line.desk())
    assert standing(office, request_id)[0] == "granted"


def test_an_answer_of_before_grants_nothing(office: Office, request_id: int, line: Line) -> None:
    exchange_tickets(office.ctx, line.desk())
    line.decide("1000", "granted")
    kept: list[httpx.Response] = []
    line.between = lambda _, answer: kept.append(answer) or httpx.Response(200, text="")
    exchange_tickets(office.ctx, line.desk())
    line.between = lambda *_: kept[0]
    exchange_tickets(office.ctx, line.desk())
    assert standing(office, request_id) == ("passed to outside", "1000")


def test_one_wrong_answer_holds_up_no_other_ticket(office: Office, request_id: int, line: Line) -> None:
    second = office.ask("Rowers", "Ketch")[2]
    exchange_tickets(office.ctx, line.desk())
    for number in ("1000", "1001"):
        line.decide(number, "declined")
    line.between = lambda r, answer: httpx.Response(200, text="no") if r.url.path.endswith("1000") else answer
    exchange_tickets(office.ctx, line.desk())
    assert standing(office, request_id)[0] == "passed to outside"
    assert request_in_view.one(office.manager, second).request.note == "The outside desk declined it."


def test_a_desk_that_has_lost_its_tickets_is_given_them_again(office: Office, request_id: int, line: Line) -> None:
    others = office.ask("Rowers", "Ketch")[2]
    exchange_tickets(office.ctx, line.desk())
    line.restart()
    # Somebody else's comes first now: what is granted under the number that ours had must not grant ours.
    line.desk().open("request-elsewhere", "Another", "")
    line.decide("1000", "granted")
    exchange_tickets(office.ctx, line.desk())
    assert standing(office, request_id) == ("passed to outside", "1001")
    assert standing(office, others) == ("passed to outside", "1002")
    line.decide("1001", "granted")
    exchange_tickets(office.ctx, line.desk())
    assert [standing(office, each)[0] for each in (request_id, others)] == ["granted", "passed to outside"]


def test_the_desk_answers_nobody_who_does_not_sign(line: Line) -> None:
    number = line.desk().open("request-9", "Title", "Text").number
    assert line.web.get(f"/tickets/{number}").status_code == 401
    with pytest.raises(httpx.HTTPStatusError, match="401"):
        line.desk(OTHER).look(number)
    caught: list[dict[str, str]] = []
    line.between = lambda r, answer: caught.append(dict(r.headers)) or answer
    line.desk().look(number)
    fields = {"authorization": caught[0]["authorization"]}
    assert line.web.get("/tickets/1001", headers=fields).status_code == 401  # signed for another question
    assert line.web.post("/tickets", json={}, headers=fields).status_code == 401
    late = {"aud": "ticket desk", "exp": time.time() - 1, "asks": f"GET /tickets/{number}"}
    assert (
        line.web.get(f"/tickets/{number}", headers={"authorization": f"Bearer {signed(**late).text}"}).status_code
        == 401
    )
