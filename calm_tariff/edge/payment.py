"""A payment method as it is sent."""

from __future__ import annotations

from pydantic import BaseModel, Field

from calm_tariff.core.payment import Payment, payment


class PaymentIn(BaseModel):
    """How invoices are paid: `transfer`, and the number that one's own books know the purchase by ("" for none)."""

    method: str = Field(max_length=40)
    order_number: str = Field(default="", max_length=200)

    def value(self) -> Payment:
        """As the services take it. Raises `Invalid`, naming the field."""
        return payment(self.method, self.order_number)
