"""Where secrets of scripts are used from: what is new there goes on the record, once."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.core.events import Thing
from calm_tariff.services.base import auditing
from calm_tariff.services.house import secret_places
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.house.service_tokens import ServiceToken, ServiceTokenPlace
from tests.office import Office
from tests.services.accounts import signed_in, token_of


def used_from(office: Office, label: str, *addresses: str) -> None:
    with office.ctx.transaction() as session:
        token = session.scalars(select(ServiceToken).where(ServiceToken.label == label)).one()
        for address in addresses:
            subject = Thing("service token", token.id, label)
            secret_places.note(session, office.manager, ServiceTokenPlace, subject, address)


def told(office: Office) -> list[tuple[str, str]]:
    found = auditing.entries(office.manager, PageQuery(words="new place", rows=100)).rows
    return [(entry.subject, entry.why) for entry in reversed(found)]


def test_a_new_place_is_told_once_and_for_each_secret_by_itself(office: Office) -> None:
    for label in ("ledger", "stock"):
        token_of(signed_in(office), label)
    used_from(office, "ledger", "192.0.2.1", "192.0.2.1", "192.0.2.2")
    used_from(office, "ledger", "192.0.2.1")
    used_from(office, "stock", "192.0.2.1")
    assert told(office) == [
        ("ledger", "from 192.0.2.1"),
        ("ledger", "from 192.0.2.2"),
        ("stock", "from 192.0.2.1"),
    ]


def test_of_a_secret_used_from_everywhere_no_more_is_kept_than_can_be_read(office: Office) -> None:
    token_of(signed_in(office), "ledger")
    many = secret_places.MOST + 5
    used_from(office, "ledger", *(f"192.0.2.{n}" for n in range(many)))
    assert len(told(office)) == secret_places.MOST


def test_an_address_longer_than_any_is_cut_and_known_again(office: Office) -> None:
    token_of(signed_in(office), "ledger")
    long = "f" * (secret_places.LONGEST + 9)
    used_from(office, "ledger", long, long)
    assert told(office) == [("ledger", f"from {long[: secret_places.LONGEST]}")]
