"""The code of a transfer, which banks' programs read: EPC069-12, version 2, of the European Payments Council."""

from __future__ import annotations

from decimal import Decimal

from segno import helpers

from calm_tariff.core.billing.documents.issued import Issued

# The most that one transfer can be of, and the longest name of whoever gets it.
_MOST, _LONGEST_NAME = Decimal("999999999.99"), 70


def payment_code(of: Issued) -> str:
    """The code that pays what an invoice leaves to be paid, as an address of an SVG picture; "" where none can: for a
    transfer in euro alone, to an account that is known."""
    amount = of.to_pay
    transferred = of.kind == "invoice" and of.paid_by != "card" and of.seller.iban
    if not transferred or of.currency != "EUR" or not 0 < amount <= _MOST:
        return ""
    code = helpers.make_epc_qr(
        name=of.seller.name[:_LONGEST_NAME],
        iban=of.seller.iban,
        amount=amount,
        reference=of.reference,
        bic=of.seller.bic or None,
    )
    return str(code.svg_data_uri(border=0, dark="#1E2B2A"))
