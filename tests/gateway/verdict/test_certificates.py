"""A client certificate proves who calls where a trusted proxy says so, and nowhere else."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

import httpx
import pytest
from sqlalchemy import select

from calm_tariff.services.admit import certificates, credentials, key_bounds
from calm_tariff.services.compose import products
from calm_tariff.services.compose.products import CredentialsTyped
from calm_tariff.store.serve.usage import Call
from tests.certified import certificate, field, pem
from tests.gateway.ends import said
from tests.gateway.running import PLENTY, Running
from tests.processes import wait_for
from tests.servers import RunDatabase


@pytest.fixture(params=[True, False], ids=["told by proxies", "not told"])
def certified(
    database: RunDatabase, tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest
) -> Iterator[Running]:
    """A gateway behind a trusted proxy on this machine, whose word on certificates is taken or not."""
    more = {"trusted_proxies": "127.0.0.1", "client_certificates": request.param}
    made = Running(database, tmp_path_factory.mktemp("certified"), PLENTY, ("standins", "gateway", "worker"), more)
    product = products.one(made.office.manager, made.office.product)
    typed = CredentialsTyped(kinds=["key", "certificate"])
    products.set_credentials(made.office.manager, made.office.product, product.edition, typed)
    yield made
    made.stop()


def test_it_counts_where_a_trusted_proxy_hands_it_over(certified: Running, request: pytest.FixtureRequest) -> None:
    office, one = certified.office, certified.caller
    own, at = office.acting(one), office.ctx.now
    good, early = certificate("good", begins=at - timedelta(1)), certificate("early", begins=at + timedelta(1))
    key = certificates.bring(own, one.application, "bridge", "live", pem(good))
    certificates.bring(own, one.application, "early", "live", pem(early))
    wait_for(lambda: said(certified.get()) == (200, "") and certified.has_the_newest())

    def with_field(value: str) -> tuple[int, str]:
        return said(certified.get(secret=None, **{"Client-Cert": value}))

    if "not told" in request.node.name:
        assert with_field(field(good)) == (401, "credential-missing")
        return
    wait_for(lambda: with_field(field(good)) == (200, ""))
    assert with_field(field(early)) == (401, "credential-not-yet-valid")
    assert with_field(field(certificate("stranger"))) == (401, "credential-unknown")
    assert with_field("no certificate") == (401, "credential-malformed")
    assert with_field(f":{one.secret}:") == (401, "credential-malformed")
    # What else is shown goes before it.
    both = certified.get(secret="calmkey-live-wrong", **{"Client-Cert": field(good)})
    assert said(both) == (401, "credential-mistyped")
    assert certified.recorded() > 0
    with office.ctx.transaction() as session:
        kinds = set(session.scalars(select(Call.credential).where(Call.key_id == key.id)))
        told = set(map(str, session.scalars(select(Call.sent))))
    assert kinds == {"certificate"} and not any("cert" in each.lower() for each in told)
    seen = httpx.get(f"{certified.processes.standins}/asked").json()["last_headers"]
    assert "client-cert" not in seen
    key_bounds.narrow(own, key.id, ["192.0.2.0/24"], [])
    wait_for(lambda: with_field(field(good)) == (403, "credential-address"))
    credentials.revoke_key(own, key.id)
    wait_for(lambda: with_field(field(good)) == (401, "credential-revoked"))
