"""Outside issuers of tokens."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, Stale
from calm_tariff.services.compose import issuers
from calm_tariff.services.compose.issuers import IssuerTyped
from calm_tariff.services.serve import gateway_feed
from tests.office import Office

TRUSTED = IssuerTyped("Coast identity", "https://id.example", "https://id.example/keys", "larkmouth")


def test_an_issuer_is_trusted_changed_and_trusted_no_more(office: Office) -> None:
    added = issuers.add(office.manager, TRUSTED)
    (told,) = gateway_feed.read_feed(office.ctx).issuers
    assert (told.issuer, told.audience, told.claim) == ("https://id.example", "larkmouth", "sub")
    with pytest.raises(Stale) as stale:
        issuers.save(office.manager, added.id, added.edition + 1, TRUSTED)
    assert stale.value.current == added
    gone = issuers.save(office.manager, added.id, added.edition, replace(TRUSTED, trusted=False))
    assert gone.edition == added.edition + 1 and gateway_feed.read_feed(office.ctx).issuers == ()
    with pytest.raises(Conflict, match="name: is here already"):
        issuers.add(office.manager, replace(TRUSTED, issuer="https://other.example"))
    with pytest.raises(Conflict, match="issuer: is here already"):
        issuers.add(office.manager, replace(TRUSTED, name="Other"))
    with pytest.raises(NotFound):
        issuers.save(office.manager, 10**9, 1, TRUSTED)
    with pytest.raises(NotAllowed):
        issuers.add(office.finance, TRUSTED)


@pytest.mark.parametrize(
    ("field", "value"),
    [
        ("name", " "),
        ("issuer", ""),
        ("audience", ""),
        ("claim", ""),
        ("jwks_url", "ftp://id.example"),
        ("jwks_url", "id.example/keys"),
        ("algorithms", ()),
        ("algorithms", ("HS256",)),
        ("algorithms", ("none",)),
    ],
)
def test_an_issuer_that_could_not_be_trusted_is_refused_by_its_field(office: Office, field: str, value) -> None:
    with pytest.raises(Invalid) as refused:
        issuers.add(office.manager, replace(TRUSTED, **{field: value}))
    assert refused.value.where == field
    assert issuers.everything(office.manager) == []
