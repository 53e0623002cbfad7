"""An organisation's address, tax number, and what other systems know it by."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.billing.documents.tax import treatment
from calm_tariff.edge.again import Again
from calm_tariff.services.admit.organisation import details
from calm_tariff.services.admit.organisation.details import Details, Reference

router = APIRouter(tags=["consumers"], route_class=Again)


class ReferenceIn(BaseModel):
    """What another system knows it by."""

    system: str = Field(max_length=details.LONGEST_SYSTEM)
    reference: str = Field(max_length=200)


class DetailsIn(BaseModel):
    """Its address as lines, its country by two letters (ISO 3166-1), its tax number, how it is taxed and what exempts
    it, and its references elsewhere."""

    address: str = Field("", max_length=2000)
    country: str = Field("", max_length=2)
    tax_number: str = Field("", max_length=100)
    tax_treatment: str = Field("standard", max_length=40)
    tax_note: str = Field("", max_length=1000)
    references: list[ReferenceIn] = Field([], max_length=100)


@router.get("/countries")
def countries(ctx: Asking) -> dict[str, str]:
    """The countries, by their codes of two letters (ISO 3166-1)."""
    return details.countries(ctx)


@router.put("/consumers/{consumer_id}/details")
def change_details(ctx: Asking, consumer_id: int, typed: DetailsIn) -> Details:
    """Have an organisation's details be these."""
    references = tuple(Reference(system=each.system, reference=each.reference) for each in typed.references)
    wanted = Details(
        address=typed.address,
        country=typed.country,
        tax_number=typed.tax_number,
        tax_treatment=treatment(typed.tax_treatment, "tax_treatment"),
        tax_note=typed.tax_note,
        references=references,
    )
    return details.change(ctx, consumer_id, wanted)
