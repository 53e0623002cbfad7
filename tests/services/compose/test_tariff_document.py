"""What a tariff document would change is said of each thing in words, and what it names must be here."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.tariff import TariffPlan, read_tariff, write_tariff
from calm_tariff.formats.values import read
from calm_tariff.services.admit import groups
from calm_tariff.services.compose import house_limits, tariff_document
from calm_tariff.services.compose.sheet import plans
from calm_tariff.store.compose.apis import Operation
from tests.office import Office, terms

PACE = {"kind": "pace", "name": "Pace", "counted_per": "everyone", "calls": 90, "per_seconds": 1, "max_wait_ms": 50}
TIDES = "Tides v1 GET /stations/{id}/tides"
PACE_SAID = "Pace: {} a second evenly spaced, waiting up to 50 ms, for everyone"
OVERRIDES = "products[0].plans[1].draft.overrides"
PRODUCT, KETCH, METER = "product Harbour Data", "Harbour Data · Ketch", "meter Forecast calls"


def changes(office: Office, text: str) -> list[tuple[str, str]]:
    return [(d.where, d.what) for d in tariff_document.diff(office.manager, text)]


@pytest.fixture
def text(office: Office) -> str:
    """The office's tariff, with a draft, a group and house limits in it."""
    schools = groups.create(office.manager, "Schools")
    plans.show_to(office.manager, office.plans["Skiff"], [schools.id])
    house_limits.save(office.manager, office.api, 0, [PACE])
    tides = [str(office.operations[o]) for o in ("GET /stations", "GET /stations/{id}/tides")]
    slow = [
        {**terms()["limits"][0], "name": name, "applies_to": tides[n:]} for n, name in enumerate(("Lists", "Tides"))
    ]
    office.draft("Ketch", {**terms(fee="50"), "overrides": slow})
    return tariff_document.export(office.manager)


CHANGES = [
    # what stands in the document, what stands there instead, and what is said of which thing
    ("groups:\n", "groups:\n- Ferries\n", "group Ferries", "is new"),
    ("key: forecast_calls", "key: winds", "meter Forecast calls", "is new"),
    ("  - 2xx\n", "  - 4xx\n", METER, "outcomes: without 2xx; with 4xx"),
    ("measure: calls", "measure: bytes_out", METER, "measure: calls → bytes_out"),
    (f"  - {TIDES}\n  measure", "  measure", METER, f"operations: without {TIDES}"),
    ("calls: 90", "calls: 80", "limits of Tides v1", f"{PACE_SAID.format(90)} → {PACE_SAID.format(80)}"),
    ("api: Tides v1", "api: null", "limits of every API", f"none → {PACE_SAID.format(90)}"),
    ("name: Harbour Data", "name: Pier Data", "product Pier Data", "is new"),
    ("description: Tides.", "description: Winds.", PRODUCT, "description: Tides. → Winds."),
    ("description: Tides.", f"description: {'long ' * 40}", PRODUCT, "description: another text"),
    ("  description: Tides.\n", "", PRODUCT, "description: Tides. → none"),
    ("older_fields: false", "older_fields: true", PRODUCT, "older fields: no → yes"),
    ("shows:\n  - key\n", "shows:\n  - basic\n  - key\n", PRODUCT, "shows: with basic"),
    ("name: Ketch", "name: Yawl", "Harbour Data · Yawl", "is new"),
    ("- name: Ketch\n    state: on sale", "- name: Ketch\n    state: closed", KETCH, "on sale → closed"),
    ("    groups:\n    - Schools\n", "", "Harbour Data · Skiff", "seen by Schools → everybody"),
    ("amount: '40'", "amount: '45'", KETCH, "Fee: €40 a month → €45 a month"),
    ("amount: '50'", "amount: '55'", KETCH, "draft, Fee: €50 a month → €55 a month"),
]


def test_each_change_is_said_of_its_thing(office: Office, text: str) -> None:
    unsaid = []
    for before, after, where, what in CHANGES:
        assert before in text
        said = changes(office, text.replace(before, after, 1))
        unsaid += [] if (where, what) in said else [(before, after, said)]
    assert unsaid == []


def test_nothing_is_said_where_nothing_changes_but_an_order_that_means_nothing(office: Office, text: str) -> None:
    assert changes(office, text) == []
    before, after = "  - Tides v1 GET /stations\n", f"  - {TIDES}\n"
    swapped = text.replace(before, "?").replace(after, before).replace("?", after)
    assert swapped != text
    in_order = [c for c in changes(office, swapped) if c[0] == PRODUCT]
    assert in_order == []


def test_terms_and_drafts_that_come_and_go_and_plans_in_another_order(office: Office, text: str) -> None:
    tariff = read_tariff(text)
    (product,) = tariff.products
    skiff, ketch = product.plans
    drafted = read(PlanTerms, terms(fee="5"))

    def said(*stand: TariffPlan) -> list[tuple[str, str]]:
        return changes(office, write_tariff(replace(tariff, products=(replace(product, plans=stand),))))

    assert said(ketch, skiff) == [(PRODUCT, "plans stand as Ketch, Skiff")]
    assert said(skiff) == []  # a plan that a document says nothing of stays as it is
    assert said(skiff, replace(ketch, draft=None)) == [(KETCH, "its draft goes")]
    assert said(skiff, replace(ketch, terms=None)) == [(KETCH, "terms, none any more")]
    assert said(replace(skiff, draft=drafted), ketch) == [("Harbour Data · Skiff", "has a draft")]
    turned = replace(ketch.terms, limits=ketch.terms.limits[::-1])
    assert said(skiff, replace(ketch, terms=turned)) == [(KETCH, "order of terms")]


@pytest.mark.parametrize(
    ("before", "after", "where", "named"),
    [
        (f"  - {TIDES}\n  measure", "  - Tides v2 GET /\n  measure", "meters[0].operations[1]", "Tides v2 GET /"),
        ("api: Tides v1", "api: Tides v9", "limits[0].api", "Tides v9"),
        (f"  - {TIDES}\n  description", "  - Nowhere\n  description", "products[0].operations[2]", "Nowhere"),
        (f"        - {TIDES}\n", "        - Nowhere\n", f"{OVERRIDES}[0].applies_to[1]", "Nowhere"),
        (f"applies_to:\n        - {TIDES}\n", "applies_to: [Nowhere]\n", f"{OVERRIDES}[1].applies_to[0]", "Nowhere"),
    ],
)
def test_what_is_named_must_be_here(office: Office, text: str, before: str, after: str, where: str, named: str) -> None:
    assert before in text
    with pytest.raises(Invalid, match=named) as refused:
        changes(office, text.replace(before, after, 1))
    assert refused.value.where == where


def test_what_is_retired_is_named_no_more(office: Office, text: str) -> None:
    """An operation that went with a document stands in no tariff, though what it was sold by still names it."""
    with office.ctx.transaction() as session:
        operation = session.get_one(Operation, office.operations["GET /stations/{id}/tides"])
        operation.retired_at = office.ctx.now
    without = tariff_document.export(office.manager)
    assert TIDES in text and TIDES not in without
    with pytest.raises(Invalid, match="bring its API in first"):
        changes(office, text)
