"""Compose in full: versions and documents, meters, products for groups, plans from draft to withdrawal."""

import json
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.gateway.snapshot import Snapshot
from calm_tariff.services.admit import (
    applications,
    carrying_over,
    groups,
    outside_decisions,
    requests,
    storefront,
    tariff_applying,
    terms_of_use,
)
from calm_tariff.services.compose import (
    api_documents,
    apis,
    effective_limits,
    house_limits,
    meters,
    operations,
    plans,
    products,
    publishing,
    tariff_document,
)
from calm_tariff.services.compose.apis import ApiTyped
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.compose.operations import OperationTyped
from calm_tariff.services.serve import gateway_feed, history, meter_preview, trials
from calm_tariff.services.settle import charging
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import START, Office, terms

DOCUMENT = {
    "openapi": "3.1.0",
    "info": {"title": "Tides", "version": "2"},
    "paths": {
        "/stations": {"get": {"summary": "All stations", "tags": ["Stations"], "responses": {}}},
        "/stations/{id}/tides": {
            "parameters": [{"name": "id", "in": "path", "schema": {"$ref": "#/components/schemas/Id"}}],
            "get": {"summary": "Heights", "tags": ["Heights"], "responses": {}},
        },
        "/alerts": {"post": {"summary": "Ask to be told", "responses": {}}},
        "/broken": {"get": {"responses": {"200": {"$ref": "https://elsewhere.example/answers.json"}}}},
    },
    "components": {"schemas": {"Id": {"type": "string"}, "Unused": {"type": "string"}}},
}  # fmt: skip


def brought_in(office: Office, document: object = None) -> int:
    text = document if isinstance(document, str) else json.dumps(document or DOCUMENT)
    reading = api_documents.begin(office.manager, "tides.json", text)
    api_documents.read(office.ctx, reading.id)
    return reading.id


def settings(version: str, **more: object) -> ApiTyped:
    return replace(ApiTyped("Tides", version, "", f"/tides/{version}", "http://127.0.0.1:9/tides"), **more)


def test_a_document_is_read_compared_and_applied_only_with_consent(office: Office) -> None:
    reading = api_documents.one(office.manager, brought_in(office))
    assert (reading.stage, reading.operations, reading.left_out) == ("read", 3, 1)
    finding = reading.findings[0]
    assert finding.where == "/paths/~1broken/get/responses/200/$ref"
    assert "is not fetched" in finding.what
    against = api_documents.compare(office.manager, reading.id, office.api)
    assert against.added == ["POST /alerts"]
    assert [(r.operation, r.meters, r.plans, r.subscriptions) for r in against.removed] == [
        ("GET /stations/{id}", ["Forecast calls"], ["Harbour Data · Skiff", "Harbour Data · Ketch"], 2)
    ]
    with pytest.raises(Conflict, match="1 parts would be left out"):
        api_documents.apply_to(office.manager, reading.id, office.api, 1, False)
    with pytest.raises(Stale):
        api_documents.apply_to(office.manager, reading.id, office.api, 7, True)
    api_documents.apply_to(office.manager, reading.id, office.api, 1, True)
    labels = [f"{o.method} {o.path}" for o in operations.page(office.manager, office.api).operations]
    assert labels == ["POST /alerts", "GET /stations", "GET /stations/{id}/tides"]
    assert [o.path for o in operations.page(office.manager, office.api, standing="unsold").operations] == ["/alerts"]
    assert [o.path for o in operations.page(office.manager, office.api, "heights").operations] == [
        "/stations/{id}/tides"
    ]
    sold = api_documents.sold_by(office.manager, office.plans["Ketch"], "http://gateway")
    assert (list(sold["paths"]), list(sold["components"]["schemas"])) == (["/stations", "/stations/{id}/tides"], ["Id"])
    assert sold["servers"] == [{"url": "http://gateway/tides/v1"}]
    # The retired operation is there again once a document has it again.
    again = brought_in(office, {**DOCUMENT, "paths": {"/stations/{id}": DOCUMENT["paths"]["/stations"]}})
    api_documents.apply_to(office.manager, again, office.api, 2, False)
    assert operations.page(office.manager, office.api).operations[0].id == office.operations["GET /stations/{id}"]


def test_a_document_that_cannot_be_read_says_where_and_one_that_is_stopped_changes_nothing(office: Office) -> None:
    broken = api_documents.one(office.manager, brought_in(office, "openapi: 3.0.0\npaths: [\n"))
    assert (broken.stage, broken.findings[0].where) == ("failed", "line 3, column 1")
    begun = api_documents.begin(office.manager, "", json.dumps(DOCUMENT))
    api_documents.stop(office.manager, begun.id)
    with pytest.raises(Conflict, match="stopped"):
        api_documents.apply_as_new(office.manager, begun.id, settings("v2"), True)


def test_versions_answer_side_by_side_and_one_ends_with_notice(office: Office) -> None:
    with pytest.raises(Conflict, match="is where Tides v1 answers"):
        apis.create(office.manager, settings("v2", base_path="/tides/v1"))
    by_header = settings("v2", base_path="/tides/v1", chosen_by="header", chosen_name="API-Version", chosen_value="2")
    v2 = apis.create(office.manager, by_header)
    assert (v2.chosen_name, v2.state) == ("api-version", "live")
    with pytest.raises(Invalid, match="a day ahead"):
        apis.set_state(office.manager, office.api, "sunset", date(2026, 9, 10))
    ending = apis.set_state(office.manager, office.api, "sunset", date(2026, 12, 1))
    assert ending.sunset_at == datetime(2026, 12, 1, tzinfo=UTC)
    assert apis.touched_by_end(office.manager, office.api) == ["Ferries", "Kayaks"]
    with office.ctx.transaction() as session:
        letters = [m for m in session.scalars(select(Mail)) if m.subject == "Tides v1 ends on 1 December 2026"]
    assert len(letters) == 2
    office.clock.now = datetime(2026, 12, 1, tzinfo=UTC)
    assert apis.end_sunsets(office.ctx) == 1
    assert apis.one(office.manager, office.api).state == "gone"


def test_operations_are_grouped_changed_and_taken_away_only_where_nobody_uses_them(office: Office) -> None:
    ids = list(office.operations.values())
    assert operations.put_into_group(office.manager, office.api, ids[:2], "Stations", True) == 2
    assert apis.one(office.manager, office.api).groups == {"": 1, "Stations": 2}
    assert operations.page(office.manager, office.api, group="Stations").total == 2
    found = {w: operations.page(office.manager, office.api, w).total for w in ("get {ID}", "station_", "%", "ons/")}
    assert found == {"get {ID}": 2, "station_": 0, "%": 0, "ons/": 2}
    with pytest.raises(Conflict, match="Harbour Data · Ketch"):
        operations.remove(office.manager, ids[0])
    made = operations.add(office.manager, office.api, OperationTyped("POST", "/alerts"))
    with pytest.raises(Conflict, match="leads there already"):
        operations.add(office.manager, office.api, OperationTyped("POST", "/alerts"))
    operations.remove(office.manager, made.id)
    assert operations.page(office.manager, office.api).total == 3


def test_a_meter_is_tried_on_history_and_its_pause_says_whose_charges_change(office: Office) -> None:
    one = office.consumers[0]
    calls = [
        office.call(one, START - timedelta(hours=n), n, status=200 if n % 3 else 404, bytes_out=500, units={})
        for n in range(9)
    ]
    calls.append(office.call(one, START, 50, operation_id=office.operations["GET /stations"], units={}))
    history.take_in(office.ctx, calls)
    counted = [office.operations["GET /stations/{id}"]]
    tried = meter_preview.preview(office.manager, MeterTyped("", counted, ["2xx"], "bytes_out"))
    mb = Decimal("0.003")
    assert (tried.served, tried.matched, tried.units, sum(d.units for d in tried.days)) == (10, 6, mb, mb)
    # The kept meter counts 2xx of the same operation; three 404s and the list of stations are counted by none.
    assert tried.uncounted == 4
    assert [(c.consumer, c.units) for c in tried.consumers] == [("Ferries", mb)]
    assert meter_preview.preview(office.manager, MeterTyped("", counted, [], "calls")).uncounted == 1
    assert (
        meter_preview.preview(office.manager, MeterTyped("", counted, [], "reported", header="X-Tiles")).units is None
    )
    assert [d.consumer for d in meters.dependents(office.manager, office.meter)] == ["Ferries", "Kayaks"]
    assert meters.set_state(office.manager, office.meter, "paused").state == "paused"
    both = office.operations["GET /stations/{id}/tides"]
    clone = meters.clone(office.manager, office.meter, "Forecast megabytes")
    assert (clone.key, clone.sealed_at, clone.operations) == ("forecast_megabytes", None, [*counted, both])
    with pytest.raises(Invalid, match="response header"):
        meters.create(office.manager, MeterTyped("Tiles", counted, [], "reported"))


def test_what_is_for_a_group_others_cannot_even_name(office: Office) -> None:
    schools = groups.create(office.manager, "Schools")
    plans.show_to(office.manager, office.plans["Skiff"], [schools.id])
    ferries, kayaks = (office.acting(c) for c in office.consumers)
    groups.set_members(office.manager, schools.id, [ferries.actor.own_consumer])
    assert [o.name for o in storefront.product(ferries, "harbour-data").offers] == ["Skiff", "Ketch"]
    assert [o.name for o in storefront.product(kayaks, "harbour-data").offers] == ["Ketch"]
    product = products.one(office.manager, office.product)
    with office.ctx.transaction() as session:
        typed = products.typed_of(products.get(session, office.product))
    products.save(office.manager, office.product, product.edition, replace(typed, groups=[schools.id]))
    assert [p.name for p in storefront.products(ferries)] == ["Harbour Data"]
    assert storefront.products(kayaks) == []
    with pytest.raises(NotFound):
        storefront.product(kayaks, "harbour-data")
    other = applications.register(kayaks, "Second", "")
    with pytest.raises(NotFound):
        requests.ask(kayaks, other.id, office.plans["Skiff"], "To have a look.", True)


def with_product(office: Office, **changes: object) -> None:
    product = products.one(office.manager, office.product)
    with office.ctx.transaction() as session:
        typed = products.typed_of(products.get(session, office.product))
    products.save(office.manager, office.product, product.edition, replace(typed, **changes))


def test_new_terms_of_use_are_a_version_that_subscribers_are_asked_to_accept(office: Office) -> None:
    ferries = office.acting(office.consumers[0])
    assert terms_of_use.to_accept(ferries) == []
    with_product(office, terms_of_use="Name the source, twice.")
    assert [(t.product, t.number) for t in terms_of_use.to_accept(ferries)] == [("Harbour Data", 2)]
    terms_of_use.accept_terms(ferries, "harbour-data")
    assert terms_of_use.to_accept(ferries) == []
    versions = products.terms_versions(office.manager, office.product)
    assert [(v.number, v.text, v.accepted) for v in versions] == [
        (2, "Name the source, twice.", 1), (1, "Name the source.", 2),
    ]  # fmt: skip


def test_two_people_decide_where_a_product_is_reviewed_twice_and_nobody_here_where_outside(office: Office) -> None:
    with_product(office, access_route="reviewed twice")
    _, _, request = office.ask("Anglers", "Ketch")
    assert requests.decide(office.reviewer, request, "granted", "fine").state == "waiting"
    with pytest.raises(Conflict, match="a second person"):
        requests.decide(office.reviewer, request, "granted", "")
    done = requests.decide(office.manager, request, "granted", "")
    assert (done.state, done.first_granted_by, done.decided_by) == ("granted", "Rui", "Ines")
    with_product(office, access_route="outside")
    _, _, request = office.ask("Divers", "Ketch")
    with pytest.raises(Conflict, match="outside system"):
        requests.decide(office.reviewer, request, "granted", "")
    assert [r.id for r in outside_decisions.without_ticket(office.ctx)] == [request]
    outside_decisions.keep_ticket(office.ctx, request, "1000")
    outside_decisions.decide_outside(office.ctx, request, "declined", "No capacity.")
    assert outside_decisions.with_ticket(office.ctx) == []


TRIAL = {**terms(), "trial": {"days": 14, "units": "20", "meter": "forecast_calls", "then": "charge"}}


def test_a_trial_is_free_until_its_days_or_units_are_used_and_then_charged(office: Office) -> None:
    office.draft("Ketch", TRIAL)
    office.publish("keep")
    by_units, by_days = office.admit("Anglers", "Ketch"), office.admit("Divers", "Ketch")
    with office.ctx.transaction() as session:
        stays = session.scalars(select(Stay).where(Stay.subscription_id == by_days.subscription)).all()
        assert [(s.trial, s.end_at) for s in stays] == [(True, datetime(2026, 9, 23, 23, tzinfo=UTC)), (False, None)]
        by_units.stay = session.scalars(select(Stay.id).where(Stay.subscription_id == by_units.subscription)).first()
    assert trials.end_trials(office.ctx) == 0
    history.take_in(office.ctx, [office.call(by_units, START + timedelta(minutes=n), n) for n in range(25)])
    office.clock.now = START + timedelta(days=1)
    assert trials.end_trials(office.ctx) == 1
    office.clock.now = START + timedelta(days=15)
    assert trials.end_trials(office.ctx) == 1
    with office.ctx.transaction() as session:
        assert {s.state for s in session.scalars(select(Subscription))} == {"active"}
    office.clock.now = datetime(2026, 10, 2, tzinfo=UTC)
    charging.run(office.finance, date(2026, 9, 1))
    charges = {c.consumer: c.charge for c in charging.charges(office.finance, date(2026, 9, 1), PageQuery()).rows}
    # Divers: trial to the 23rd, then 7 of 30 days of 40. Anglers: the call that used the last of its units came on the
    # 10th, so 21 of 30 days, whoever was awake then; the trial's units are free.
    assert (charges["Divers"], charges["Anglers"]) == (Decimal("9.33"), Decimal("28.00"))


def test_plans_are_ordered_cloned_closed_and_withdrawn_with_everybody_moved(office: Office) -> None:
    skiff, old = office.plans["Skiff"], office.plans["Ketch"]
    sheet = plans.add(office.manager, office.product, "Schooner", like=old)
    schooner = sheet.plans[-1]
    assert (schooner.drafted, schooner.terms) == (True, sheet.plans[1].terms)
    sheet = plans.reorder(office.manager, office.product, [schooner.id, skiff, old])
    assert [p.name for p in sheet.plans] == ["Schooner", "Skiff", "Ketch"]
    with pytest.raises(Invalid, match="every plan"):
        plans.reorder(office.manager, office.product, [skiff, old])
    office.publish("keep")
    plans.close(office.manager, old)
    assert "Ketch" not in [o.name for o in storefront.product(office.ctx, "harbour-data").offers]
    with pytest.raises(Conflict, match="2 subscriptions are still on it"):
        carrying_over.withdraw(office.manager, old)
    office.clock.forward(days=3)
    sheet = carrying_over.withdraw(office.manager, old, schooner.id)
    assert ([p.name for p in sheet.plans], [p.name for p in sheet.withdrawn]) == (["Schooner", "Skiff"], ["Ketch"])
    with office.ctx.transaction() as session:
        moved = session.scalars(select(Subscription)).all()
        assert {s.plan_id for s in moved} == {schooner.id}
        assert [s.revision.plan_id for s in moved[0].stays] == [old, schooner.id]
    with pytest.raises(Conflict, match="cannot become"):
        plans.reopen(office.manager, old)
    extra = plans.add(office.manager, office.product, "Dinghy").plans[-1]
    assert [p.name for p in plans.remove(office.manager, extra.id).plans] == ["Schooner", "Skiff"]


def test_a_revision_for_a_day_moves_subscribers_there_and_leaves_trials_alone(office: Office) -> None:
    office.draft("Ketch", TRIAL)
    office.publish("keep")
    tried = office.admit("Divers", "Ketch")
    office.draft("Ketch", terms(fee="50"))
    with pytest.raises(Invalid, match="a day ahead"):
        office.publish("at date", on=date(2026, 9, 10))
    office.publish("at date", on=date(2026, 9, 16))
    with office.ctx.transaction() as session:
        query = select(Stay).where(Stay.subscription_id == tried.subscription).order_by(Stay.start_at, Stay.id)
        # Should its units end the trial before the day, it goes on as agreed until then: empty as yet.
        assert [(s.trial, s.revision.number, s.start_at == s.end_at) for s in session.scalars(query)] == [
            (True, 2, False), (False, 2, True), (False, 3, False)
        ]  # fmt: skip
        query = select(Stay).where(Stay.subscription_id == office.consumers[0].subscription).order_by(Stay.start_at)
        moved = session.scalars(query).all()
        assert [s.revision.number for s in moved] == [1, 3]
        assert moved[1].start_at == datetime(2026, 9, 15, 23, tzinfo=UTC)
    revision = publishing.revision(office.manager, moved[1].revision_id)
    assert ("Fee: €40 a month → €50 a month" in revision.changes, len(revision.others)) == (True, 3)


def test_what_a_caller_gets_names_the_layer_of_every_limit(office: Office) -> None:
    house = [{"kind": "rate", "name": "Rate", "counted_per": "everyone", "calls": 50, "per_seconds": 1, "burst": 50}]
    house_limits.save(office.manager, office.api, 0, house)
    with pytest.raises(Stale):
        house_limits.save(office.manager, office.api, 0, [])
    quota = [{**terms()["limits"][1], "name": "All"}]
    with pytest.raises(Invalid, match="allowances belong to plans"):
        house_limits.save(office.manager, None, 0, quota)
    stations = str(office.operations["GET /stations"])
    slow = {**terms()["limits"][0], "name": "Slow list", "calls": 1, "burst": 2, "applies_to": [stations]}
    office.draft("Ketch", {**terms(), "overrides": [slow]})
    shown = effective_limits.what_a_caller_gets(office.manager, office.plans["Ketch"], draft=True)
    rows = [([label.split()[-1] for label in r.operations], [(e.layer, e.name) for e in r.limits]) for r in shown.rows]
    counted = ["/stations/{id}", "/stations/{id}/tides"]
    assert rows == [
        (["/stations"], [("api", "Rate"), ("plan", "Rate"), ("operation", "Slow list")]),
        (counted, [("api", "Rate"), ("plan", "Rate"), ("plan", "Forecast calls")]),
    ]


def test_a_tariff_goes_out_and_in_again_without_a_difference_and_is_applied_whole_or_not_at_all(office: Office) -> None:
    schools = groups.create(office.manager, "Schools")
    plans.show_to(office.manager, office.plans["Skiff"], [schools.id])
    house_limits.save(
        office.manager,
        None,
        0,
        [{"kind": "pace", "name": "Pace", "counted_per": "everyone", "calls": 90, "per_seconds": 1, "max_wait_ms": 50}],
    )
    stations = str(office.operations["GET /stations"])
    slow = {**terms()["limits"][0], "name": "Slow list", "applies_to": [stations]}
    drafted = {**TRIAL, "overrides": [slow], "notes": "line one\nline two"}
    office.draft("Ketch", drafted)
    text = tariff_document.export(office.manager)
    assert "Tides v1 GET /stations" in text
    assert tariff_document.diff(office.manager, text) == []
    assert tariff_applying.apply(office.manager, text).differences == []
    assert tariff_document.export(office.manager) == text
    dearer = text.replace("amount: '40'", "amount: '45'", 1)
    changes = [(d.where, d.what) for d in tariff_document.diff(office.manager, dearer)]
    assert changes == [("Harbour Data · Ketch", "Fee: €40 a month → €45 a month")]
    with pytest.raises(Conflict, match="say how to publish"):
        tariff_applying.apply(office.manager, dearer)
    wrong = dearer.replace("access: reviewed", "access: open").replace("GET /stations\n", "GET /nowhere\n", 1)
    with pytest.raises(Invalid, match="Tides v1 GET /nowhere"):
        tariff_applying.apply(office.manager, wrong, "keep")
    assert tariff_document.export(office.manager) == text  # refused: nothing is changed
    applied = tariff_applying.apply(office.manager, dearer, "next period")
    assert applied.unpublished == []
    assert tariff_document.export(office.manager) == dearer


def test_a_tariff_brought_into_an_empty_installation_is_the_same_there(office: Office) -> None:
    office.draft("Ketch", TRIAL)
    text = tariff_document.export(office.manager)
    renamed = (
        text.replace("Harbour Data", "Pier Data")
        .replace("forecast_calls", "pier_calls")
        .replace("name: Forecast calls\n  operations", "name: Pier calls\n  operations")
    )
    tariff_applying.apply(office.manager, renamed, "keep")
    again = tariff_document.export(office.manager)
    assert tariff_document.diff(office.manager, renamed) == []
    assert "name: Pier Data" in again


def test_two_paths_of_one_place_are_both_kept_each_with_its_methods(office: Office) -> None:
    paths = {
        "/stations/{id}": {"get": {"parameters": [{"in": "path", "name": "id"}], "responses": {}}},
        "/stations/{name}": {"post": {"parameters": [{"in": "path", "name": "name"}], "responses": {}}},
    }
    reading = brought_in(office, {**DOCUMENT, "paths": paths})
    typed = ApiTyped("Places", "v1", "", "/places/v1", "http://127.0.0.1:9/places", 50)
    made = api_documents.apply_as_new(office.manager, reading, typed, True)
    found = {f"{o.method} {o.path}" for o in operations.page(office.manager, made.id).operations}
    assert found == {"GET /stations/{id}", "POST /stations/{name}"}
    snapshot = Snapshot(gateway_feed.read_feed(office.ctx))
    for method, other in (("GET", "POST"), ("POST", "GET")):
        place = snapshot.place(method, "/places/v1/stations/x")
        assert place and place.match.operation_id and set(place.match.methods) == {method, other}
