"""An installation of an earlier version comes over with what it has."""

from __future__ import annotations

import json
from datetime import datetime
from typing import Any

from alembic import command
from sqlalchemy import Connection, text

from calm_tariff.core.periods import DAY
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor, context_for
from calm_tariff.services.house import record
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import configuration, upgrade
from calm_tariff.store.serve.call_writer import Sums
from calm_tariff.store.serve.usage import DailyAnswers, HourlyOutcomes
from tests.servers import RunDatabase

BEFORE_JOBS = [
    "INSERT INTO mail (recipient, subject, body, created_at, sent_at, failed, confidential) VALUES "
    "('a@x.example', 'Waits', 'x', '2026-09-01', NULL, NULL, 0), "
    "('b@x.example', 'Was sent', 'x', '2026-09-01', '2026-09-02', NULL, 0), "
    "('c@x.example', 'Set aside', 'x', '2026-09-01', NULL, '550', 0)",
    "INSERT INTO subscription (id, application_id, plan_id, state, started_at) VALUES "
    "(7, 1, 1, 'trial', '2026-09-01'), (8, 1, 1, 'active', '2026-09-01')",
    "INSERT INTO access_request (id, application_id, plan_id, member_id, purpose, terms_accepted, state, created_at, "
    "note, first_note) VALUES (5, 1, 1, 1, 'p', '2026-09-01', 'passed to outside', '2026-09-01', '', ''), "
    "(6, 1, 1, 1, 'p', '2026-09-01', 'waiting', '2026-09-01', '', '')",
]


def test_what_waited_to_be_done_becomes_jobs(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_jobs")
    command.upgrade(configuration(url), "0013")
    made = engine(url)
    with made.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for statement in BEFORE_JOBS:
            connection.execute(text(statement))
        names = {row[0]: row for row in connection.execute(text("SHOW COLUMNS FROM api_version"))}
        given = {"id": 3, "api_id": 1, "state": "'sunset'", "sunset_at": "'2027-01-31 23:00:00'"}
        for name, (_, kind, null, _, default, _) in names.items():
            if null == "NO" and default is None and name not in given:
                given[name] = "'[]'" if kind in ("longtext", "json") else 1 if "int" in kind else "''"
        columns, values = ", ".join(f"`{n}`" for n in given), ", ".join(map(str, given.values()))
        connection.execute(text(f"INSERT INTO api_version ({columns}) VALUES ({values})"))
    upgrade(url)
    with made.connect() as connection:
        rows = connection.execute(text("SELECT kind, `key`, about, arguments, run_at, attempts FROM job ORDER BY kind"))
        found = [(kind, key, about, json.loads(said), run_at, n) for kind, key, about, said, run_at, n in rows]
    assert [each[:4] for each in found] == [
        ("ask the ticket desk", "5", "request 5", {"request": 5}),
        ("end a trial", "7", "subscription 7", {"subscription": 7}),
        ("end a version", "3", "API version 3", {"version": 3}),
        ("send a letter", None, "“Waits” to a@x.example", {"letter": 1}),
    ]
    assert found[2][4] == datetime(2027, 1, 31, 23) and {each[5] for each in found} == {0}


BEFORE_PORTALS = [
    "INSERT INTO provider (name, time_zone, currency, tax_percent, mail_from, payment_days, portal_main_colour, "
    "portal_accent_colour, portal_welcome) VALUES ('Tide Office', 'Europe/Lisbon', 'EUR', 23, 'a@x.example', 14, "
    "'#153B5B', '#E0A93B', 'Welcome.')",
    "INSERT INTO consumer (name, look, shape, created_at) VALUES ('Ferries', 'a', 'b', '2026-09-01')",
    "INSERT INTO awaited_sign_up (token_hash, email, expires_at) VALUES ('t', 'a@x.example', '2026-09-02')",
    "INSERT INTO notice (audience, audience_id, kind, subject, text, link, written_at) VALUES "
    "('member', 1, 'plan moved', 's', 't', '/portal/applications/3', '2026-09-01'), "
    "('person', 1, 'x', 's', 't', '/admit/desk', '2026-09-01')",
]


def test_the_look_of_the_one_portal_becomes_the_first_of_several(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_portals")
    command.upgrade(configuration(url), "0015")
    made = engine(url)
    with made.begin() as connection:
        for statement in BEFORE_PORTALS:
            connection.execute(text(statement))
    upgrade(url)
    with made.connect() as connection:
        [portal] = connection.execute(text("SELECT * FROM portal")).mappings()
        [consumer] = connection.execute(text("SELECT portal_id, state FROM consumer"))
        [awaited] = connection.execute(text("SELECT portal_id, invited_by FROM awaited_sign_up"))
        links = [link for (link,) in connection.execute(text("SELECT link FROM notice ORDER BY id"))]
    kept = {name: portal[name] for name in ("path", "name", "welcome", "main_colour", "accent_colour", "sign_up")}
    assert kept == {
        "path": "/portal",
        "name": "Tide Office",
        "welcome": "Welcome.",
        "main_colour": "#153B5B",
        "accent_colour": "#E0A93B",
        "sign_up": "anyone",
    }
    assert (portal["at_once"], portal["everything"], json.loads(portal["mail_domains"])) == (1, 1, [])
    assert (*consumer, *awaited) == (portal["id"], "let in", portal["id"], None)
    assert links == ["/applications/3", "/admit/desk"]


def test_what_was_charged_before_was_paid_by_transfer(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_payment")
    command.upgrade(configuration(url), "0031")
    made = engine(url)
    columns = "consumer_id, run_id, period_end, currency, tax_percent, subtotal, tax, total, evidence, created_at"
    values = "1, 1, '2026-10-01', 'EUR', 23, 40, 9.2, 49.2, '{}', '2026-10-01'"
    with made.begin() as connection:
        connection.execute(text("SET foreign_key_checks = 0"))
        connection.execute(
            text(
                "INSERT INTO charge_run (period_start, period_end, started_at, started_by, invoices, total) "
                "VALUES ('2026-08-01', '2026-09-01', '2026-09-01', 'Beatriz', 1, 49.2)"
            )
        )
        for name in ("Ferries", "Kayaks"):
            connection.execute(
                text(
                    "INSERT INTO consumer (name, look, shape, created_at, state, portal_id) "
                    f"VALUES ('{name}', '{name}', '{name}', '2026-09-01', 'let in', 1)"
                )
            )
        for month, state, issued in (("2026-08-01", "issued", "'2026-09-01'"), ("2026-09-01", "draft", "NULL")):
            connection.execute(
                text(
                    f"INSERT INTO invoice ({columns}, period_start, state, issued_at) "
                    f"VALUES ({values}, '{month}', '{state}', {issued})"
                )
            )
    upgrade(url)
    with made.connect() as connection:
        invoices = connection.execute(
            text("SELECT state, payment_method, order_number FROM money_document ORDER BY id")
        ).all()
        consumers = connection.execute(
            text("SELECT name, payment_method, order_number FROM consumer ORDER BY id")
        ).all()
    assert invoices == [("issued", "transfer", ""), ("draft", None, "")]
    assert consumers == [("Ferries", "transfer", ""), ("Kayaks", None, "")]


BEFORE_ONE_TRIAL = [
    "SET foreign_key_checks = 0, sql_mode = ''",  # what is said of nothing here is of no concern
    "INSERT INTO consumer (id, name, created_at) VALUES (7, 'Ferries', '2026-09-01')",
    "INSERT INTO product (id, name, slug) VALUES (9, 'Harbour Data', 'harbour-data')",
    "INSERT INTO application (id, consumer_id, name, purpose, created_at, client_id, tags) "
    "VALUES (1, 7, 'a', '', '2026-09-01', 'x', '{}'), (2, 7, 'b', '', '2026-09-01', 'y', '{}')",
    "INSERT INTO subscription (id, application_id, plan_id, state, started_at, end_told) "
    "VALUES (1, 1, 3, 'ended', '2026-09-01', 0), (2, 2, 3, 'active', '2026-10-01', 0)",
    "INSERT INTO plan_revision (id, plan_id, number, terms, published_at, published_by) "
    "VALUES (5, 3, 1, '{}', '2026-09-01', 'Ines')",
    "INSERT INTO plan (id, product_id, name, place, state, edition) VALUES (3, 9, 'Ketch', 0, 'on sale', 1)",
    "INSERT INTO stay (subscription_id, revision_id, start_at, end_at, trial, spent) VALUES "
    "(1, 5, '2026-09-01', '2026-09-15', 1, 0), (2, 5, '2026-10-01', '2026-10-15', 1, 0), "
    "(2, 5, '2026-10-15', NULL, 0, 0)",
]


def test_a_trial_that_was_had_before_is_a_consumers_one_trial(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_one_trial")
    command.upgrade(configuration(url), "0032")
    made = engine(url)
    with made.begin() as connection:
        for statement in BEFORE_ONE_TRIAL:
            connection.execute(text(statement))
    upgrade(url)
    with made.connect() as connection:
        had = connection.execute(text("SELECT consumer_id, product_id, begun_at FROM trial_had")).all()
    assert had == [(7, 9, datetime(2026, 9, 1))]


def test_hours_are_summed_anew_from_calls_by_all_that_tells_them_apart(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_outcomes")
    command.upgrade(configuration(url), "0021")
    made, at = engine(url), 3_600_000_000 * 490_000
    whose = [(1, 2, 3, 4), (1, 2, 3, None), (1, 2, None, None), (None, None, None, None)]
    what = [("live", "served", 200, None), ("sandbox", "held", 500, None), ("live", "refused", 429, "Rate")]
    what.append(("live", "refused", 429, "rate"))
    calls = [
        {
            **dict(zip(("operation_id", "consumer_id", "application_id", "key_id"), one, strict=True)),
            **dict(zip(("environment", "verdict", "status", "refused_by"), other, strict=True)),
            "at_us": at + n * 1_700_000_000,
            "call_id": f"{n:026}",
            "bytes_in": n,
            "bytes_out": 2 * n,
        }
        for n, (one, other) in enumerate((one, other) for one in whose for other in what * 3)
    ]
    with made.begin() as connection:
        insert_calls(connection, calls)
    upgrade(url)
    with made.connect() as connection:
        found = sorted(map(tuple, connection.execute(text("SELECT * FROM hourly_outcomes"))))
    empty = {"product_id": 1, "units": {}, "took_us": 0, "wait_us": 0}
    sums = Sums()
    sums.add({**call, **empty} for call in calls)
    rows = next(rows for table, rows, _ in sums.rows() if table is HourlyOutcomes)
    assert found == sorted(tuple(row.values()) for row in rows)
    assert sum(row[-3] for row in found) == len(calls) == 48


def insert_calls(connection: Connection, calls: list[dict[str, Any]]) -> None:
    """Calls as a schema of any age keeps them: what it asks for beside is empty."""
    for call in calls:
        given = {
            **call,
            **dict.fromkeys(("checks", "units", "told", "carried", "remarks", "counted", "reported"), "{}"),
        }
        for name, kind, null, _, default, _ in connection.execute(text("SHOW COLUMNS FROM `call`")):
            if null == "NO" and default is None and name not in given:
                given[name] = 0 if "int" in kind else ""
        names = ", ".join(f"`{n}`" for n in given)
        connection.execute(text(f"INSERT INTO `call` ({names}) VALUES ({', '.join(f':{n}' for n in given)})"), given)


def test_days_are_summed_from_calls_as_recording_sums_them(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_answers")
    command.upgrade(configuration(url), "0016")
    made, at = engine(url), DAY * 20_000
    calls = [
        {"status": status, "took_us": took, "wait_us": wait, "environment": env, "verdict": verdict, "operation_id": op}
        for status in (200, 500)
        for took, wait in ((0, 0), (1000, 0), (1001, 0), (5, 9), (9000, 4000), (10**8, 0), (10**8 + 1, 0))
        for env, verdict, op in (
            ("live", "served", 1),
            ("live", "held", 2),
            ("sandbox", "served", 1),
            ("live", "refused", 1),
            ("live", "served", None),
        )
    ]
    calls = [{**call, "at_us": at + n, "call_id": f"{n:026}"} for n, call in enumerate(calls)]
    with made.begin() as connection:
        insert_calls(connection, calls)
    upgrade(url)
    with made.connect() as connection:
        found = {tuple(row[:4]): row[4] for row in connection.execute(text("SELECT * FROM daily_answers"))}
    empty = {"consumer_id": 1, "product_id": 1, "bytes_in": 0, "bytes_out": 0, "units": {}}
    empty |= {"application_id": 1, "key_id": 1, "refused_by": None}
    sums = Sums()
    sums.add({**call, **empty} for call in calls)
    rows = next(rows for table, rows, _ in sums.rows() if table is DailyAnswers)
    assert found == {(r["day_us"], r["operation_id"], r["failed"], r["band"]): r["calls"] for r in rows}
    assert len(found) == 20 and sum(found.values()) == 28


BEFORE_ROUTES = [
    "INSERT INTO product (id, slug, name, description, contact, terms_of_use, terms_number, terms_dated, access_route, "
    "credential_kinds, key_header, key_query, older_fields, moves_anew, subscribing_site, edition) VALUES "
    "(1, 'a', 'A', '', '', '', 1, '2026-09-01', 'reviewed twice', '[]', 'K', '', 0, 0, '', 1), "
    "(2, 'b', 'B', '', '', '', 1, '2026-09-01', 'open', '[]', 'K', '', 0, 0, '', 1)",
    "INSERT INTO plan (id, product_id, name, place, state, edition) VALUES (1, 1, 'Ketch', 0, 'on sale', 1)",
    "INSERT INTO access_request (id, application_id, plan_id, member_id, purpose, terms_accepted, state, created_at, "
    "decided_at, decided_by, note, first_granted_by, first_granted_id, first_note, expected) VALUES "
    "(5, 1, 1, 1, 'p', '2026-09-01', 'waiting', '2026-09-01', NULL, NULL, '', 'Rui', 'person 2', 'fine', '[]'), "
    "(6, 1, 1, 1, 'p', '2026-09-01', 'declined', '2026-09-01', '2026-09-02', 'Ines', 'No.', NULL, NULL, '', '[]'), "
    "(7, 1, 1, 1, 'p', '2026-09-01', 'passed to outside', '2026-09-01', NULL, NULL, '', NULL, NULL, '', '[]')",
]


def test_who_decided_becomes_a_route_and_what_was_decided_a_conversation(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_routes")
    command.upgrade(configuration(url), "0034")
    made = engine(url)
    with made.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for statement in BEFORE_ROUTES:
            connection.execute(text(statement))
    upgrade(url)
    with made.connect() as connection:
        routes = [json.loads(row[0]) for row in connection.execute(text("SELECT route FROM product ORDER BY id"))]
        ways = [json.loads(row[0]) for row in connection.execute(text("SELECT way FROM access_request ORDER BY id"))]
        agreed = connection.execute(text("SELECT request_id, identity, name, seat, note FROM request_agreement")).all()
        said = connection.execute(text("SELECT request_id, kind, `by`, text, inside FROM request_message")).all()
    assert routes == [{"otherwise": step, "rules": [], "agreements": []} for step in ("reviewed twice", "open")]
    assert ways == [{"step": step, "roles": []} for step in ("reviewed twice", "reviewed twice", "outside")]
    assert [tuple(row) for row in agreed] == [(5, "person 2", "Rui", "review", "fine")]
    assert [tuple(row) for row in said] == [(6, "declined", "Ines", "No.", 0)]


BEFORE_THE_HOUSE = [
    "INSERT INTO person (id, email, name, role, password_hash) VALUES "
    "(1, 'ines@x.example', 'Ines', 'product manager', 'x'), (2, 'rui@x.example', 'Rui', 'reviewer', 'x')",
    "INSERT INTO service_token (id, label, role, token_hash, owner_id, created_at, expires_at, used_from) VALUES "
    "(4, 'nightly', 'product manager', 'h', 1, '2026-09-01', '2027-09-01', '')",
    "INSERT INTO audit_entry (id, at, actor, action, subject_kind, subject_id, subject, `before`, `after`, why) VALUES "
    "(3, '2026-09-01 10:00:00.000123', 'Ines', 'did', 'thing', 1, 'Weir', NULL, '{\"b\": 1, \"a\": \"ü\"}', 'For'), "
    "(9, '2026-09-02', 'Rui', 'did', 'thing', 2, 'Lock', '{}', NULL, '')",
]


def test_people_come_over_with_their_role_the_first_as_owners_and_the_record_as_a_chain(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_the_house")
    command.upgrade(configuration(url), "0036")
    made = engine(url)
    with made.begin() as connection:
        for statement in BEFORE_THE_HOUSE:
            connection.execute(text(statement))
    upgrade(url)
    with made.connect() as connection:
        roles = {n: json.loads(r) for n, r in connection.execute(text("SELECT name, roles FROM person"))}
        [token] = connection.execute(text("SELECT roles, scopes FROM service_token"))
    assert roles == {"Ines": ["product manager", "owner"], "Rui": ["reviewer"]}
    assert [json.loads(each) for each in token] == [["product manager"], []]
    ctx = context_for(made, actor=Actor("Ines", frozenset({"owner"})))
    assert (record.proof(ctx).wrong, record.proof(ctx).entries, record.proof(ctx).number) == ("", 2, 9)
    with ctx.transaction() as session:
        auditing.note(session, ctx, "tried", ("thing", 1, "Weir"))
    assert (record.proof(ctx).wrong, record.proof(ctx).number) == ("", 10)
    with made.begin() as connection:
        connection.execute(text("UPDATE audit_entry SET subject = 'Sluice' WHERE id = 3"))
    assert "entry 3 does not say what it said" in record.proof(ctx).wrong
