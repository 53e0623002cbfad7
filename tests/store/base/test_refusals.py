"""What the database refuses is told by its field, and never with its values."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from sqlalchemy import insert, select, text, update
from sqlalchemy.exc import ProgrammingError
from sqlalchemy.orm import Session

from calm_tariff.core.errors import CalmTariffError, Conflict, Invalid
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.compose.products import Plan, Product
from tests.office import Office


def plan(**changes: Any) -> Callable[[Session, Office], object]:
    def change(session: Session, office: Office) -> object:
        return session.execute(update(Plan).where(Plan.id == office.plans["Ketch"]).values(**changes))

    return change


def twin(session: Session, office: Office) -> object:
    known = session.scalars(select(Application)).first()
    assert known is not None
    values = {
        "name": known.name,
        "consumer_id": known.consumer_id,
        "client_id": "x",
        "tags": {},
        "purpose": "",
        "created_at": known.created_at,
    }
    return session.execute(insert(Application).values(**values))


REFUSED = {
    "one like it": (twin, Conflict, "name", "there is one like it already"),
    "a name that is taken": (plan(name="Skiff"), Conflict, "name", "there is one like it already"),
    "nothing where something must be": (plan(name=None), Invalid, "name", "is missing"),
    "too long": (plan(name="secret" * 60), Invalid, "name", "does not fit what can be kept"),
    "no number": (plan(place="secret"), Invalid, "place", "does not fit what can be kept"),
    "of nothing": (plan(product_id=10**9), Conflict, "product_id", "names something that is not there any more"),
    "what others need": (
        lambda session, office: session.execute(text(f"DELETE FROM plan WHERE id = {office.plans['Ketch']}")),
        Conflict,
        "plan_id",
        "something else depends on it",
    ),
}


@pytest.mark.parametrize(("change", "kind", "field", "words"), REFUSED.values(), ids=REFUSED)
def test_a_refusal_names_the_field(
    office: Office, change: Callable[[Session, Office], object], kind: type[CalmTariffError], field: str, words: str
) -> None:
    with pytest.raises(kind) as refused, office.ctx.transaction() as session:
        change(session, office)
    assert (refused.value.where, refused.value.what) == (field, words)
    assert "secret" not in str(refused.value)
    with office.ctx.transaction() as session:
        assert session.get_one(Product, office.product).plans[1].name == "Ketch"


def test_what_is_no_refusal_stays_what_it_is(office: Office) -> None:
    with pytest.raises(ProgrammingError), office.ctx.transaction() as session:
        session.execute(text("SELECT 1 FROM nowhere"))
