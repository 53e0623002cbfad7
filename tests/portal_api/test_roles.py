"""What each role of an organisation gets from every route of the portal: from one table, and no route is left out."""

from __future__ import annotations

from typing import Any

import pytest
from starlette.testclient import TestClient

from calm_tariff.core import keys
from calm_tariff.portal_api import app as portal
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation import joining
from calm_tariff.services.admit.organisation.joining import Joining
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.edge.test_isolation import ANYONE, NEEDED, OWN_ACCOUNT, body_for, lived, routes
from tests.office import PASSWORD, Office
from tests.services.accounts import letters, token_in

__all__ = ["lived"]

OWNERS = {
    ("POST", "/invitations"),
    ("DELETE", "/invitations/{invitation_id}"),
    ("PUT", "/members/{member_id}/role"),
    ("DELETE", "/members/{member_id}"),
    ("PUT", "/organisation/owner"),
    ("GET", "/organisation/closing"),
    ("POST", "/organisation/closing"),
    ("POST", "/subscriptions/{subscription_id}/moves"),
    ("DELETE", "/subscriptions/{subscription_id}/coming-move"),
}
BUILDERS = {
    ("POST", "/products/{slug}/elsewhere"),
    ("POST", "/applications"),
    ("POST", "/applications/{application_id}/keys"),
    ("POST", "/applications/{application_id}/passing-keys"),
    ("POST", "/applications/{application_id}/certificates"),
    ("PUT", "/applications/{application_id}"),
    ("PUT", "/applications/{application_id}/tags"),
    ("PUT", "/keys/{key_id}"),
    ("POST", "/keys/{key_id}/rotation"),
    ("DELETE", "/keys/{key_id}"),
    ("PUT", "/keys/{key_id}/bounds"),
    ("GET", "/applications/{application_id}/operations"),
    ("POST", "/requests"),
    ("DELETE", "/requests/{request_id}"),
    ("POST", "/requests/{request_id}/messages"),
    ("POST", "/products/{slug}/terms"),
    ("POST", "/products/{slug}/questions"),
    ("PUT", "/questions/{question_id}"),
    ("DELETE", "/questions/{question_id}"),
    ("POST", "/questions/{question_id}/answers"),
    ("PUT", "/questions/{question_id}/accepted"),
    ("POST", "/questions/{question_id}/reports"),
    ("PUT", "/answers/{answer_id}"),
    ("DELETE", "/answers/{answer_id}"),
    ("PUT", "/products/{slug}/rating"),
}
MONEY = {
    ("PUT", "/organisation/payment"),
    ("GET", "/invoices"),
    ("GET", "/invoices/{invoice_id}"),
    ("GET", "/invoices/{invoice_id}/evidence"),
    ("GET", "/invoices/{invoice_id}/late/{of_id}/evidence"),
    ("GET", "/credit-notes"),
    ("GET", "/credit-notes/{credit_note_id}"),
    ("GET", "/lines/{line_id}/days"),
    ("GET", "/invoices/{invoice_id}/document.pdf"),
    ("GET", "/invoices/{invoice_id}/document.xml"),
    ("GET", "/credit-notes/{credit_note_id}/document.pdf"),
    ("GET", "/credit-notes/{credit_note_id}/document.xml"),
    ("GET", "/account"),
    ("GET", "/account/entries"),
    ("GET", "/account/entries.csv"),
    ("GET", "/account/statement.pdf"),
    ("GET", "/card"),
    ("POST", "/card/begin"),
    ("POST", "/card/finish"),
    ("DELETE", "/card"),
    ("POST", "/invoices/{invoice_id}/pay"),
}
REFUSED = {"owner": set(), "developer": OWNERS | MONEY, "billing": OWNERS | BUILDERS}


def member(office: Office, role: Any) -> str:
    """The session of somebody whom the first consumer has invited as a role."""
    owner = office.consumers[0].member
    if role == "owner":
        return sessions.sign_in(office.ctx, MEMBERS, "ferries@consumer.example", PASSWORD)
    email = f"{role}@ferries.example"
    joining.invite(office.ctx.acting(owner), email, role)
    typed = Joining(token=token_in(letters(office.ctx, email)[-1]), name=role, password=PASSWORD)
    return joining.accept(office.ctx, serving.asked(office.ctx, "/portal"), typed)


@pytest.mark.parametrize("role", ["billing", "developer", "owner"])
def test_each_role_gets_its_own_part_and_is_told_whose_the_rest_is(lived: dict[str, Any], role: str) -> None:
    office: Office = lived["office"]
    application = portal.create_app(office.ctx, Settings())
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    session = member(office, role)
    tried = set()
    # What is taken away last, so that it is there for what is read.
    for method, path in sorted(routes(application), key=lambda route: route[0] == "DELETE"):
        if path in ANYONE or (path in OWN_ACCOUNT and (method, path) not in OWNERS):
            continue
        tried.add((method, path))
        if role == "owner" and (method, path) in OWNERS:
            continue  # done as owner by the tests of each
        web.cookies.set("calm_portal", session)
        address = "/portal/api/v1" + path.format(**lived) + NEEDED.get(path, "")
        answer = web.request(method, address, json=body_for(application, method, path, lived))
        refused = (method, path) in REFUSED[role]
        assert (answer.status_code == 403) == refused, (method, path, answer.status_code, answer.text)
        if refused:
            assert f"you belong to it as {role}" in answer.json()["detail"], (method, path)
        else:
            assert answer.status_code < 500 and answer.status_code != 401, (method, path, answer.text)
    assert tried >= OWNERS | BUILDERS | MONEY  # none of the table is a route no more


def test_a_billing_member_is_shown_no_key_by_any_route(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    application = portal.create_app(office.ctx, Settings())
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    beginnings = {"billing": 0, "developer": 0}
    prefix = keys.beginning(office.consumers[0].secret)
    for role in beginnings:
        web.cookies.set("calm_portal", member(office, role))
        for method, path in routes(application):
            if method == "GET" and not path.endswith(".png"):
                address = "/portal/api/v1" + path.format(**lived) + NEEDED.get(path, "")
                beginnings[role] += web.get(address).text.count(prefix)
    assert beginnings["billing"] == 0 < beginnings["developer"]
