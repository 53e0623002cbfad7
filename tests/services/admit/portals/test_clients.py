"""Clients are made once for a document, for whoever may see what they are of."""

from __future__ import annotations

from datetime import timedelta

import orjson
import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.formats.client_packages import LANGUAGES
from calm_tariff.services.admit.portals import clients
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose.apis import operations
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.store.admit.client_packages import ClientPackage
from calm_tariff.store.compose.apis import ApiDocument
from tests.office import Office
from tests.services.admit.portals.test_storefront import SLUG, restrict

GATEWAY = "http://gw.example"


def states(office: Office, ctx: Context | None = None) -> list[str]:
    return [s.state for s in clients.states(ctx or office.ctx, SLUG, office.api, GATEWAY)]


def ask(office: Office, ctx: Context | None = None) -> str:
    return clients.ask(ctx or office.ctx, SLUG, office.api, GATEWAY, "python").state


def digests(office: Office) -> list[str]:
    with office.ctx.transaction() as session:
        return list(session.scalars(select(ClientPackage.digest).order_by(ClientPackage.asked_at)))


def waiting(office: Office) -> list[str]:
    """The digests of what is to be made, taken by somebody who makes nothing."""
    found = []
    while job := jobs.claim(office.ctx, {clients.MAKE: jobs.LEASE}):
        found.append(job.arguments["digest"])
    return found


def test_a_client_is_asked_for_made_once_and_taken_by_all(office: Office) -> None:
    assert states(office) == ["not made", "not made"]
    assert [ask(office), ask(office, office.acting(office.consumers[0]))] == ["being made", "being made"]
    (digest,) = waiting(office)
    with pytest.raises(NotFound, match="is not made"):
        clients.take(office.ctx, SLUG, office.api, GATEWAY, "python")
    wanted = clients.wanted(office.ctx, digest)
    assert wanted is not None and wanted.language == "python"
    assert (wanted.facts.name, wanted.facts.base) == ("harbour-data-tides-v1", f"{GATEWAY}/tides/v1")
    assert wanted.document["openapi"].startswith("3.")
    clients.keep(office.ctx, digest, {"README.md": b"x"})
    assert clients.wanted(office.ctx, digest) is None  # done: a job that is done again does nothing
    assert states(office) == ["ready", "not made"] and ask(office) == "ready"
    name, content = clients.take(office.ctx, SLUG, office.api, GATEWAY, "python")
    assert name == "harbour-data-tides-v1-python.zip" and content.startswith(b"PK")


def test_another_document_is_another_client(office: Office) -> None:
    ask(office)
    operations.add(office.manager, office.api, OperationTyped("GET", "/moons"))
    ask(office)
    assert len(set(digests(office))) == 1  # what is described and not sold is not in it
    found = {f"{o.method} {o.path}": o.id for o in operations.page(office.manager, office.api).operations}
    office.sell(found["GET /moons"])
    assert states(office) == ["not made", "not made"]
    ask(office)
    clients.ask(office.ctx, SLUG, office.api, "https://other.example", "python")
    assert len(set(digests(office))) == 3


def test_what_failed_says_why_and_is_tried_again_when_asked(office: Office) -> None:
    ask(office)
    (digest,) = digests(office)
    clients.fail(office.ctx, digest, "the generator refuses the document: no paths")
    state = clients.states(office.ctx, SLUG, office.api, GATEWAY)[0]
    assert (state.state, state.why) == ("failed", "the generator refuses the document: no paths")
    waiting(office)
    assert ask(office) == "being made"
    clients.keep(office.ctx, digest, {"a": b""})
    clients.fail(office.ctx, digest, "too late")
    assert states(office)[0] == "ready"


def test_none_is_made_of_an_older_document(office: Office) -> None:
    older = {"swagger": "2.0", "info": {"title": "Tides", "version": "1"}, "paths": {"/stations": {"get": {}}}}
    with office.ctx.transaction() as session:
        text = orjson.dumps(older).decode()
        session.add(ApiDocument(api_version_id=office.api, name="old.json", text=text, imported_at=office.ctx.now))
    assert states(office) == ["cannot be", "cannot be"]
    with pytest.raises(Invalid, match="OpenAPI 3"):
        ask(office)


def test_a_hidden_product_has_no_clients(office: Office) -> None:
    ask(office)
    clients.keep(office.ctx, digests(office)[0], {"a": b""})
    restrict(office, consumer=0)
    assert states(office, office.acting(office.consumers[0]))[0] == "ready"
    for act in (
        lambda: states(office),
        lambda: ask(office),
        lambda: clients.take(office.ctx, SLUG, office.api, GATEWAY, "python"),
        lambda: clients.states(office.acting(office.consumers[0]), SLUG, 999, GATEWAY),
    ):
        with pytest.raises(NotFound):
            act()


def test_what_nobody_asks_for_is_thrown_away(office: Office) -> None:
    for language in LANGUAGES:
        clients.ask(office.ctx, SLUG, office.api, GATEWAY, language)
    office.clock.now += timedelta(days=20)
    ask(office)
    office.clock.now += timedelta(days=11)
    clients.forget(office.ctx)
    assert states(office) == ["being made", "not made"]
