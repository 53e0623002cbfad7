"""Where the consumers are, and what the office's ledger knows them by."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.services.admit.organisation import details
from calm_tariff.services.admit.organisation.details import Details, Reference
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.consumers import Consumer

ADDRESSES = (
    ("Gannet Ferries", "Cais Velho 12\n9010-114 Larkmouth", "10423"),
    ("Saltmarsh Kayak Club", "Boathouse Lane 3\n9012-020 Saltmarsh", "10388"),
    ("Pelorus Cover", "Rua do Farol 40, 2\n9010-201 Larkmouth", "10511"),
    ("Quayside Freight", "Doca Seca, Armazém 7\n9010-118 Larkmouth", "10460"),
    ("Fathom & Field", "Largo da Barra 5\n9020-003 Pellow", "10502"),
)


def say_where_they_are(ctx: Context) -> None:
    """Keep where everybody is, which invoices have to say."""
    known = {name: address for name, address, _ in ADDRESSES}
    with ctx.transaction() as session:
        everybody = session.execute(select(Consumer.id, Consumer.name)).all()
    for consumer, name in everybody:
        details.change(ctx, consumer, Details(address=known.get(name, "Larkmouth"), country="PT"))


def tell_what_the_ledger_calls_them(ctx: Context) -> None:
    """Keep what the office's ledger knows some of them by."""
    for name, address, number in ADDRESSES:
        with ctx.transaction() as session:
            consumer = session.scalars(select(Consumer.id).where(Consumer.name == name)).one()
        known = (Reference(system="Ledger", reference=number),)
        details.change(ctx, consumer, Details(address=address, country="PT", references=known))
