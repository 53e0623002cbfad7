"""Anything by a few letters."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.observe import finder
from calm_tariff.services.serve import history
from calm_tariff.services.settle.documents import credit_notes, issuing
from calm_tariff.services.settle.documents.credit_notes import Wanted
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office


def test_the_finder_finds_each_kind_by_a_few_letters(office: Office) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, office.counted([call := office.call(one, START, 1)]))
    charging.run(office.finance, date(2026, 9, 1))
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, 9, tzinfo=UTC))
    drafts = periods.one(october, date(2026, 9, 1), PageQuery()).drafts
    issuing.issue(october, drafts)
    credit_notes.issue(october, drafts[0], Wanted(reason="Twice.", whole=True))

    def found(words: str) -> set[tuple[str, str]]:
        return {(f.kind, f.name) for f in finder.find(office.manager, words)}

    assert ("consumer", "Ferries") in found("ferr") and ("application", "Ferries app, Ferries") in found("FERR")
    assert ("product", "Harbour Data") in found("harb") and ("plan", "Harbour Data · Ketch") in found("ketch")
    assert ("API", "Tides v1") in found("tid") and ("meter", "Forecast calls") in found("forecast")
    assert found("INV-2026-0") == {("invoice", "INV-2026-00001, Ferries"), ("invoice", "INV-2026-00002, Kayaks")}
    assert found("CN-2026") == {("credit note", "CN-2026-00001, Ferries")}
    assert found(call["call_id"].lower()) == {("call", call["call_id"])}
    assert {kind for kind, _ in found(one.secret[:10])} == {"key"}
    assert found("") == found("   ") == found("100%") == found("f_r") == found("\\") == set()
    with pytest.raises(NotSignedIn):
        finder.find(office.acting(one), "ferries")
