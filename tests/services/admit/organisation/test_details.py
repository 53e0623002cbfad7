"""An organisation's details are read with care, kept once, and recorded; a reference is one consumer's alone."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.admit.organisation import details
from calm_tariff.services.admit.organisation.details import Details, Reference
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office

LEDGER = Reference(system="Ledger", reference="10423")
WHOLE = Details(address=" Cais Velho 12 \n\n9010-114 Larkmouth ", country="pt", tax_number="501 964 843")


def test_they_are_kept_in_their_form_and_recorded_once(office: Office) -> None:
    ferries = office.consumers[0].member.own_consumer
    told = EntryFilter(action="changed an organisation's details")
    kept = details.change(office.finance, ferries, WHOLE)
    assert kept == Details(address="Cais Velho 12\n9010-114 Larkmouth", country="PT", tax_number="PT501964843")
    details.change(office.finance, ferries, kept)
    again = details.change(office.finance, ferries, Details(country="PT", references=(LEDGER,)))
    assert again.references == (LEDGER,)
    newest, first = auditing.entries(office.manager, PageQuery(), told).rows
    assert first.after == {"address": kept.address, "country": "PT", "tax number": "PT501964843"}
    assert (newest.before or {})["references"] == [] and (newest.after or {})["references"] == ["Ledger: 10423"]


def test_how_it_is_taxed_is_kept_with_what_exempts_it(office: Office) -> None:
    ferries = office.consumers[0].member.own_consumer
    owes = details.change(office.finance, ferries, replace(WHOLE, tax_treatment="reverse charge", tax_note="not said"))
    assert (owes.tax_treatment, owes.tax_note) == ("reverse charge", "")
    details.change(office.finance, ferries, Details(tax_treatment="exempt", tax_note=" A lifeboat service. "))
    told = EntryFilter(action="changed an organisation's details")
    newest, *_ = auditing.entries(office.manager, PageQuery(), told).rows
    assert (newest.before or {})["tax"] == "reverse charge"
    assert (newest.after or {})["tax"] == "exempt: A lifeboat service."


def test_a_reference_is_one_consumers_alone(office: Office) -> None:
    ferries, kayaks = (c.member.own_consumer for c in office.consumers)
    details.change(office.manager, ferries, Details(references=(LEDGER,)))
    with pytest.raises(Conflict, match="Ledger knows Ferries by 10423") as refused:
        details.change(office.manager, kayaks, Details(address="Here", references=(LEDGER,)))
    assert refused.value.where == "references.0.reference"
    with office.ctx.transaction() as session:
        assert details.of(session, session.get_one(Consumer, kayaks)) == Details()
    details.change(office.manager, ferries, Details())
    assert details.change(office.manager, kayaks, Details(references=(LEDGER,))).references == (LEDGER,)


@pytest.mark.parametrize(
    ("typed", "where"),
    [
        (Details(country="Portugal"), "country"),
        (Details(tax_number="12", country="PT"), "tax_number"),
        (Details(tax_treatment="reverse charge"), "tax_number"),
        (Details(tax_treatment="exempt", tax_note=" "), "tax_note"),
        (Details(tax_treatment="exempt", tax_note="x" * 201), "tax_note"),
        (Details(address="x\n" * 9), "address"),
        (Details(address="x" * 501), "address"),
        (Details(address="a\u200bb"), "address"),
        (Details(references=(Reference(system="", reference="1"),)), "references.0.system"),
        (Details(references=(LEDGER, Reference(system="CRM", reference=" "))), "references.1.reference"),
        (Details(references=(LEDGER, LEDGER)), "references.1.system"),
        (Details(references=tuple(Reference(system=f"s{n}", reference="1") for n in range(21))), "references"),
    ],
)
def test_what_is_wrong_is_told_where(office: Office, typed: Details, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        details.change(office.manager, office.consumers[0].member.own_consumer, typed)
    assert refused.value.where == where


def test_it_is_for_those_who_keep_them(office: Office) -> None:
    operations = office.ctx.acting(replace(office.manager.actor, roles=frozenset({"operations"})))
    with pytest.raises(NotAllowed):
        details.change(operations, office.consumers[0].member.own_consumer, WHOLE)
    with pytest.raises(NotFound):
        details.change(office.manager, 10**9, WHOLE)
